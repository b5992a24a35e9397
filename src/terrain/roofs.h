// Built things among what stands on the ground: what is covered by planes.
#pragma once
#include <functional>

#include "icefield/base/parallel.h"
#include "icefield/photo/image.h"
#include "src/terrain/fine_cells.h"

namespace icefield {

struct RoofOptions {
  double flat = 1;      // a plane's points lie within this of it (one standard deviation), units of the heights
  double largest = 60;  // degrees that a roof may slope
  double area = 4;      // of a plane at least, in plan, square units
  int rim = 3;          // cells around a plane that belong to it where they stand on the ground too: walls, eaves
};

// By cell from 0 to 100 how sure it is that a built thing lies there; 0 elsewhere. `is_raised`: whether the highest
// point of a cell stands above the ground and may be of a built thing.
ImageU8 find_roofs(const FineCells& cells, const std::function<bool(int, int)>& is_raised, const RoofOptions& options,
                   const Executor& executor);

}  // namespace icefield
