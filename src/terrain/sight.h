// What a surface of heights hides.
#pragma once
#include <Eigen/Core>
#include <vector>

#include "icefield/base/parallel.h"
#include "icefield/photo/image.h"
#include "icefield/terrain/grid.h"

namespace icefield {

// Heights and the highest of ever larger squares of cells, so that rays pass over what is low in long steps (Tevs,
// Ihrke and Seidel, "Maximum mipmaps for fast, accurate, and scalable dynamic height field rendering", 2008).
class Sight {
 public:
  Sight(ImageF heights, const GridFrame& frame, const Executor& executor);

  // Whether nothing rises into the straight way from a place on the surface to an eye. What lies within one and a half
  // cells of the place, or rises less than a cell into the way, hides nothing.
  bool open_way(const Eigen::Vector3d& place, const Eigen::Vector3d& eye) const;

 private:
  GridFrame frame_;
  std::vector<ImageF> levels_;
};

}  // namespace icefield
