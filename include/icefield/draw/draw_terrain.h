// Maps of rasters in plan.
#pragma once
#include <span>
#include <string>
#include <vector>

#include "icefield/draw/draw.h"
#include "icefield/terrain/grid.h"
#include "icefield/terrain/relief.h"
#include "icefield/world/datum.h"

namespace icefield {

struct DrawTerrainOptions {
  // A number for each cell, drawn in colour from the 2nd to the 98th percentile; empty: the heights.
  ImageF values;
  std::string meaning = "height";  // of the numbers, with their unit
  bool logarithmic = false;
  bool symmetric = false;  // colours go as far below 0 as above
  bool shaded = true;      // light on the heights over the colours
  ImageU8 picture;         // red, green, blue, alpha in place of colours
  ImageF tints;            // whole numbers over the picture, each in a tint of its own
  std::span<const ContourLine> contours;
  bool labelled = true;  // long ones say their height
  // Areas by class in place of numbers: a name for each whole number in `values` from 0.
  std::vector<std::string> classes;
};

// North up, with the grid of the coordinates, a scale bar, north and what the colours mean. `frame`: of all rasters.
ImageU8 draw_terrain(const ImageF& heights, const GridFrame& frame, const Datum& datum, const DrawOptions& options,
                     const DrawTerrainOptions& terrain_options = {});

}  // namespace icefield
