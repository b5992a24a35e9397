// Results against truth, or against another result.
#pragma once
#include <array>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "icefield/base/parallel.h"
#include "icefield/camera/camera.h"
#include "icefield/camera/pose.h"
#include "icefield/block/bounds.h"
#include "icefield/cloud/cloud.h"
#include "icefield/geometry/similarity.h"
#include "icefield/orient/orient.h"

namespace icefield {

struct NamedPose {
  std::string name;
  Camera camera;
  Pose pose;
  double gsd = 0;  // size of a pixel on the subject, in the units of the pose; 0 when unknown
};

struct PhotoError {
  std::string name;
  double position = 0;      // units of the truth
  double position_gsd = 0;  // the same in GSD; 0 when the GSD is unknown
  double orientation_deg = 0;
  bool wrong = false;  // over 10 GSD or over 1 degree
};

struct CameraComparison {
  std::size_t truth_photos = 0, posed = 0, wrong = 0;
  std::vector<std::string> missing;  // photos of the truth without a pose
  Similarity to_truth;               // from the result's frame
  std::vector<PhotoError> photos;
  double median_position = 0, rms_position = 0, max_position = 0;  // units of the truth
  double median_position_gsd = 0, max_position_gsd = 0;
  double median_orientation_deg = 0, max_orientation_deg = 0;
  double median_focal_error_percent = 0;  // signed
};

// Pairs photos by name, fits a similarity to their positions (least squares, then again without those beyond three
// median errors) and measures what is left. Nothing when fewer than three photos are in both.
std::optional<CameraComparison> compare_cameras(std::span<const NamedPose> result, std::span<const NamedPose> truth);

// Positions of photos in one frame with the truth, without any fit: how far a block is from where it should be.
struct PlaceComparison {
  std::size_t photos = 0;
  Eigen::Vector3d mean = Eigen::Vector3d::Zero(), rms = Eigen::Vector3d::Zero();  // by coordinate, units of the frame
  double largest = 0;
};
// By name; `result_origin` and `truth_origin` are added to the positions. Nothing where no photo is in both.
std::optional<PlaceComparison> compare_places(std::span<const NamedPose> result, const Eigen::Vector3d& result_origin,
                                              std::span<const NamedPose> truth, const Eigen::Vector3d& truth_origin);

// Tracks and what was kept of them, against true poses.
struct ObservationComparison {
  std::size_t tracks = 0, wrong_tracks = 0;  // wrong: with an observation over the limit from the majority's true point
  std::size_t right = 0, right_kept = 0;     // observations within the limit of it; those that a block uses
  std::size_t wrong = 0, wrong_kept = 0;     // the others
  double right_kept_percent() const {
    return right > 0 ? 100.0 * static_cast<double>(right_kept) / static_cast<double>(right) : 0;
  }
};

// The true point of a track is the one that most of its features agree on when their rays, under the true cameras and
// poses, are intersected two by two; a feature is right within `max_error_px` of its projection. Two views that are
// wrong along their epipolar line cannot be told and count as right. `truth` by photo; photos without truth take no
// part. Kept: used by any of `blocks`, whose photos are those of `photos`.
ObservationComparison compare_observations(std::span<const OrientPhoto> photos, const Tracks& tracks,
                                           std::span<const Block> blocks,
                                           std::span<const std::optional<NamedPose>> truth, const Executor& executor,
                                           double max_error_px = 3);

// Two photos that see common surface.
struct PhotoOverlap {
  std::string first, second;
  double share = 0;      // of the two photos' shares that the other sees, the smaller; 0 to 1
  double angle_deg = 0;  // at which their rays to the common surface meet, the middle
};

// Tried and verified pairs against true poses and, where given, true overlaps.
struct PairComparison {
  std::size_t tried = 0, verified = 0;
  std::size_t wrong = 0;               // verified though fewer than half of the matches are right
  std::size_t matches = 0, right = 0;  // of the verified pairs; right: within the limit of the true epipolar geometry
  std::size_t overlapping = 0;         // pairs that truly overlap by 5 percent
  // Pairs that overlap by 25 percent: all, and those whose rays meet under 45 degrees, beyond which surface looks
  // another.
  struct Found {
    std::size_t pairs = 0, tried = 0, verified = 0;
  };
  Found well, well_and_narrow;
  std::array<std::size_t, kPairGeometries> by_geometry{};  // pairs; without one: by what is in the way
  std::array<std::size_t, kPairFaults> by_fault{};
};

// `names`, `keypoints` and `truth` by photo; pairs with a photo without truth are passed over. `overlaps` may be empty.
PairComparison compare_pairs(std::span<const std::string> names, std::span<const std::vector<Keypoint>> keypoints,
                             std::span<const PairMatches> pairs, std::span<const std::optional<NamedPose>> truth,
                             std::span<const PhotoOverlap> overlaps, double max_error_px = 3);

struct CloudScore {
  double at_gsd = 0;
  double accuracy_percent = 0;      // share of the result's points that close to the truth
  double completeness_percent = 0;  // share of the truth's counted points that close to the result
  double f1 = 0;                    // 0 to 1
};

struct CloudComparison {
  std::size_t result_points = 0, truth_points = 0, counted_points = 0;
  double median_distance_gsd = 0;   // from result to truth
  double far_percent = 0;           // share of the result's points over 10 GSD from the truth
  std::vector<CloudScore> scores;   // at 1, 1.5, 2 and 5 GSD
  std::vector<float> distance_gsd;  // of each point of the result
  // What completeness counts, parted by how many photos see it, where the truth tells (`views`); the last class holds
  // all from its number on.
  struct SeenBy {
    int photos = 0;
    std::size_t points = 0, found = 0;  // within 2 GSD
  };
  std::vector<SeenBy> seen_by;
};

// Both clouds in one frame. `truth` carries the local GSD of each point (the comparison is refused without it) and
// marks those that completeness counts (all, where it does not say). Points of the result outside `bounds` are left
// out. Throws Error(usage) for an empty truth or one without GSD.
CloudComparison compare_clouds(const PointCloud& result, const PointCloud& truth, const std::optional<Bounds>& bounds,
                               const Executor& executor = Executor(), Monitor& monitor = silent_monitor());

}  // namespace icefield
