#include "icefield/match/study_pair.h"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <numbers>

#include "icefield/base/statistics.h"
#include "icefield/geometry/triangulate.h"
#include "icefield/geometry/two_view.h"

namespace icefield {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;

std::optional<Vector3d> point_of(const Pose& second, const PointPair& p) {
  const Ray rays[] = {{Pose{}, p.first}, {second, p.second}};
  return triangulate(rays);
}

}  // namespace

PairStudy study_pair(const PairMatches& pair, std::span<const Keypoint> first, std::span<const Keypoint> second,
                     const CameraPrior& first_camera, const CameraPrior& second_camera, const VerifyOptions& options) {
  PairStudy study;
  if (pair.matches.empty() || pair.model == TwoViewModel::none) return study;
  // The frame of the matrix is that of verify_pair.
  const auto usable = [&](const CameraPrior& prior) {
    return prior.camera.focal() > 0 && prior.focal_uncertainty_percent <= options.max_focal_uncertainty_percent;
  };
  const bool calibrated = usable(first_camera) && usable(second_camera);
  const auto place = [&](const Keypoint& k, const CameraPrior& prior) {
    const Vector2d pixel(k.x, k.y);
    return calibrated ? unproject(prior.camera, pixel).value_or(Vector2d(1e3, 1e3)) : pixel;
  };
  std::vector<PointPair> pairs;
  for (const Match& m : pair.matches)
    pairs.push_back({place(first[m.first.value], first_camera), place(second[m.second.value], second_camera)});

  const bool maps_points = pair.model == TwoViewModel::homography || pair.model == TwoViewModel::rotation;
  const Matrix3d inverse = maps_points ? Matrix3d(pair.matrix.inverse()) : Matrix3d::Zero();
  std::vector<double> errors;
  for (const PointPair& p : pairs)
    errors.push_back(
        std::sqrt(maps_points ? transfer_error2(pair.matrix, inverse, p) : sampson_error2(pair.matrix, p)));
  study.median_error_px =
      median(errors) * (calibrated ? 0.5 * (first_camera.camera.focal() + second_camera.camera.focal()) : 1);
  if (!calibrated) return study;

  if (pair.model == TwoViewModel::essential) {
    for (const RelativePose& possible : poses_from_essential(pair.matrix, pairs))
      study.poses.push_back({possible.pose, possible.in_front, {}});
  } else if (pair.model == TwoViewModel::rotation) {
    PossiblePose turn;
    turn.pose.orientation = Eigen::Quaterniond(pair.matrix).normalized();
    turn.in_front = pairs.size();
    study.poses.push_back(turn);
    return study;  // one place: no points
  } else if (pair.model == TwoViewModel::homography) {
    for (PlanePose plane : poses_from_homography(pair.matrix, pairs)) {
      // The plane's distance was the unit.
      const double baseline = plane.pose.centre.norm();
      if (!(baseline > 0)) continue;
      plane.pose.centre /= baseline;
      PossiblePose possible{plane.pose, 0, plane.normal};
      for (const PointPair& p : pairs) possible.in_front += point_of(possible.pose, p).has_value();
      study.poses.push_back(possible);
    }
  }
  std::stable_sort(study.poses.begin(), study.poses.end(),
                   [](const PossiblePose& a, const PossiblePose& b) { return a.in_front > b.in_front; });
  if (study.poses.empty()) return study;
  const Pose& best = study.poses.front().pose;
  for (std::size_t i = 0; i < pairs.size(); ++i) {
    const auto x = point_of(best, pairs[i]);
    if (!x) continue;
    const Ray rays[] = {{Pose{}, pairs[i].first}, {best, pairs[i].second}};
    study.points.push_back({static_cast<std::uint32_t>(i), *x, triangulation_angle(rays, *x) * 180 / std::numbers::pi});
  }
  return study;
}

}  // namespace icefield
