// A block: photos posed in one frame with their tie points.
#pragma once
#include <Eigen/Core>
#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "icefield/base/bytes.h"
#include "icefield/base/index.h"
#include "icefield/camera/camera.h"
#include "icefield/camera/pose.h"
#include "icefield/geometry/similarity.h"
#include "icefield/world/datum.h"

namespace icefield {

struct PosedPhoto {
  PhotoIndex photo;    // in the photo list of the job
  CameraIndex camera;  // in the block's cameras
  Pose pose;
};

// What an observation was made by.
enum class ObservationKind : std::uint8_t {
  feature,  // found and matched
  mark,     // set by hand
  target,   // a coded target, measured in the photo
};

// One point seen in one photo.
struct Observation {
  PosedIndex photo;
  FeatureIndex feature;  // none where the point was not found by a feature
  Eigen::Vector2d pixel = Eigen::Vector2d::Zero();
  // Standard deviation of a coordinate, px; 0: that of the block's features, which the adjustment takes from its
  // options and the uncertainty from the residuals.
  float sigma_px = 0;
  ObservationKind kind = ObservationKind::feature;
};

// Plain arrays; observations are grouped by tie point: those of point i are [starts[i], starts[i + 1]).
struct Block {
  std::vector<Camera> cameras;  // all cameras of the job, in its order
  std::vector<PosedPhoto> photos;
  std::vector<Eigen::Vector3d> points;
  std::vector<TrackIndex> tracks;  // of each point; may be empty
  std::vector<std::uint64_t> starts{0};
  std::vector<Observation> observations;
  std::uint64_t observations_dropped = 0;  // observations of the points' tracks that were left out as outliers
  Datum datum;                             // what coordinates mean
  Eigen::Vector3d origin = Eigen::Vector3d::Zero();  // added to the block's coordinates it gives those of the datum

  std::span<const Observation> of_point(std::size_t i) const {
    return {observations.data() + starts[i], observations.data() + starts[i + 1]};
  }
  const Camera& camera_of(const PosedPhoto& photo) const { return cameras[photo.camera.value]; }
  void add_point(const Eigen::Vector3d& position, std::span<const Observation> seen);
  Block without_points() const;  // cameras, photos, datum
};

// Throws Error(usage) naming what does not fit: an observation of a photo, or a photo of a camera, that the block does
// not have; an observation with a negative standard deviation; arrays that are not of one length.
void check_block(const Block& block);

// Observed minus projected; nothing for a point behind the photo.
std::optional<Eigen::Vector2d> residual_px(const Block& block, const Eigen::Vector3d& point,
                                           const Observation& observation);

// Numbers that say how good a block is.
struct BlockStatistics {
  std::size_t photos = 0, points = 0, observations = 0;
  double rms_px = 0;        // over observations
  double kept_percent = 0;  // share of the observations that took part and were not left out as outliers
  double median_track_length = 0;
  double median_gsd = 0;             // over observations: depth divided by focal length, block units
  std::vector<double> photo_rms_px;  // for each photo of the block
  std::vector<double> photo_gsd;     // median over its observations, block units; 0 without any
  std::vector<std::uint32_t> photo_observations;
};
BlockStatistics block_statistics(const Block& block);

// Moves, turns and scales the whole block.
void transform(Block& block, const Similarity& similarity);

Bytes block_to_bytes(const Block& block);
Block block_from_bytes(std::span<const std::byte> bytes);  // throws Error(input) for anything but such bytes

}  // namespace icefield
