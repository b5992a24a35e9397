#include "src/orient/block_checks.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <numbers>
#include <numeric>
#include <utility>

namespace icefield {
namespace {

using Eigen::Vector3d;
constexpr double kDegree = std::numbers::pi / 180;
constexpr double kBin = 5 * kDegree;
constexpr std::size_t kBins = 9;
constexpr std::size_t kLeastInBin = 8;
constexpr std::uint32_t kLeastExpected = 40;
constexpr double kUsualAngle = 42 * kDegree;  // features are seldom found again from directions farther apart

}  // namespace

std::vector<SharedSight> shared_sights(const OrientInput& input, const TrackSet& tracks,
                                       const std::vector<std::pair<std::uint32_t, double>>& pair_angles) {
  constexpr int kAcross = 12;
  std::vector<SharedSight> sights(pair_angles.size());
  Monitor silent;
  input.executor.run("", sights.size(), silent, [&](std::size_t k) {
    SharedSight& sight = sights[k];
    sight.pair = pair_angles[k].first, sight.angle = pair_angles[k].second;
    const PairMatches& pair = input.pairs[sight.pair];
    std::size_t seen = 0;
    for (const bool second : {false, true}) {
      const PhotoIndex photo = second ? pair.second : pair.first, other = second ? pair.first : pair.second;
      const Camera& camera = input.priors[input.photos[photo.value].camera.value].camera;
      const auto cell = [&](FeatureIndex f) {
        const Eigen::Vector2d p = input.pixel(photo, f);
        return std::clamp(static_cast<int>(p.x() / camera.width * kAcross), 0, kAcross - 1) +
               kAcross * std::clamp(static_cast<int>(p.y() / camera.height * kAcross), 0, kAcross - 1);
      };
      std::vector<std::uint8_t> covered(kAcross * kAcross, 0);
      for (const Match& m : pair.matches) covered[static_cast<std::size_t>(cell(second ? m.second : m.first))] = 1;
      for (std::size_t i = 0; i < tracks.photo_tracks[photo.value].size(); ++i) {
        const auto list = tracks.tracks.track(TrackIndex(tracks.photo_tracks[photo.value][i]));
        if (list.size() < 3 || !covered[static_cast<std::size_t>(cell(tracks.photo_features[photo.value][i]))])
          continue;
        ++seen;
        if (!second)
          sight.common +=
              std::any_of(list.begin(), list.end(), [&](const Tracks::Element& e) { return e.photo == other; });
      }
    }
    sight.expected = static_cast<std::uint32_t>(seen) - sight.common;
  });
  return sights;
}

std::vector<SharedSight> sights_between(const Block& block,
                                        std::span<const std::pair<std::uint32_t, std::uint32_t>> photo_pairs,
                                        double widest, const Executor& executor) {
  // Points with three views are sure.
  std::vector<std::vector<std::uint32_t>> seen(block.photos.size());
  for (std::uint32_t p = 0; p < block.points.size(); ++p)
    if (block.of_point(p).size() >= 3)
      for (const Observation& o : block.of_point(p)) seen[o.photo].push_back(p);
  std::vector<SharedSight> sights(photo_pairs.size());
  Monitor silent;
  executor.run("", sights.size(), silent, [&](std::size_t k) {
    SharedSight& sight = sights[k];
    const auto [a, b] = photo_pairs[k];
    const auto sees = [&](std::uint32_t photo, std::uint32_t point) {
      const auto list = block.of_point(point);
      return std::any_of(list.begin(), list.end(), [&](const Observation& o) { return o.photo == photo; });
    };
    std::vector<double> angles;
    for (const bool second : {false, true}) {
      const std::uint32_t own = second ? b : a, other = second ? a : b;
      const PosedPhoto &from = block.photos[own], &to = block.photos[other];
      const Camera& camera = block.camera_of(to);
      for (const std::uint32_t point : seen[own]) {
        const bool common = sees(other, point);
        if (common && second) continue;  // counted once
        const Vector3d &x = block.points[point], u = from.pose.centre - x, v = to.pose.centre - x;
        const double size = u.norm() / block.camera_of(from).focal() / (v.norm() / camera.focal());
        if (size < 0.6 || size > 1.7) continue;
        const auto pixel = project(camera, to.pose.to_camera(x));
        if (!pixel || pixel->x() < 0.05 * camera.width || pixel->x() > 0.95 * camera.width ||
            pixel->y() < 0.05 * camera.height || pixel->y() > 0.95 * camera.height)
          continue;
        const double angle = std::atan2(u.cross(v).norm(), u.dot(v));
        if (angle > widest) continue;  // the other may see its back
        angles.push_back(angle);
        ++sight.expected;
        sight.common += common;
      }
    }
    if (angles.empty()) return;
    std::nth_element(angles.begin(), angles.begin() + static_cast<std::ptrdiff_t>(angles.size() / 2), angles.end());
    sight.angle = angles[angles.size() / 2];
  });
  return sights;
}

std::vector<SharedSight> shared_sights(const OrientInput& input, const Block& block) {
  std::vector<std::uint32_t> place(input.photos.size(), TrackSet::kNone), pairs;
  for (std::uint32_t i = 0; i < block.photos.size(); ++i) place[block.photos[i].photo.value] = i;
  std::vector<std::pair<std::uint32_t, std::uint32_t>> photo_pairs;
  for (std::uint32_t p = 0; p < input.pairs.size(); ++p) {
    const std::uint32_t a = place[input.pairs[p].first.value], b = place[input.pairs[p].second.value];
    if (!input.usable(p) || a == TrackSet::kNone || b == TrackSet::kNone) continue;
    photo_pairs.emplace_back(a, b);
    pairs.push_back(p);
  }
  std::vector<SharedSight> sights = sights_between(block, photo_pairs, kUsualAngle, input.executor);
  for (std::size_t k = 0; k < sights.size(); ++k) sights[k].pair = pairs[k];
  return sights;
}

UsualShares::UsualShares(const std::vector<SharedSight>& sights) {
  std::array<std::vector<double>, kBins> shares;
  for (const SharedSight& s : sights)
    if (s.expected >= kLeastExpected && s.angle < kBins * kBin)
      shares[static_cast<std::size_t>(s.angle / kBin)].push_back(s.share());
  usual_.assign(kBins, 0);
  for (std::size_t b = 0; b < kBins; ++b) {
    if (shares[b].size() < kLeastInBin) continue;
    const auto at = shares[b].begin() + static_cast<std::ptrdiff_t>(shares[b].size() * 4 / 5);
    std::nth_element(shares[b].begin(), at, shares[b].end());
    usual_[b] = *at;
  }
  // What is seen from farther apart is seen from nearer as well: all pairs at an angle may be twins.
  for (std::size_t b = kBins - 1; b > 0; --b) usual_[b - 1] = std::max(usual_[b - 1], usual_[b]);
  // And little less is seen from farther apart, as far as it is found at all.
  for (double& u : usual_) u = std::max(u, 0.8 * usual_.front());
}

double UsualShares::at(double angle) const {
  return usual_[std::min(kBins - 1, static_cast<std::size_t>(angle / kBin))] * std::max(1.0, angle / kUsualAngle);
}

std::vector<double> relative_shares(const std::vector<SharedSight>& sights) {
  const UsualShares usual(sights);
  std::vector<double> result;
  for (const SharedSight& s : sights)
    result.push_back(s.expected >= kLeastExpected && usual.at(s.angle) > 0 ? s.share() / usual.at(s.angle) : 1.0);
  return result;
}

std::vector<std::uint32_t> twin_pairs(const std::vector<SharedSight>& sights, double share) {
  const std::vector<double> relative = relative_shares(sights);
  std::vector<std::uint32_t> found;
  for (std::size_t k = 0; k < sights.size(); ++k)
    if (relative[k] < share && sights[k].angle < kSideBySide) found.push_back(sights[k].pair);
  return found;
}

double agreement(const std::vector<SharedSight>& sights) {
  double expected = 0, common = 0;
  for (const SharedSight& s : sights)
    if (s.angle < static_cast<double>(kBins) * kBin) expected += s.expected, common += s.common;
  return expected > 0 ? common / expected : 0;
}

std::vector<DoubtfulPhoto> doubtful_photos(const OrientInput& input, const Block& block,
                                           const BlockPrecision& precision, const ViewGraph& graph) {
  constexpr double kUnlike = 0.4;  // relative share of a pair that twins may have
  constexpr std::size_t kFewPairs = 3;
  // Points that two photos share. Two-view points say nothing of the scale beyond their pair.
  const std::size_t photos = block.photos.size();
  std::map<std::pair<std::uint32_t, std::uint32_t>, std::uint32_t> shared;
  for (std::size_t p = 0; p < block.points.size(); ++p) {
    const auto list = block.of_point(p);
    for (std::size_t a = 0; a < list.size(); ++a)
      for (std::size_t b = a + 1; b < list.size(); ++b) ++shared[std::minmax(list[a].photo, list[b].photo)];
  }
  std::vector<DoubtfulPhoto> result;
  std::vector<std::uint8_t> named(photos, 0);
  const auto name = [&](std::uint32_t i) { return input.photos[block.photos[i].photo.value].name; };
  // Groups that hold together by pairs of enough common points; all but the largest hang on it by what is left.
  std::vector<std::uint32_t> parent(photos);
  const auto root = [&](std::uint32_t i) {
    while (parent[i] != i) i = parent[i] = parent[parent[i]];
    return i;
  };
  const auto groups = [&](const std::pair<std::uint32_t, std::uint32_t>* without) {
    std::iota(parent.begin(), parent.end(), 0u);
    for (const auto& [pair, count] : shared)
      if (static_cast<int>(count) >= input.options.doubtful_below && (!without || pair != *without))
        parent[std::max(root(pair.first), root(pair.second))] = std::min(root(pair.first), root(pair.second));
    std::map<std::uint32_t, std::vector<std::uint32_t>> members;
    for (std::uint32_t i = 0; i < photos; ++i) members[root(i)].push_back(i);
    std::vector<std::vector<std::uint32_t>> list;
    for (auto& [r, m] : members) list.push_back(std::move(m));
    std::stable_sort(list.begin(), list.end(), [](const auto& a, const auto& b) { return a.size() > b.size(); });
    return list;
  };
  // What ties a group to the rest of the block.
  const auto ties = [&](const std::vector<std::uint32_t>& group, std::size_t& pairs,
                        std::pair<std::uint32_t, std::uint32_t>& strongest) {
    std::vector<std::uint8_t> inside(photos, 0);
    for (const std::uint32_t i : group) inside[i] = 1;
    std::uint32_t most = 0;
    pairs = 0;
    for (const auto& [pair, count] : shared)
      if (inside[pair.first] != inside[pair.second]) {
        ++pairs;
        if (count > most) most = count, strongest = pair;
      }
    std::size_t points = 0;
    for (std::size_t p = 0; p < block.points.size(); ++p) {
      std::size_t in = 0;
      for (const Observation& o : block.of_point(p)) in += inside[o.photo];
      points += in > 0 && in < block.of_point(p).size();
    }
    return points;
  };
  const auto mark = [&](const std::vector<std::uint32_t>& group, const std::string& reason) {
    for (const std::uint32_t i : group)
      if (!std::exchange(named[i], std::uint8_t{1})) result.push_back({block.photos[i].photo, reason});
  };
  const auto first_groups = groups(nullptr);
  for (std::size_t g = 1; g < first_groups.size(); ++g) {
    std::size_t pairs = 0;
    std::pair<std::uint32_t, std::uint32_t> strongest{};
    const std::size_t points = ties(first_groups[g], pairs, strongest);
    if (static_cast<int>(points) >= 2 * input.options.doubtful_below && pairs >= 3)
      continue;  // many thin threads hold as well
    mark(first_groups[g],
         fmt::format(
             "{} hang{} on the rest by {} common points through {} pair{}{}",
             first_groups[g].size() == 1 ? "it" : fmt::format("a group of {} photos", first_groups[g].size()),
             first_groups[g].size() == 1 ? "s" : "s", points, pairs, pairs == 1 ? "" : "s",
             points > 0 ? fmt::format(", the best {} with {}", name(strongest.first), name(strongest.second)) : ""));
  }
  // Pairs whose absence divides the block: bridges of the graph (Tarjan, "A note on finding the bridges of a graph",
  // 1974).
  std::vector<std::vector<std::pair<std::uint32_t, std::uint32_t>>> around(photos);  // other, number of the pair
  std::vector<std::pair<std::uint32_t, std::uint32_t>> strong;
  for (const auto& [pair, count] : shared) {
    if (static_cast<int>(count) < input.options.doubtful_below / 2) continue;
    around[pair.first].emplace_back(pair.second, strong.size());
    around[pair.second].emplace_back(pair.first, strong.size());
    strong.push_back(pair);
  }
  std::vector<std::uint32_t> number(photos, 0), low(photos, 0), bridges;
  std::uint32_t next = 0;
  struct Step {
    std::uint32_t photo, by;
    std::size_t at;
  };
  for (std::uint32_t start = 0; start < photos; ++start) {
    if (number[start]) continue;
    std::vector<Step> stack{{start, TrackSet::kNone, 0}};
    number[start] = low[start] = ++next;
    while (!stack.empty()) {
      Step& top = stack.back();
      if (top.at < around[top.photo].size()) {
        const auto [to, by] = around[top.photo][top.at++];
        if (by == top.by) continue;
        if (number[to]) {
          low[top.photo] = std::min(low[top.photo], number[to]);
        } else {
          number[to] = low[to] = ++next;
          stack.push_back({to, by, 0});
        }
        continue;
      }
      const Step done = top;
      stack.pop_back();
      if (stack.empty()) continue;
      low[stack.back().photo] = std::min(low[stack.back().photo], low[done.photo]);
      if (low[done.photo] > number[stack.back().photo]) bridges.push_back(done.by);
    }
  }
  for (const std::uint32_t bridge : bridges) {
    std::vector<std::uint8_t> reached(photos, 0);
    std::vector<std::uint32_t> open{strong[bridge].first};
    reached[strong[bridge].first] = 1;
    while (!open.empty()) {
      const std::uint32_t i = open.back();
      open.pop_back();
      for (const auto& [to, by] : around[i])
        if (by != bridge && !reached[to]) reached[to] = 1, open.push_back(to);
    }
    std::vector<std::uint32_t> side, other;
    for (std::uint32_t i = 0; i < photos; ++i) (reached[i] ? side : other).push_back(i);
    // The part that the pair cuts off; photos that were apart before do not count.
    std::vector<std::uint32_t> cut;
    std::vector<std::uint8_t> beyond(photos, 0);
    open = {strong[bridge].second};
    beyond[strong[bridge].second] = 1;
    while (!open.empty()) {
      const std::uint32_t i = open.back();
      open.pop_back();
      cut.push_back(i);
      for (const auto& [to, by] : around[i])
        if (by != bridge && !beyond[to]) beyond[to] = 1, open.push_back(to);
    }
    std::sort(cut.begin(), cut.end());
    const auto& smaller = cut.size() <= side.size() ? cut : side;
    std::size_t pairs = 0;
    std::pair<std::uint32_t, std::uint32_t> strongest{};
    const std::size_t points = ties(smaller, pairs, strongest);
    if (pairs > 3 && static_cast<int>(points) >= 2 * input.options.doubtful_below) continue;
    mark(smaller, fmt::format("{} hangs on the rest by one pair, {} with {} ({} common points)",
                              smaller.size() == 1 ? "it" : fmt::format("a group of {} photos", smaller.size()),
                              name(strong[bridge].first), name(strong[bridge].second), points));
  }
  // Places that the block itself knows to be vague: their standard deviation, by the photo's own residuals.
  if (precision.known) {
    const BlockStatistics statistics = block_statistics(block);
    std::vector<double> sigma(photos, 0);
    for (std::uint32_t i = 0; i < photos; ++i)
      if (statistics.photo_gsd[i] > 0)
        sigma[i] = std::max(1.0, statistics.photo_rms_px[i] / std::max(1e-9, statistics.rms_px)) *
                   precision.place_sigma[i] / statistics.photo_gsd[i];
    // A long block is vague as a whole, which the tables tell; here photos stand out that are much vaguer than the
    // others.
    std::vector<double> sorted = sigma;
    std::nth_element(sorted.begin(), sorted.begin() + static_cast<std::ptrdiff_t>(photos / 2), sorted.end());
    const double limit = std::max(input.options.doubtful_sigma_gsd, 4 * sorted[photos / 2]);
    for (std::uint32_t i = 0; i < photos; ++i)
      if (sigma[i] > limit)
        mark({i}, fmt::format("its place is known to {:.1f} GSD only ({} observations, RMS {:.2f} px)", sigma[i],
                              statistics.photo_observations[i], statistics.photo_rms_px[i]));
  }
  // Parts that hang on the rest by a few pairs alone, all of which share what places share that look alike: the tracks
  // that grow together through them are many, and say nothing.
  {
    std::vector<std::uint32_t> place(input.photos.size(), TrackSet::kNone);
    for (std::uint32_t i = 0; i < photos; ++i) place[block.photos[i].photo.value] = i;
    std::iota(parent.begin(), parent.end(), 0u);
    std::vector<const ViewEdge*> edges;
    for (const ViewEdge& e : graph.edges)
      if (input.usable(e.pair) && place[e.first] != TrackSet::kNone && place[e.second] != TrackSet::kNone)
        edges.push_back(&e);
    for (const ViewEdge* e : edges)
      if (e->agreement >= kUnlike)
        parent[std::max(root(place[e->first]), root(place[e->second]))] =
            std::min(root(place[e->first]), root(place[e->second]));
    std::map<std::uint32_t, std::vector<std::uint32_t>> members;
    for (std::uint32_t i = 0; i < photos; ++i) members[root(i)].push_back(i);
    std::size_t largest = 0;
    for (const auto& [r, m] : members) largest = std::max(largest, m.size());
    bool rest = false;  // the largest is what the others hang on
    for (const auto& [r, m] : members) {
      if (m.size() == largest && !std::exchange(rest, true)) continue;
      std::vector<const ViewEdge*> ties_of;
      for (const ViewEdge* e : edges)
        if ((root(place[e->first]) == r) != (root(place[e->second]) == r)) ties_of.push_back(e);
      if (ties_of.empty() || ties_of.size() > kFewPairs) continue;
      const ViewEdge* best =
          *std::max_element(ties_of.begin(), ties_of.end(),
                            [](const ViewEdge* a, const ViewEdge* b) { return a->agreement < b->agreement; });
      mark(m, fmt::format("{} on the rest by {} pair{} with few of the points that others share at their angle ({} "
                          "with {}: {:.0f} percent of them): blurred, or places that only look alike",
                          m.size() == 1 ? "it hangs" : fmt::format("a group of {} photos hangs", m.size()),
                          ties_of.size(), ties_of.size() == 1 ? "" : "s", input.photos[best->first].name,
                          input.photos[best->second].name, 100 * best->agreement));
    }
  }
  std::sort(result.begin(), result.end(),
            [](const DoubtfulPhoto& a, const DoubtfulPhoto& b) { return a.photo.value < b.photo.value; });
  return result;
}

}  // namespace icefield
