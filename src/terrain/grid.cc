#include "icefield/terrain/grid.h"

#include <fmt/format.h>

#include "icefield/base/error.h"

namespace icefield {

GridFrame grid_over(const Eigen::Vector2d& low, const Eigen::Vector2d& high, double cell, double most) {
  if (!(cell > 0) || !std::isfinite(cell))
    throw Error(ErrorKind::usage, "cell size", fmt::format("is {}", cell), "give one above 0");
  const Eigen::Vector2d first = (low / cell).array().floor(), last = (high / cell).array().ceil();
  const Eigen::Vector2d count = (last - first).cwiseMax(1);
  if (!(count.x() * count.y() <= most) || !(count.maxCoeff() <= 1e9))
    throw Error(ErrorKind::usage, "cell size",
                fmt::format("of {} makes {:.3g} cells of an area of {:.6g} by {:.6g}", cell, count.x() * count.y(),
                            high.x() - low.x(), high.y() - low.y()),
                fmt::format("give a larger one, or smaller bounds; {:.3g} cells are the most", most));
  GridFrame frame;
  frame.cell = cell;
  frame.corner = Eigen::Vector2d(first.x(), last.y()) * cell;
  frame.columns = static_cast<int>(count.x()), frame.rows = static_cast<int>(count.y());
  return frame;
}

}  // namespace icefield
