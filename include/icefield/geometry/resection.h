// The pose of one photo from known points.
#pragma once
#include <Eigen/Core>
#include <cstdint>
#include <span>
#include <vector>

#include "icefield/camera/pose.h"

namespace icefield {

// A point in the world and the direction (x, y, 1) in which the photo sees it.
struct PointView {
  Eigen::Vector3d point;
  Eigen::Vector2d direction;
};

// Poses through three points, up to four: after Persson and Nordberg, "Lambda Twist: an accurate fast robust perspective
// three point (P3P) solver", 2018: the two quadrics of the distances are reduced through a degenerate member of their
// pencil, and distances are polished by Gauss-Newton.
std::vector<Pose> poses_from_three(std::span<const PointView> views);

struct ResectionOptions {
  double max_error = 0;        // distance of an inlier on the plane z = 1 (pixels divided by the focal length)
  double confidence = 0.99999;
  int max_samples = 10000;
};

struct Resection {
  Pose pose;
  std::vector<std::uint32_t> inliers;  // indices into the views, ascending; empty when nothing was found
  int samples = 0;
};

// Locally optimised RANSAC over poses_from_three. Same seed, same result.
Resection resect(std::span<const PointView> views, const ResectionOptions& options, std::uint64_t seed);

// Least squares from a start (Gauss-Newton on reprojection on the plane z = 1, Huber weights of the given width).
Pose refine_pose(const Pose& start, std::span<const PointView> views, double huber_width, int iterations = 6);

}  // namespace icefield
