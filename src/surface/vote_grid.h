// Distances to a surface on blocks of a grid, as pixels of depth maps vote for them.
#pragma once
#include <Eigen/Core>
#include <array>
#include <cstdint>
#include <unordered_map>
#include <vector>

#include "icefield/base/parallel.h"
#include "icefield/dense/depth_map.h"
#include "icefield/surface/fit_open.h"

namespace icefield {

class VoteGrid {
 public:
  static constexpr int kSide = 8, kNodes = kSide * kSide * kSide, kClasses = 8;
  static constexpr std::uint32_t kNone = 0xffffffffu;

  // Nodes at low + step (i, j, k).
  VoteGrid(const Eigen::Vector3d& low, double step, const FitOpenOptions& options, const Executor& executor)
      : low_(low), step_(step), options_(options), executor_(executor) {}

  // Counts the pixels of a map that see a surface in each block; then `settle` keeps the blocks with enough of them.
  std::size_t look(const DepthMap& map);
  void settle();
  std::size_t blocks() const { return keys_.size(); }

  void vote(const DepthMap& map);
  void minimise(Monitor& monitor);

  // Blocks by number, in the order of their keys; nodes of a block x the fastest.
  std::array<int, 3> corner(std::size_t block) const { return corner_of(keys_[block]); }
  std::uint32_t block_at(int i, int j, int k) const;  // that node (i, j, k) lies in, or kNone
  static std::size_t node_in_block(int i, int j, int k) {
    return static_cast<std::size_t>(((k & 7) << 6) | ((j & 7) << 3) | (i & 7));
  }
  float distance(std::size_t block, std::size_t node) const { return distance_[block * kNodes + node]; }
  int votes(std::size_t block, std::size_t node) const;

 private:
  static std::uint64_t key_of(int bi, int bj, int bk) {
    constexpr std::int64_t kHalf = 1 << 20;
    return static_cast<std::uint64_t>(bk + kHalf) << 42 | static_cast<std::uint64_t>(bj + kHalf) << 21 |
           static_cast<std::uint64_t>(bi + kHalf);
  }
  static std::array<int, 3> corner_of(std::uint64_t key) {
    constexpr int kHalf = 1 << 20;
    const auto part = [&](int shift) { return kSide * (static_cast<int>(key >> shift & 0x1fffff) - kHalf); };
    return {part(0), part(21), part(42)};
  }
  bool believed(const DepthMap& map, int x, int y) const;

  Eigen::Vector3d low_;
  double step_;
  const FitOpenOptions& options_;
  const Executor& executor_;
  std::unordered_map<std::uint64_t, std::uint32_t> seen_;    // pixels by block, before they are settled
  std::vector<std::uint64_t> keys_;                          // sorted
  std::unordered_map<std::uint64_t, std::uint32_t> number_;  // of a block
  std::vector<std::uint8_t> counts_;                         // by node and class
  std::vector<float> distance_;                              // by node, of `reach`: -1 inside to 1 outside
};

}  // namespace icefield
