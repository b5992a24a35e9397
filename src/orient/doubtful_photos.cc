#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <utility>

#include "icefield/base/statistics.h"
#include "src/orient/block_checks.h"

namespace icefield {
namespace {

using PhotoPair = std::pair<std::uint32_t, std::uint32_t>;  // indices into the block's photos, the lower one first
using Group = std::vector<std::uint32_t>;

// Pairs whose absence divides a graph (Tarjan, "A note on finding the bridges of a graph", 1974).
class Bridges {
 public:
  Bridges(std::size_t photos, std::vector<PhotoPair> pairs) : pairs_(std::move(pairs)), around_(photos) {
    for (std::uint32_t k = 0; k < pairs_.size(); ++k) {
      around_[pairs_[k].first].emplace_back(pairs_[k].second, k);
      around_[pairs_[k].second].emplace_back(pairs_[k].first, k);
    }
  }

  // Numbers of the pairs.
  std::vector<std::uint32_t> find() const {
    struct Step {
      std::uint32_t photo, by;
      std::size_t at;
    };
    std::vector<std::uint32_t> number(around_.size(), 0), low(around_.size(), 0), bridges;
    std::uint32_t next = 0;
    for (std::uint32_t start = 0; start < around_.size(); ++start) {
      if (number[start]) continue;
      std::vector<Step> stack{{start, TrackSet::kNone, 0}};
      number[start] = low[start] = ++next;
      while (!stack.empty()) {
        Step& top = stack.back();
        if (top.at < around_[top.photo].size()) {
          const auto [to, by] = around_[top.photo][top.at++];
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
    return bridges;
  }
  const PhotoPair& pair(std::uint32_t bridge) const { return pairs_[bridge]; }
  // What the bridge cuts off, or all else if that is fewer photos; those that were apart before count as all else.
  Group smaller_side(std::uint32_t bridge) const {
    const std::vector<std::uint8_t> own = reached(pairs_[bridge].first, bridge),
                                    beyond = reached(pairs_[bridge].second, bridge);
    Group side, cut;
    for (std::uint32_t i = 0; i < around_.size(); ++i) {
      if (own[i]) side.push_back(i);
      if (beyond[i]) cut.push_back(i);
    }
    return cut.size() <= side.size() ? cut : side;
  }

 private:
  std::vector<std::uint8_t> reached(std::uint32_t start, std::uint32_t without) const {
    std::vector<std::uint8_t> reached(around_.size(), 0);
    Group open{start};
    reached[start] = 1;
    while (!open.empty()) {
      const std::uint32_t i = open.back();
      open.pop_back();
      for (const auto& [to, by] : around_[i])
        if (by != without && !reached[to]) reached[to] = 1, open.push_back(to);
    }
    return reached;
  }

  std::vector<PhotoPair> pairs_;
  std::vector<std::vector<std::pair<std::uint32_t, std::uint32_t>>> around_;  // other photo, number of the pair
};

// Each look at the block names photos with its reason; the first one that names a photo counts.
class Doubts {
 public:
  Doubts(const OrientInput& input, const Block& block)
      : input_(input), block_(block), named_(block.photos.size(), 0), points_of_(block.photos.size()) {
    // Two-view points say nothing of the scale beyond their pair, but they count.
    for (std::uint32_t p = 0; p < block.points.size(); ++p) {
      const auto list = block.of_point(p);
      for (std::size_t a = 0; a < list.size(); ++a) {
        points_of_[list[a].photo].push_back(p);
        for (std::size_t b = a + 1; b < list.size(); ++b) ++shared_[std::minmax(list[a].photo, list[b].photo)];
      }
    }
  }

  // Groups that hold together by pairs of enough common points; all but the largest hang on it by what is left.
  void look_for_thin_threads() {
    const auto groups = grouped([&](UnionFind& sets) {
      for (const auto& [pair, count] : shared_)
        if (static_cast<int>(count) >= input_.options.doubtful_below) sets.join(pair.first, pair.second);
    });
    for (std::size_t g = 1; g < groups.size(); ++g) {
      const Ties ties = ties_of(groups[g]);
      if (hold(ties.points) && ties.pairs >= 3) continue;  // many thin threads hold as well
      name(groups[g],
           fmt::format("{} hangs on the rest by {} common points through {} pair{}{}", called(groups[g]), ties.points,
                       ties.pairs, ties.pairs == 1 ? "" : "s",
                       ties.points > 0 ? fmt::format(", the best {} with {}", photo_name(ties.strongest.first),
                                                     photo_name(ties.strongest.second))
                                       : ""));
    }
  }

  void look_for_bridges() {
    std::vector<PhotoPair> strong;
    for (const auto& [pair, count] : shared_)
      if (static_cast<int>(count) >= input_.options.doubtful_below / 2) strong.push_back(pair);
    const Bridges bridges(block_.photos.size(), std::move(strong));
    for (const std::uint32_t bridge : bridges.find()) {
      const Group smaller = bridges.smaller_side(bridge);
      const Ties ties = ties_of(smaller);
      if (ties.pairs > 3 && hold(ties.points)) continue;
      name(smaller,
           fmt::format("{} hangs on the rest by one pair, {} with {} ({} common points)", called(smaller),
                       photo_name(bridges.pair(bridge).first), photo_name(bridges.pair(bridge).second), ties.points));
    }
  }

  // Places that the block itself knows to be vague: their standard deviation, by the photo's own residuals. A long
  // block is vague as a whole, which the tables tell; here photos stand out that are much vaguer than the others.
  void look_for_vague_places(const BlockPrecision& precision) {
    if (!precision.known) return;
    const BlockStatistics statistics = block_statistics(block_);
    const std::size_t photos = block_.photos.size();
    std::vector<double> sigma(photos, 0);
    for (std::uint32_t i = 0; i < photos; ++i)
      if (statistics.photo_gsd[i] > 0)
        sigma[i] = std::max(1.0, statistics.photo_rms_px[i] / std::max(1e-9, statistics.rms_px)) *
                   precision.place_sigma[i] / statistics.photo_gsd[i];
    const double limit = std::max(input_.options.doubtful_sigma_gsd, 4 * median(sigma));
    for (std::uint32_t i = 0; i < photos; ++i)
      if (sigma[i] > limit)
        name({i}, fmt::format("its place is known to {:.1f} GSD only ({} observations, RMS {:.2f} px)", sigma[i],
                              statistics.photo_observations[i], statistics.photo_rms_px[i]));
  }

  // Parts that hang on the rest by a few pairs alone, all of which share what places share that look alike: the tracks
  // that grow together through them are many, and say nothing.
  void look_for_likenesses(const ViewGraph& graph) {
    constexpr double kUnlike = 0.4;  // relative share of a pair that twins may have
    constexpr std::size_t kFewPairs = 3;
    std::vector<std::uint32_t> place(input_.photos.size(), TrackSet::kNone);
    for (std::uint32_t i = 0; i < block_.photos.size(); ++i) place[block_.photos[i].photo.value] = i;
    std::vector<const ViewEdge*> edges;
    for (const ViewEdge& e : graph.edges)
      if (input_.usable(e.pair) && place[e.first] != TrackSet::kNone && place[e.second] != TrackSet::kNone)
        edges.push_back(&e);
    const auto groups = grouped([&](UnionFind& sets) {
      for (const ViewEdge* e : edges)
        if (e->agreement >= kUnlike) sets.join(place[e->first], place[e->second]);
    });
    std::vector<std::uint32_t> group_of(block_.photos.size(), 0);
    for (std::uint32_t g = 0; g < groups.size(); ++g)
      for (const std::uint32_t i : groups[g]) group_of[i] = g;
    std::vector<std::vector<const ViewEdge*>> ties(groups.size());
    for (const ViewEdge* e : edges) {
      const std::uint32_t a = group_of[place[e->first]], b = group_of[place[e->second]];
      if (a != b) ties[a].push_back(e), ties[b].push_back(e);
    }
    for (std::size_t g = 1; g < groups.size(); ++g) {  // the largest is what the others hang on
      if (ties[g].empty() || ties[g].size() > kFewPairs) continue;
      const ViewEdge* best =
          *std::max_element(ties[g].begin(), ties[g].end(),
                            [](const ViewEdge* a, const ViewEdge* b) { return a->agreement < b->agreement; });
      name(groups[g],
           fmt::format("{} hangs on the rest by {} pair{} with few of the points that others share at their angle ({} "
                       "with {}: {:.0f} percent of them): blurred, or places that only look alike",
                       called(groups[g]), ties[g].size(), ties[g].size() == 1 ? "" : "s",
                       input_.photos[best->first].name, input_.photos[best->second].name, 100 * best->agreement));
    }
  }

  std::vector<DoubtfulPhoto> take() {
    std::sort(result_.begin(), result_.end(),
              [](const DoubtfulPhoto& a, const DoubtfulPhoto& b) { return a.photo.value < b.photo.value; });
    return std::move(result_);
  }

 private:
  // The largest first, then by their first photos.
  template <class Join>
  std::vector<Group> grouped(const Join& join) const {
    UnionFind sets(block_.photos.size());
    join(sets);
    std::map<std::uint32_t, Group> members;
    for (std::uint32_t i = 0; i < block_.photos.size(); ++i) members[sets.find(i)].push_back(i);
    std::vector<Group> groups;
    for (auto& [least, group] : members) groups.push_back(std::move(group));
    std::stable_sort(groups.begin(), groups.end(), [](const Group& a, const Group& b) { return a.size() > b.size(); });
    return groups;
  }
  // What connects a group with the rest of the block.
  struct Ties {
    std::size_t points = 0, pairs = 0;
    PhotoPair strongest{};
  };
  Ties ties_of(const Group& group) const {
    std::vector<std::uint8_t> inside(block_.photos.size(), 0);
    for (const std::uint32_t i : group) inside[i] = 1;
    Ties ties;
    std::uint32_t most = 0;
    for (const auto& [pair, count] : shared_)
      if (inside[pair.first] != inside[pair.second]) {
        ++ties.pairs;
        if (count > most) most = count, ties.strongest = pair;
      }
    std::vector<std::uint32_t> points;
    for (const std::uint32_t i : group)
      for (const std::uint32_t p : points_of_[i])
        if (const auto seen = block_.of_point(p);
            std::any_of(seen.begin(), seen.end(), [&](const Observation& o) { return !inside[o.photo]; }))
          points.push_back(p);
    std::sort(points.begin(), points.end());
    ties.points = static_cast<std::size_t>(std::unique(points.begin(), points.end()) - points.begin());
    return ties;
  }
  bool hold(std::size_t points) const { return static_cast<int>(points) >= 2 * input_.options.doubtful_below; }
  void name(const Group& group, const std::string& reason) {
    for (const std::uint32_t i : group)
      if (!std::exchange(named_[i], std::uint8_t{1})) result_.push_back({block_.photos[i].photo, reason});
  }
  static std::string called(const Group& group) {
    return group.size() == 1 ? "it" : fmt::format("a group of {} photos", group.size());
  }
  const std::string& photo_name(std::uint32_t i) const { return input_.photos[block_.photos[i].photo.value].name; }

  const OrientInput& input_;
  const Block& block_;
  std::map<PhotoPair, std::uint32_t> shared_;  // points that two photos share
  std::vector<std::uint8_t> named_;
  std::vector<std::vector<std::uint32_t>> points_of_;  // by photo
  std::vector<DoubtfulPhoto> result_;
};

}  // namespace

std::vector<DoubtfulPhoto> doubtful_photos(const OrientInput& input, const Block& block,
                                           const BlockPrecision& precision, const ViewGraph& graph) {
  Doubts doubts(input, block);
  doubts.look_for_thin_threads();
  doubts.look_for_bridges();
  doubts.look_for_vague_places(precision);
  doubts.look_for_likenesses(graph);
  return doubts.take();
}

}  // namespace icefield
