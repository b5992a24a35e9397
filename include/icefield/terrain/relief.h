// What is read off a raster of heights: shade, slope, contour lines, profiles.
#pragma once
#include <Eigen/Core>
#include <span>
#include <vector>

#include "icefield/base/monitor.h"
#include "icefield/base/parallel.h"
#include "icefield/photo/image.h"
#include "icefield/terrain/grid.h"

namespace icefield {

// Light from one side on the surface, 0 to 1 (Horn, "Hill shading and the reflectance map", 1981). `azimuth_deg`: of
// the sun from north over east, `elevation_deg`: above the horizon. NaN where there is no height.
ImageF hillshade(const ImageF& heights, double cell, double azimuth_deg = 315, double elevation_deg = 45,
                 const Executor& executor = Executor());
// Degrees from level; derivatives as there. NaN where there is no height.
ImageF slope_deg(const ImageF& heights, double cell, const Executor& executor = Executor());

// Bilinear between the middles of cells; NaN where one of them has no height, or outside.
double height_at(const ImageF& heights, const GridFrame& frame, const Eigen::Vector2d& place);

struct ContourLine {
  double height = 0;
  bool closed = false;                  // the first place follows the last
  std::vector<Eigen::Vector2d> places;  // higher ground on the left
};
struct ContourOptions {
  double every = 1;       // heights apart, units of the heights
  double from = 0;        // a height that has a line
  double simplify = 0.2;  // lines leave out places that are no farther than this from the line without them, cells
  double least = 10;      // shorter ones are left out, cells
};
// Lines of equal height (marching squares; a saddle goes by the mean of its corners), the lowest first; they end at the
// border and where there is no height. No line crosses another or itself: where simplifying made them cross, they stay
// as they were. Throws Error(usage) for heights apart that are not above 0 or make more than 10,000 levels.
std::vector<ContourLine> contour_lines(const ImageF& heights, const GridFrame& frame, const ContourOptions& options,
                                       const Executor& executor = Executor(), Monitor& monitor = silent_monitor());

// A round number that makes some twelve levels of a raster; 1 where it is level.
double contour_step(const ImageF& heights);

// Along a line, each so far from the last; corners too.
struct ProfilePlace {
  double along = 0;  // from the line's beginning, in plan
  Eigen::Vector2d place;
  double height = 0;  // NaN: none
};
std::vector<ProfilePlace> profile(const ImageF& heights, const GridFrame& frame, std::span<const Eigen::Vector2d> line,
                                  double step);

}  // namespace icefield
