// What is known of the points of small squares in plan: how low, how high, which colour.
#pragma once
#include <algorithm>
#include <array>
#include <cstdint>
#include <limits>
#include <memory>
#include <vector>

#include "icefield/terrain/grid.h"

namespace icefield {

struct FineCell {
  float low = std::numeric_limits<float>::infinity(), high = -std::numeric_limits<float>::infinity();
  std::uint32_t points = 0;            // that have a colour
  std::array<std::uint32_t, 3> sum{};  // red, green, blue
  bool there() const { return low <= high; }
  std::array<float, 3> colour() const {
    const float n = static_cast<float>(std::max<std::uint32_t>(1, points));
    return {static_cast<float>(sum[0]) / n, static_cast<float>(sum[1]) / n, static_cast<float>(sum[2]) / n};
  }
};

// Cells of a raster, kept in blocks: where no point lies nothing is kept. What comes out does not depend on the order
// of the points.
class FineCells {
 public:
  FineCells() = default;
  explicit FineCells(const GridFrame& frame)
      : frame_(frame),
        across_((frame.columns + kSide - 1) / kSide),
        blocks_(static_cast<std::size_t>(across_) * static_cast<std::size_t>((frame.rows + kSide - 1) / kSide)) {}
  const GridFrame& frame() const { return frame_; }
  bool coloured() const { return coloured_; }
  void add(int x, int y, float height, const std::array<std::uint8_t, 3>* colour) {
    auto& block = blocks_[block_of(x, y)];
    if (!block) block = std::make_unique<Cells>();
    FineCell& cell = (*block)[place(x, y)];
    cell.low = std::min(cell.low, height), cell.high = std::max(cell.high, height);
    if (!colour) return;
    coloured_ = true;
    ++cell.points;
    for (std::size_t k = 0; k < 3; ++k) cell.sum[k] += (*colour)[k];
  }
  // Nothing outside and where no point lies.
  const FineCell* at(int x, int y) const {
    if (x < 0 || y < 0 || x >= frame_.columns || y >= frame_.rows) return nullptr;
    const auto& block = blocks_[block_of(x, y)];
    if (!block) return nullptr;
    const FineCell& cell = (*block)[place(x, y)];
    return cell.there() ? &cell : nullptr;
  }

 private:
  static constexpr int kSide = 32;
  using Cells = std::array<FineCell, kSide * kSide>;
  std::size_t block_of(int x, int y) const {
    return static_cast<std::size_t>(y / kSide) * static_cast<std::size_t>(across_) +
           static_cast<std::size_t>(x / kSide);
  }
  static std::size_t place(int x, int y) { return static_cast<std::size_t>(y % kSide * kSide + x % kSide); }

  GridFrame frame_;
  int across_ = 0;
  bool coloured_ = false;
  std::vector<std::unique_ptr<Cells>> blocks_;
};

}  // namespace icefield
