// The ground of the bounds cut into tiles that each hold so much.
#pragma once
#include <Eigen/Core>
#include <algorithm>
#include <cstdint>
#include <vector>

#include "icefield/block/bounds.h"

namespace icefield {

// A raster over the box, in its own x and y.
class GroundCells {
 public:
  static constexpr int kSide = 64;
  explicit GroundCells(const Bounds& bounds) : bounds_(bounds), to_box_(bounds.orientation.conjugate()) {}
  int column(const Eigen::Vector3d& point) const { return along(to_box_.row(0).dot(point - bounds_.centre), 0); }
  int row(const Eigen::Vector3d& point) const { return along(to_box_.row(1).dot(point - bounds_.centre), 1); }
  int cell(const Eigen::Vector3d& point) const { return row(point) * kSide + column(point); }

 private:
  int along(double place, int axis) const {
    const double share = (place + bounds_.half_size[axis]) / (2 * bounds_.half_size[axis]);
    return static_cast<int>(std::clamp(share * kSide, 0.0, kSide - 1.0));
  }
  Bounds bounds_;
  Eigen::Matrix3d to_box_;
};

struct Tile {
  int left, top, right, bottom;   // cells; right and bottom are beyond
  bool holds(int cell) const {
    const int x = cell % GroundCells::kSide, y = cell / GroundCells::kSide;
    return x >= left && x < right && y >= top && y < bottom;
  }
};

// Halves the longer side where the counts are halved, until no tile of more than one cell holds more than `most`. Empty
// tiles are left out.
std::vector<Tile> cut_in_tiles(const std::vector<std::uint64_t>& counts, std::uint64_t most);

}  // namespace icefield
