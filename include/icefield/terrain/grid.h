// Rasters in plan, north up.
#pragma once
#include <Eigen/Core>
#include <cmath>

namespace icefield {

// Where the cells of a raster lie: squares along the axes of the coordinates, rows from the north (high y) to the
// south.
struct GridFrame {
  Eigen::Vector2d corner = Eigen::Vector2d::Zero();  // the north-western one of all cells
  double cell = 1;                                   // side of a cell, units of the coordinates
  int columns = 0, rows = 0;

  std::size_t cells() const { return static_cast<std::size_t>(columns) * static_cast<std::size_t>(rows); }
  Eigen::Vector2d middle(int column, int row) const {
    return corner + cell * Eigen::Vector2d(column + 0.5, -(row + 0.5));
  }
  // Columns and rows, 0.5 at the middle of the first cell.
  Eigen::Vector2d at(const Eigen::Vector2d& place) const {
    return Eigen::Vector2d(place.x() - corner.x(), corner.y() - place.y()) / cell;
  }
};

// The cells that a box in plan touches; their edges lie on multiples of `cell`, so that rasters of one place and cell
// size lie on each other. Throws Error(usage) for a cell that is not above 0 and for more than `most` cells.
GridFrame grid_over(const Eigen::Vector2d& low, const Eigen::Vector2d& high, double cell, double most = 4e9);

}  // namespace icefield
