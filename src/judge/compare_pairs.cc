#include <map>
#include <utility>

#include "icefield/geometry/two_view.h"
#include "icefield/judge/compare.h"

namespace icefield {

PairComparison compare_pairs(std::span<const std::string> names, std::span<const std::vector<Keypoint>> keypoints,
                             std::span<const PairMatches> pairs, std::span<const std::optional<NamedPose>> truth,
                             std::span<const PhotoOverlap> overlaps, double max_error_px) {
  constexpr double kOverlapping = 0.05, kWellOverlapping = 0.25, kNarrowDeg = 45;
  PairComparison result;
  std::map<std::string, std::size_t> index;
  for (std::size_t i = 0; i < names.size(); ++i)
    if (truth[i]) index.emplace(names[i], i);
  std::map<std::pair<std::size_t, std::size_t>, const PhotoOverlap*> by_pair;
  for (const PhotoOverlap& o : overlaps) {
    const auto a = index.find(o.first), b = index.find(o.second);
    if (a == index.end() || b == index.end()) continue;
    by_pair[std::minmax(a->second, b->second)] = &o;
    result.overlapping += o.share >= kOverlapping;
    result.well.pairs += o.share >= kWellOverlapping;
    result.well_and_narrow.pairs += o.share >= kWellOverlapping && o.angle_deg <= kNarrowDeg;
  }
  for (const PairMatches& pair : pairs) {
    const auto &first = truth[pair.first.value], &second = truth[pair.second.value];
    if (!first || !second) continue;
    ++result.tried;
    ++result.by_geometry[static_cast<std::size_t>(pair.geometry)];
    ++result.by_fault[static_cast<std::size_t>(pair.fault)];
    const auto overlap = by_pair.find(std::minmax<std::size_t>(pair.first.value, pair.second.value));
    const bool well = overlap != by_pair.end() && overlap->second->share >= kWellOverlapping,
               narrow = well && overlap->second->angle_deg <= kNarrowDeg;
    result.well.tried += well;
    result.well_and_narrow.tried += narrow;
    if (!pair.verified()) continue;
    ++result.verified;
    result.well.verified += well;
    result.well_and_narrow.verified += narrow;
    Pose relative;
    relative.orientation = second->pose.orientation * first->pose.orientation.conjugate();
    relative.centre = first->pose.to_camera(second->pose.centre);
    const Eigen::Matrix3d essential = essential_from_pose(relative);
    const double limit = max_error_px * 2 / (first->camera.focal() + second->camera.focal());
    std::size_t right = 0;
    for (const Match& m : pair.matches) {
      const Keypoint &a = keypoints[pair.first.value][m.first.value], &b = keypoints[pair.second.value][m.second.value];
      const auto da = unproject(first->camera, {a.x, a.y}), db = unproject(second->camera, {b.x, b.y});
      right += da && db && sampson_error2(essential, {*da, *db}) < limit * limit;
    }
    result.matches += pair.matches.size();
    result.right += right;
    result.wrong += 2 * right < pair.matches.size();
  }
  return result;
}

}  // namespace icefield
