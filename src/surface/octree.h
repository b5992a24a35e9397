// An octree with the grid of vertices of each of its levels.
#pragma once
#include <Eigen/Core>
#include <array>
#include <cstdint>
#include <span>
#include <vector>

#include "icefield/base/parallel.h"

namespace icefield {

// The cells of a level are all children of the coarser level's cells that are parted; leaves are those that are not.
// Level 0 has 8 cells. Cells stand in the order of a Morton curve. Neighbouring leaves, also those that share an edge
// or a corner alone, differ by one level at most.
class Octree {
 public:
  static constexpr std::uint32_t kNone = 0xffffffffu;
  static constexpr int kMostLevels = 19;

  struct Level {
    std::vector<std::uint32_t> parent;               // by octet (eight cells): cell of the coarser level
    std::vector<std::array<std::int32_t, 3>> place;  // by octet: of its first cell, in cells of this level
    std::vector<std::uint32_t> child;                // by cell: its octet in the finer level, kNone for a leaf
    std::vector<std::array<std::uint32_t, 8>>
        corner;  // by cell: its vertices; bit 0 of the place: x, bit 1: y, bit 2: z
    std::vector<std::array<std::uint32_t, 8>> around;  // by vertex: the cells about it, kNone where there is none
    std::size_t cells() const { return child.size(); }
    std::size_t vertices() const { return around.size(); }
  };

  // Around points: each is to lie in a leaf of its level, and all cells about that leaf to be no larger. `low`, `side`:
  // of the cube. Levels up to `full` are complete.
  Octree(std::span<const Eigen::Vector3f> points, std::span<const std::uint8_t> levels, const Eigen::Vector3f& low,
         float side, int full, const Executor& executor);

  const std::vector<Level>& levels() const { return levels_; }
  // `around` is needed no more: a third of the memory.
  void forget_around() {
    for (Level& level : levels_) level.around = {};
  }
  int finest() const { return static_cast<int>(levels_.size()) - 1; }
  float cell_size(int level) const { return side_ / static_cast<float>(2u << level); }
  const Eigen::Vector3f& low() const { return low_; }
  // By point: the leaf that it lies in, and its level.
  const std::vector<std::uint32_t>& leaf_of() const { return leaf_of_; }
  const std::vector<std::uint8_t>& leaf_level() const { return leaf_level_; }

  std::array<std::int32_t, 3> place(int level, std::uint32_t cell) const {
    std::array<std::int32_t, 3> p = levels_[static_cast<std::size_t>(level)].place[cell / 8];
    for (int c = 0; c < 3; ++c) p[static_cast<std::size_t>(c)] += static_cast<std::int32_t>(cell % 8 >> c & 1);
    return p;
  }
  Eigen::Vector3f corner_of(int level, std::uint32_t cell) const {
    const auto p = place(level, cell);
    return low_ + cell_size(level) *
                      Eigen::Vector3f(static_cast<float>(p[0]), static_cast<float>(p[1]), static_cast<float>(p[2]));
  }
  // The cells about a cell, itself in the middle (place 13): x fastest, from -1 to 1; kNone where there is none.
  std::array<std::uint32_t, 27> neighbours(int level, std::uint32_t cell) const;

 private:
  // The cells about an octet, itself in the middle: 4 x 4 x 4, x fastest.
  std::array<std::uint32_t, 64> block_around(int level, std::uint32_t octet) const;
  void part(int level, const std::vector<std::uint8_t>& parted);
  void number_vertices(int level, const Executor& executor);

  Eigen::Vector3f low_;
  float side_;
  std::vector<Level> levels_;
  std::vector<std::uint32_t> leaf_of_;
  std::vector<std::uint8_t> leaf_level_;
};

}  // namespace icefield
