#include "icefield/geometry/try_conventions.h"

#include <algorithm>
#include <cmath>
#include <optional>

#include "icefield/base/statistics.h"

namespace icefield {

using Eigen::Matrix3d;
using Eigen::Vector3d;

std::vector<ConventionTrial> try_conventions(std::span<const WrittenPose> poses, const PoseConvention& claimed,
                                             std::span<const RayMatch> matches) {
  constexpr double kMost = 100;  // px
  std::vector<ConventionTrial> trials;
  std::vector<PoseConvention> conventions = conventions_like(claimed);
  std::stable_partition(conventions.begin(), conventions.end(), [&](const PoseConvention& c) { return c == claimed; });
  std::vector<Pose> meant(poses.size());
  std::vector<double> distances;
  for (const PoseConvention& convention : conventions) {
    bool sound = true;
    for (std::size_t i = 0; i < poses.size() && sound; ++i) {
      const auto pose = pose_of(poses[i], convention);
      sound = pose.has_value();
      if (pose) meant[i] = *pose;
    }
    if (!sound) continue;
    ConventionTrial trial{convention, 0, 0, 0};
    distances.clear();
    std::size_t front = 0;
    for (const RayMatch& m : matches) {
      const Pose &a = meant[m.first], &b = meant[m.second];
      const Matrix3d turn = b.rotation() * a.rotation().transpose();
      const Vector3d base = b.to_camera(a.centre);  // the first centre in the second camera
      const Vector3d x(m.first_direction.x(), m.first_direction.y(), 1),
          y(m.second_direction.x(), m.second_direction.y(), 1);
      const Matrix3d essential = skew(base) * turn;
      const Vector3d line = essential * x, back = essential.transpose() * y;
      const double off = std::abs(y.dot(line)),
                   slope = std::sqrt(line.head<2>().squaredNorm() + back.head<2>().squaredNorm());
      const double distance = slope > 0 ? m.focal_px * off / slope : kMost;  // Sampson
      distances.push_back(distance);
      // Depths along both rays where they come nearest.
      const Vector3d u = turn * x;
      const double uu = u.dot(u), uy = u.dot(y), yy = y.dot(y), determinant = uu * yy - uy * uy;
      const double s = (uy * y.dot(base) - yy * u.dot(base)) / determinant,
                   t = (uu * y.dot(base) - uy * u.dot(base)) / determinant;
      const bool before = determinant > 0 && s > 0 && t > 0;
      front += before;
      trial.cost += before ? std::min(kMost, distance) : kMost;
    }
    if (!matches.empty()) {
      trial.distance_px = median(distances);
      trial.front_percent = 100.0 * static_cast<double>(front) / static_cast<double>(matches.size());
      trial.cost /= static_cast<double>(matches.size());
    }
    trials.push_back(trial);
  }
  std::stable_sort(trials.begin(), trials.end(),
                   [](const ConventionTrial& a, const ConventionTrial& b) { return a.cost < b.cost; });
  return trials;
}

}  // namespace icefield
