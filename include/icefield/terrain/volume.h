// Volumes and changes between rasters of heights.
#pragma once
#include <Eigen/Core>
#include <optional>
#include <span>
#include <string>

#include "icefield/photo/image.h"
#include "icefield/terrain/grid.h"

namespace icefield {

// Heights with their expected errors, on one grid.
struct HeightRaster {
  GridFrame frame;
  ImageF heights, sigma;  // `sigma` may be empty
};

enum class VolumeBase {
  rim,     // a surface through the heights along the outline: a plane, and beyond it what the rim has of its own
  plane,   // a plane through the heights along the outline
  lowest,  // level, at the lowest height along the outline
  height,  // level, at a height that is given
};

struct VolumeOptions {
  VolumeBase base = VolumeBase::rim;
  double height = 0;  // of VolumeBase::height
  // How far errors of neighbouring cells go together, cells: in the mean of fewer cells nothing evens out.
  double error_reach = 6;
};

struct Volume {
  std::string outcome = "nothing done yet";
  double above = 0, below = 0;  // cubic units between the heights and the base, where they are over or under it
  double net() const { return above - below; }
  double sigma = 0;                   // of the net volume (one standard deviation): errors of heights and of the base
  double area = 0, surface_area = 0;  // in plan; on the slope
  double perimeter = 0;               // of the outline, in plan
  double missing_percent = 0;         // of the area that has no height: no volume is counted there
  double lowest = 0, highest = 0, base_lowest = 0, base_highest = 0;
};

// Within an outline, at least three corners in plan. Cells count by their share within it. Throws Error(usage) for an
// outline that crosses itself or lies outside of the raster.
Volume volume_in(const HeightRaster& raster, std::span<const Eigen::Vector2d> outline, const VolumeOptions& options);

struct HeightChange {
  GridFrame frame;
  ImageF difference;    // second less first; NaN where one has no height
  ImageF significance;  // difference over its expected error, absolute: 1.96 is passed by chance in one of twenty
  double gained = 0, lost = 0;  // cubic units over all cells
  // And over those alone whose change is significant.
  double gained_surely = 0, lost_surely = 0, sure_area = 0;
  double sigma = 0;  // of gained less lost
  double area = 0;   // that both have
};
// On the first one's grid; the second is taken bilinear. Without errors nothing is significant. Throws Error(usage)
// where they do not overlap.
HeightChange change_between(const HeightRaster& first, const HeightRaster& second, double level = 1.96,
                            double error_reach = 6);

// Whether a polygon crosses itself.
bool crosses_itself(std::span<const Eigen::Vector2d> outline);

}  // namespace icefield
