// Which convention poses are written in, told by matches between their photos.
#pragma once
#include <Eigen/Core>
#include <cstdint>
#include <span>
#include <vector>

#include "icefield/camera/pose_convention.h"

namespace icefield {

// A spot in two photos, as directions (x, y, 1) in camera frames with y down; `focal_px` makes distances pixels.
struct RayMatch {
  std::uint32_t first = 0, second = 0;  // of the written poses
  Eigen::Vector2d first_direction, second_direction;
  double focal_px = 1;
};

struct ConventionTrial {
  PoseConvention convention;
  double distance_px = 0;    // median distance of matches from their epipolar lines
  double front_percent = 0;  // of matches that meet in front of both photos
  double cost = 0;           // what trials are ranked by: mean distance, each at most 100 px, 100 for those behind
};

// All that the numbers may mean, the best first; ties leave the claimed one first. A convention in which numbers are no
// rotations is left out. The claimed one is wrong where another's cost is less than half of its own: with some hundred
// matches and poses that are right to some pixels nothing else comes near (docs/benchmarks.md, "Conventions").
std::vector<ConventionTrial> try_conventions(std::span<const WrittenPose> poses, const PoseConvention& claimed,
                                             std::span<const RayMatch> matches);

}  // namespace icefield
