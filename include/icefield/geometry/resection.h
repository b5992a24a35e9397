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

// Poses through three points, up to four: after Persson and Nordberg, "Lambda Twist: an accurate fast robust
// perspective three point (P3P) solver", 2018: the two quadrics of the distances are reduced through a degenerate
// member of their pencil, and distances are polished by Gauss-Newton.
std::vector<Pose> poses_from_three(std::span<const PointView> views);

struct ResectionOptions {
  // Distance of an inlier on the plane z = 1 (pixels divided by the focal length). 0: 0.003, a few pixels of most
  // cameras; for resect_focal 0.003 of the distance of the farthest pixel from the principal point.
  double max_error = 0;
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

// A pose together with the focal length of its camera; `directions` of the views are then pixels from the principal
// point.
struct FocalPose {
  Pose pose;
  double focal = 0;
};

// Poses and focal lengths through four points: the focal lengths at which a pose through three of them also meets the
// fourth, searched between the bounds and refined on all four. Up to a dozen.
std::vector<FocalPose> poses_from_four(std::span<const PointView> views, double least_focal, double largest_focal);

struct FocalResection {
  FocalPose pose;
  std::vector<std::uint32_t> inliers;  // indices into the views, ascending; empty when nothing was found
  int samples = 0;
};

// Locally optimised RANSAC over poses_from_four. `options.max_error` in pixels. Points on one plane that the photo sees
// from the front leave focal length and distance open: check the result against other photos of the camera.
FocalResection resect_focal(std::span<const PointView> views, const ResectionOptions& options, double least_focal,
                            double largest_focal, std::uint64_t seed);

// Least squares from a start (Gauss-Newton on reprojection on the plane z = 1, Huber weights of the given width).
Pose refine_pose(const Pose& start, std::span<const PointView> views, double huber_width, int iterations = 6);

}  // namespace icefield
