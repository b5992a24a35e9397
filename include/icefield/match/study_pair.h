// What two photos alone tell of where they stood and of what they saw.
#pragma once
#include <optional>
#include <vector>

#include "icefield/camera/pose.h"
#include "icefield/match/match.h"

namespace icefield {

// A pose of the second photo relative to the first (the identity) that the pair's matrix allows. The baseline is the
// unit of length, but for a turn, which has none.
struct PossiblePose {
  Pose pose;
  std::size_t in_front = 0;                     // matches whose point lies in front of both photos
  std::optional<Eigen::Vector3d> plane_normal;  // in the first photo's frame, where the matrix is that of a plane
};

struct PairStudy {
  std::vector<PossiblePose>
      poses;  // the most in front first; four of an essential matrix, up to two of a plane, one of a turn
  // By the first pose: the match (index into the pair's), its point in the first photo's frame, the angle of its rays.
  struct Point {
    std::uint32_t match;
    Eigen::Vector3d position;
    double angle_deg;
  };
  std::vector<Point> points;
  // Distances of the verified matches from the geometry, px of the photos: the median. Of point maps, the mean of both
  // photos.
  double median_error_px = 0;
};

// `pair` as from verify_pair, with the same features and cameras. A fundamental matrix, or a homography of photos whose
// focal lengths are not known, allows no pose: `poses` stays empty.
PairStudy study_pair(const PairMatches& pair, std::span<const Keypoint> first, std::span<const Keypoint> second,
                     const CameraPrior& first_camera, const CameraPrior& second_camera,
                     const VerifyOptions& options = {});

}  // namespace icefield
