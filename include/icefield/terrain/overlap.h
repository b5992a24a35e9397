// How well photos cover the ground, before anything dense is made: how many see each place, how finely, from how far
// apart, and what height error that makes; where photos are missing, and from where to take them.
#pragma once
#include <Eigen/Core>
#include <functional>
#include <span>
#include <string>
#include <vector>

#include "icefield/base/monitor.h"
#include "icefield/base/parallel.h"
#include "icefield/block/block.h"
#include "icefield/photo/image.h"
#include "icefield/terrain/grid.h"

namespace icefield {

struct OverlapOptions {
  double cell = 0;            // side of the cells, units of the coordinates; 0: some 300 cells along the longer side
  int wanted = 3;             // photos that each place needs
  double max_angle_deg = 70;  // between straight up and the way to a photo: beyond it a photo is not counted
  // Of a place in a photo as dense matching finds it, one standard deviation; heights are as exact as that and the
  // photos' poses allow, and the poses are taken as exact.
  double matching_px = 0.5;
};

struct OverlapScene {
  const Block& block;
  // By tie point and by photo of the block: places in the coordinates of the map.
  std::vector<Eigen::Vector3d> points, eyes;
  // From these into the block's frame, in place; empty: they are the same.
  std::function<void(std::span<Eigen::Vector3d>)> to_block;
  // By tie point whether it is of what is to be covered, and not of a background far behind; empty: all are.
  std::vector<std::uint8_t> counted;
};

// Cells of a map; NaN where no photo sees the place.
struct OverlapMap {
  GridFrame frame;
  ImageF heights;  // of the surface through the tie points
  ImageF views;    // photos that see the place
  ImageF gsd;      // of the nearest of them, units of the coordinates
  ImageF angle;    // the largest between the ways from the place to two of them, degrees
  ImageF error;    // expected one of the height
  ImageU8 within;  // not 0 where the photos look: what is counted; beyond it lies the rim, which is always thin
};

// Where photos are missing.
struct OverlapAdvice {
  enum class Reason : std::uint8_t { few_photos, narrow_angle, gap_in_ring };
  Reason reason = Reason::few_photos;
  Eigen::Vector2d place = Eigen::Vector2d::Zero();  // the middle of what is thin
  double area = 0;                                  // of it, square units; of a ring's gap its degrees
  Eigen::Vector3d from = Eigen::Vector3d::Zero();   // where to stand or fly
  Eigen::Vector3d towards = Eigen::Vector3d::Zero();
  int photos = 1;  // how many, about
  // Photos of the block that stand on both sides of the gap, or look nearest to the place.
  std::uint32_t beside = 0, beside_too = 0;
};
const char* describe(OverlapAdvice::Reason reason);

// How the photos stand to what they show: what a map in plan can say of it hangs on that.
enum class PhotoStand : std::uint8_t {
  above,   // they look down at an area
  around,  // they stand around one thing, whose sides a map in plan does not show
  beside,  // they look level, as along a facade
};
const char* describe(PhotoStand stand);

struct OverlapSummary {
  std::string outcome = "nothing done yet";
  PhotoStand stand = PhotoStand::above;
  double widest_gap_deg = 0;  // of photos that stand around one thing: of the way around, between neighbours
  double cell = 0, area = 0;  // of what is counted, square units
  // Of that area, percent: seen by so many photos or more (index 0: by one).
  std::vector<double> seen_percent;
  int wanted = 0;                                       // photos that each place needs
  double wanted_percent = 0;                            // seen by so many or more
  double narrow_percent = 0;                            // seen by two or more, but under less than 5 degrees
  double views = 0, gsd = 0, angle_deg = 0, error = 0;  // in the middle
  // Gaps of a ring where photos stand around one thing; else, where they look from above, thin areas, the largest
  // first.
  std::vector<OverlapAdvice> advice;
};

struct Overlap {
  OverlapMap map;
  OverlapSummary summary;
};

// The surface is a plate through the tie points: what stands on the ground hides more than is known of here. z is up.
// The same for any number of threads. A block with fewer than three tie points has an empty map and an outcome that
// says so. Throws Error(usage) for a cell size that makes too many cells, Error(interrupted).
Overlap overlap_of(const OverlapScene& scene, const OverlapOptions& options, const Executor& executor = Executor(),
                   Monitor& monitor = silent_monitor());

}  // namespace icefield
