// Geometry of two views.
#pragma once
#include <Eigen/Core>
#include <span>
#include <vector>

#include "icefield/camera/pose.h"

namespace icefield {

// Pairs of image points. For essential matrices: directions (x, y) on the plane z = 1 of each camera frame. For
// fundamental matrices: pixels.
struct PointPair {
  Eigen::Vector2d first, second;
};

// Essential matrices E (second^T E first = 0, Frobenius norm 1) through five pairs: Nister, "An efficient solution to the
// five-point relative pose problem", 2004. Up to ten. Works on planes as well.
std::vector<Eigen::Matrix3d> essential_from_five(std::span<const PointPair> pairs);

// Fundamental matrices (rank 2, Frobenius norm 1) through seven pairs. Up to three.
std::vector<Eigen::Matrix3d> fundamental_from_seven(std::span<const PointPair> pairs);

// Least squares over eight or more pairs with normalisation (Hartley, "In defence of the eight-point algorithm", 1997).
// `weights`, one for each pair, may be empty.
Eigen::Matrix3d fundamental_from_many(std::span<const PointPair> pairs, std::span<const double> weights = {});

// First-order distance of a pair from the epipolar constraint (Sampson), squared, in the units of the points.
double sampson_error2(const Eigen::Matrix3d& matrix, const PointPair& pair);

// The second camera's pose relative to the first (whose pose is the identity), baseline 1, for which most pairs lie in
// front of both cameras; and that number. Nothing lies in front: count 0.
struct RelativePose {
  Pose pose;
  std::size_t in_front = 0;
};
RelativePose pose_from_essential(const Eigen::Matrix3d& essential, std::span<const PointPair> pairs);
Eigen::Matrix3d essential_from_pose(const Pose& second_in_first);

struct TwoViewOptions {
  double max_error = 0;             // Sampson distance of an inlier, in the units of the points
  double confidence = 0.9999;       // that an all-inlier sample was drawn
  int max_samples = 4000;
  int min_samples = 40;
};

// A robust fit. `inliers` are indices into the pairs, ascending; empty when nothing was found.
struct TwoViewFit {
  Eigen::Matrix3d matrix = Eigen::Matrix3d::Zero();
  std::vector<std::uint32_t> inliers;
  int samples = 0;
};

// Locally optimised RANSAC (Chum, Matas and Kittler, "Locally optimized RANSAC", 2003) with a truncated quadratic score
// (Torr and Zisserman, "MLESAC", 2000). Same seed, same result.
TwoViewFit fit_essential(std::span<const PointPair> pairs, const TwoViewOptions& options, std::uint64_t seed);
TwoViewFit fit_fundamental(std::span<const PointPair> pairs, const TwoViewOptions& options, std::uint64_t seed);

}  // namespace icefield
