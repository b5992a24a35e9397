// Which points of a cloud lie on the ground.
#pragma once
#include <memory>
#include <string>
#include <vector>

#include "icefield/base/monitor.h"
#include "icefield/base/parallel.h"
#include "icefield/cloud/cloud.h"
#include "icefield/photo/image.h"
#include "icefield/terrain/grid.h"

namespace icefield {

struct GroundOptions {
  // Of what stands on the ground: no place of it is farther than half of this from ground that is seen. Units of the
  // coordinates.
  double widest = 20;
  // How sharply the ground may bend, degrees: what rises above its surroundings more steeply than this is none of it.
  double bend_deg = 20;
  // Height above the surface of the ground up to which points are of it; 0: two spacings of the points.
  double step = 0;
  // Of the raster that the ground is found on; 0: four spacings of the points.
  double cell = 0;
  // Whether what has another colour than the ground around it has to lie level with that ground to be of it.
  bool by_colour = true;
  // Hints, polygons in plan in the coordinates of the points: within these the lowest points are ground, or none is.
  std::vector<std::vector<Eigen::Vector2d>> ground_within, other_within;
};

struct GroundSummary {
  std::string outcome = "nothing done yet";
  std::uint64_t points = 0;
  double spacing = 0, cell = 0, step = 0;  // as they were taken
  std::size_t cells = 0, seen_cells = 0, ground_cells = 0;
  std::size_t cells_by_colour = 0;  // that were taken for ground until their colour and what lies around were looked at
  int levels = 0;
};

// The ground under a cloud of any size, which is shown to it twice, part by part, in any order: once to find the
// ground, once to have its points classed. From a coarse surface through the lowest places to ever finer ones: a place
// is of the ground when it lies no higher above the surface found so far than that may bend over its distance to the
// places that carry it (after Evans and Hudak, "A multiscale curvature algorithm for classifying discrete return LiDAR
// in forested environments", 2007; Mongus and Zalik, "Parameter-free ground filtering of LiDAR data for automatic DTM
// generation", 2012), the surface a thin plate (Terzopoulos, "Regularization of inverse visual problems involving
// discontinuities", 1986). Then, where points have colours, what is unlike the ground around it must lie level with it.
// z is up. The same for any number of threads and any order of parts.
class GroundFinder {
 public:
  // `spacing`: of the points, about. Throws Error(usage) for options that are not above 0 where they must be.
  GroundFinder(const Eigen::Vector3d& low, const Eigen::Vector3d& high, double spacing, const GroundOptions& options);
  ~GroundFinder();
  GroundFinder(GroundFinder&&) noexcept;

  void add(const PointCloud& part);
  // After all parts are added. Throws Error(interrupted).
  void solve(const Executor& executor = Executor(), Monitor& monitor = silent_monitor());
  // Sets `classes` to ground, noise (below it) or, of what stands on the ground, building where planes of at least a
  // hundredth of `widest` squared cover it, vegetation where it is greener than the ground (low up to a fortieth of
  // `widest`, medium up to a tenth) and other; and `class_confidence`.
  void classify(PointCloud& part, const Executor& executor = Executor()) const;

  const GroundSummary& summary() const;
  const GridFrame& grid() const;
  // Heights of the ground at the middles of the cells, everywhere; whether a cell's lowest place is of it.
  const ImageF& surface() const;
  const ImageU8& is_ground() const;
  // Bilinear between the cells' middles.
  double height_at(const Eigen::Vector2d& place) const;
  // From a place to the middle of the nearest cell of the ground, bilinear; units of the coordinates. Very far for
  // places outside of what was seen, which nothing seen lies around.
  double distance_at(const Eigen::Vector2d& place) const;

 private:
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace icefield
