// Heights in plan: the surface with all that stands on it (DSM), or the ground alone (DTM), each cell with its error.
#pragma once
#include <functional>

#include "icefield/base/monitor.h"
#include "icefield/base/parallel.h"
#include "icefield/cloud/cloud.h"
#include "icefield/photo/image.h"
#include "icefield/terrain/grid.h"

namespace icefield {

struct HeightOptions {
  // How far from a cell's middle points speak for it, in cells, and at least in spacings of the points.
  double reach_cells = 1, reach_spacings = 1.6;
  // Gaps are filled as far as this from measured cells that lie around them, units of the coordinates; beyond it there
  // is no height. 0: 30 cells.
  double fill = 0;
  // Of two surfaces one above the other, the upper one: what lies apart in height by more than this (and more than a
  // slope of `steepest_deg` over the reach makes) counts as two. 0: three spacings.
  double apart = 0;
  double steepest_deg = 60;
};

// Rasters of one window. Heights are relative to `base`; NaN: none.
struct HeightModel {
  GridFrame frame;
  double base = 0;
  ImageF heights;
  ImageF sigma;     // expected error (one standard deviation), units of the heights
  ImageF points;    // how many were used; 0 where it is filled
  ImageF distance;  // to the nearest measured cell from which it is filled, units of the coordinates; 0: measured
};

// How far points outside of a window are needed for it, units of the coordinates.
double height_margin(double cell, double spacing, const HeightOptions& options);

// A window `first` .. `first + size` of the raster `whole` from all points within its margin (others do no harm):
// local planes through the points of the uppermost surface around each cell's middle, weighted by distance and error
// (Cleveland, "Robust locally weighted regression and smoothing scatterplots", 1979); gaps from measured cells in all
// directions around. What comes out for a cell does not depend on the window. Points of class noise take no part. The
// same for any number of threads and any order of points.
struct Window {
  int column = 0, row = 0, width = 0, height = 0;
};
HeightModel surface_heights(const PointCloud& points, const GridFrame& whole, const Window& window, double spacing,
                            const HeightOptions& options, const Executor& executor = Executor());

// The same from points of class ground alone, around a `ground` that is known everywhere (its height at a place and how
// far that is from ground that was seen): cells without points take it, as far as `fill` from what was seen.
struct GroundBelow {
  std::function<double(const Eigen::Vector2d&)> height, distance;
};
HeightModel ground_heights(const PointCloud& points, const GroundBelow& ground, const GridFrame& whole,
                           const Window& window, double spacing, const HeightOptions& options,
                           const Executor& executor = Executor());

}  // namespace icefield
