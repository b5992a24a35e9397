#include "src/orient/block_checks.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <numbers>
#include <numeric>
#include <utility>

#include "icefield/base/statistics.h"

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
    sight.angle = median(angles);
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
    usual_[b] = quantile(shares[b], 4, 5);
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

}  // namespace icefield
