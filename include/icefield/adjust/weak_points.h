// Removal of weak tie points in passes.
#pragma once
#include <string>
#include <vector>

#include "icefield/adjust/adjust.h"

namespace icefield {

struct WeakPointOptions {
  // Level of the standardised residual (Baarda, "A testing procedure for use in geodetic networks", 1968: 3.29 for one
  // error in a thousand). A point is weak by how far it is over a level, of the one that it is farthest over.
  double max_standardised = 3.29;
  double max_sigma_gsd = 100;   // largest standard deviation of the point, in pixels on the subject
  double min_angle_deg = 0.15;  // at which its rays must meet; far points are vague and still hold directions
  double max_share = 0.05;      // of the points that one pass may take: the block changes with each
  int max_passes = 10;
  int min_photo_observations = 30;  // a photo is left with so many, whatever their quality
  AdjustOptions adjust;             // of the adjustment after each pass
};

struct WeakPointPass {
  std::size_t points = 0, observations = 0;                 // before it
  std::size_t weak = 0;                                     // points over a level
  std::size_t by_residual = 0, by_sigma = 0, by_angle = 0;  // of them, by the level that they are farthest over
  std::size_t removed_points = 0,
              removed_observations = 0;  // whole points; single observations of points that others hold
  double largest_standardised = 0, largest_sigma_gsd = 0;
  double rms_before_px = 0, rms_after_px = 0;
  double sigma_px = 0;  // of an observation, before it
};

// Where more was taken than elsewhere: a local fault and not noise.
struct Crowding {
  bool in_photo = false;
  PosedIndex photo;
  Eigen::Vector3d place = Eigen::Vector3d::Zero();  // otherwise the middle of a part of the block
  double size = 0;                                  // and its extent
  std::size_t removed = 0, of = 0;
  double usual_share = 0;  // removed in the whole block
};

struct WeakPointResult {
  std::string outcome = "nothing done yet";
  Block block;
  std::vector<WeakPointPass> passes;
  std::vector<Crowding> crowding;
};

// Takes out the weakest points a few at a time and adjusts after each pass, until none is over a level, the passes are
// used up, or what is left would not hold the photos. Of a point with four or more observations only the worst
// observation goes when that is what makes it weak. The block passed in stays as it is. Cost of a pass: an adjustment
// and its covariances.
WeakPointResult remove_weak_points(const Block& block, const WeakPointOptions& options,
                                   const Executor& executor = Executor(), Monitor& monitor = silent_monitor());

}  // namespace icefield
