// Geometry of two views.
#pragma once
#include <Eigen/Core>
#include <optional>
#include <span>
#include <vector>

#include "icefield/camera/pose.h"

namespace icefield {

// Pairs of image points. For essential matrices: directions (x, y) on the plane z = 1 of each camera frame. For
// fundamental matrices: pixels.
struct PointPair {
  Eigen::Vector2d first, second;
};

// Essential matrices E (second^T E first = 0, Frobenius norm 1) through five pairs: Nister, "An efficient solution to
// the five-point relative pose problem", 2004. Up to ten. Works on planes as well.
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
// All four poses that it allows, the most in front first.
std::vector<RelativePose> poses_from_essential(const Eigen::Matrix3d& essential, std::span<const PointPair> pairs);
RelativePose pose_from_essential(const Eigen::Matrix3d& essential, std::span<const PointPair> pairs);
Eigen::Matrix3d essential_from_pose(const Pose& second_in_first);

// Homography (second ~ H first, Frobenius norm 1) through four pairs; none when three lie in a line or the quadrangle
// is turned over.
std::optional<Eigen::Matrix3d> homography_from_four(std::span<const PointPair> pairs);

// Least squares over four or more pairs with normalisation. `weights`, one for each pair, may be empty.
Eigen::Matrix3d homography_from_many(std::span<const PointPair> pairs, std::span<const double> weights = {});

// Mean of the squared distances in the second and in the first image.
double transfer_error2(const Eigen::Matrix3d& homography, const Eigen::Matrix3d& inverse, const PointPair& pair);

// The poses of the second camera that a homography between planes z = 1 allows, up to two, with the distance of the
// plane as the unit of the baseline: Ma, Soatto, Kosecka and Sastry, "An invitation to 3-D vision", 2004, section 5.3.
// None for a turn.
struct PlanePose {
  Pose pose;
  Eigen::Vector3d normal = Eigen::Vector3d::Zero();  // of the plane, in the first camera's frame, away from it
  std::size_t in_front = 0;                          // pairs that the plane puts in front of the first camera
};
std::vector<PlanePose> poses_from_homography(const Eigen::Matrix3d& homography, std::span<const PointPair> pairs);

struct TwoViewOptions {
  // Distance of an inlier from the constraint, in the units of the points. Noise is taken to be anything up to 1 / 3.64
  // of it. 0: 0.003 of the extent of the points of the second view, some pixels of most cameras.
  double max_error = 0;
  double confidence = 0.9999;  // that an all-inlier sample was drawn
  int max_samples = 4000;
  int min_samples = 40;
  bool best_first = false;  // the pairs are in order of quality: the first ones are tried first
  // A geometry that fewer of the pairs support is of no use to the caller and may be given up early.
  double least_share = 0;
};

// A robust fit. `inliers` are indices into the pairs, ascending; empty when nothing was found.
struct TwoViewFit {
  Eigen::Matrix3d matrix = Eigen::Matrix3d::Zero();
  std::vector<std::uint32_t> inliers;
  int samples = 0;
  double noise = 0;  // standard deviation of the inliers' distances, from their median
};

// One robust estimator for all: progressive sampling (Chum and Matas 2005), early rejection (Matas and Chum 2005),
// local optimisation (Chum, Matas and Kittler, "Locally optimized RANSAC", 2003) and a score that marginalises over the
// scale of the noise (Barath et al. 2020). Same seed, same result. Points of fit_essential and fit_rotation are
// directions on z = 1; the rotation takes the first camera's directions to the second's. fit_parallax finds the
// fundamental matrices [e']x H of a known homography; its inliers are of `off_plane`.
TwoViewFit fit_essential(std::span<const PointPair> pairs, const TwoViewOptions& options, std::uint64_t seed);
TwoViewFit fit_fundamental(std::span<const PointPair> pairs, const TwoViewOptions& options, std::uint64_t seed);
TwoViewFit fit_homography(std::span<const PointPair> pairs, const TwoViewOptions& options, std::uint64_t seed);
TwoViewFit fit_rotation(std::span<const PointPair> pairs, const TwoViewOptions& options, std::uint64_t seed);
TwoViewFit fit_parallax(const Eigen::Matrix3d& homography, std::span<const PointPair> off_plane,
                        const TwoViewOptions& options, std::uint64_t seed);

// Least squares from a start over the pairs within max_error of it, weighted as in the robust fit.
Eigen::Matrix3d refine_essential(const Eigen::Matrix3d& start, std::span<const PointPair> pairs, double max_error);

}  // namespace icefield
