// From tracks to blocks.
#pragma once
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "icefield/adjust/adjust.h"
#include "icefield/base/parallel.h"
#include "icefield/block/block.h"
#include "icefield/match/match.h"

namespace icefield {

// What orientation needs to know of a photo.
struct OrientPhoto {
  std::string name;                 // for reasons and the log
  CameraIndex camera;
  std::vector<Keypoint> keypoints;
};

struct OrientOptions {
  // Seed pair: the angle at which its rays meet must allow depth (degrees, median of its points).
  double min_seed_angle_deg = 3.0;
  int min_seed_points = 40;
  // Resection: fewer tie points in view leave a pose that can be wrong without notice.
  int min_resection_points = 20;
  double min_resection_share = 0.25;     // of the tie points in view must agree
  double max_resection_error_px = 6.0;   // poses and points are still rough at that time
  // Tie points: smallest angle of their rays, degrees. While a block grows their depth must be good enough to resect from;
  // in the finished block a far point whose depth is vague still holds the directions of its photos, and the bound only
  // keeps out those without any depth (0.1 degrees is a few pixels).
  double min_growing_angle_deg = 1.5, min_point_angle_deg = 0.1;
  // Photos that only come in with points of smaller angles need this many at min_growing_angle_deg all the same, or their
  // places would be left to chance.
  int min_sure_points = 8;
  // Largest residual of an observation while growing and in the finished block.
  double max_growing_residual_px = 4.0;
  double max_residual_px = 2.0;
  // The whole block is adjusted after its observations have grown by this share.
  double adjust_growth_share = 0.2;
  int min_block_photos = 3;              // fewer are no block of their own when there is another
  bool free_focal = true, free_distortion = true;
  // Standard deviations of the radial terms before anything is known.
  double radial_sigma = 0.15;
  // Fields of view tried along the longer side where nothing is known of the focal length, degrees.
  std::vector<double> searched_fields_of_view_deg = {40, 47, 55, 64, 74, 85};
  int search_photos = 8;                 // size of the trial blocks
};

// Why a photo has no pose.
struct UnposedPhoto {
  PhotoIndex photo;
  std::string reason;
};

struct OrientSummary {
  std::string outcome = "was not called";
  std::size_t photos = 0, posed = 0, blocks = 0;
  int adjustments = 0;
  std::vector<std::string> focal_search;  // one line for each field of view tried
};

struct OrientResult {
  std::vector<Block> blocks;              // the largest first
  std::vector<UnposedPhoto> unposed;
  OrientSummary summary;
};

// Keeps the state of a growing block between runs. Losing it costs time only: the result is the same.
class OrientCheckpoint {
 public:
  virtual ~OrientCheckpoint() = default;
  virtual std::optional<Bytes> load() = 0;
  virtual void save(const Bytes& state) = 0;
};

// Grows blocks from seed pairs by resection, triangulation and adjustment, until no photo can be added; then starts the
// next block among those that are left. `priors` by camera; `pairs` and `tracks` over `photos`. Each photo is in one
// block or in `unposed`. The frame of a block is level as far as the photos tell (z up), its origin in the middle of
// the tie points, its scale such that the median distance from photo to tie point is 1. Same input, same bytes.
// Throws Error(interrupted); the checkpoint then holds what is needed to go on.
OrientResult orient(std::span<const OrientPhoto> photos, std::span<const CameraPrior> priors, std::span<const PairMatches> pairs,
                    const Tracks& tracks, const OrientOptions& options, const Executor& executor, Monitor& monitor,
                    OrientCheckpoint* checkpoint = nullptr);

}  // namespace icefield
