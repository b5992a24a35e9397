// The ground of the bounds cut into tiles that each hold so much.
#pragma once
#include <Eigen/Core>
#include <algorithm>
#include <cstdint>
#include <span>
#include <vector>

#include "icefield/block/bounds.h"

namespace icefield {

// A raster over the part of the box where most of the points lie, in the box's own x and y; what is beyond counts to
// the cells at its border. A box far larger than the subject is cut as finely as a tight one.
class GroundCells {
 public:
  static constexpr int kSide = 128;
  GroundCells(const Bounds& bounds, std::span<const Eigen::Vector3d> points);
  int column(const Eigen::Vector3d& point) const { return along(point, 0); }
  int row(const Eigen::Vector3d& point) const { return along(point, 1); }
  int cell(const Eigen::Vector3d& point) const { return row(point) * kSide + column(point); }

 private:
  int along(const Eigen::Vector3d& point, int axis) const {
    return static_cast<int>(
        std::clamp((to_box_.row(axis).dot(point) - low_[axis]) * per_unit_[axis], 0.0, kSide - 1.0));
  }
  Eigen::Matrix3d to_box_;
  Eigen::Vector2d low_, per_unit_;
};

struct Tile {
  int left, top, right, bottom;  // cells; right and bottom are beyond
  bool holds(int cell) const {
    const int x = cell % GroundCells::kSide, y = cell / GroundCells::kSide;
    return x >= left && x < right && y >= top && y < bottom;
  }
};

// Halves the longer side where the counts are halved, until no tile of more than one cell holds more than `most`. Empty
// tiles are left out.
std::vector<Tile> cut_in_tiles(const std::vector<std::uint64_t>& counts, std::uint64_t most);

// A number from 0 on for each tile, so that tiles that meet, at a corner alone too, have different ones: those of one
// number can be merged at the same time. Few numbers, not the fewest.
std::vector<int> colours_of(const std::vector<Tile>& tiles);

}  // namespace icefield
