#include "src/dense/tiles.h"

#include <algorithm>

namespace icefield {
namespace {

void cut(const std::vector<std::uint64_t>& counts, std::uint64_t most, const Tile& tile, std::vector<Tile>& tiles) {
  const int width = tile.right - tile.left, height = tile.bottom - tile.top;
  const bool across = width >= height;
  std::vector<std::uint64_t> lines(static_cast<std::size_t>(across ? width : height), 0);
  std::uint64_t sum = 0;
  for (int y = tile.top; y < tile.bottom; ++y)
    for (int x = tile.left; x < tile.right; ++x) {
      const std::uint64_t count = counts[static_cast<std::size_t>(y) * GroundCells::kSide + static_cast<std::size_t>(x)];
      lines[static_cast<std::size_t>(across ? x - tile.left : y - tile.top)] += count;
      sum += count;
    }
  if (sum == 0) return;
  if (sum <= most || lines.size() == 1) {
    tiles.push_back(tile);
    return;
  }
  std::size_t first = 0;
  std::uint64_t before = 0;
  while (first + 1 < lines.size() && (first == 0 || 2 * (before + lines[first]) <= sum)) before += lines[first++];
  Tile one = tile, two = tile;
  (across ? one.right : one.bottom) = (across ? tile.left : tile.top) + static_cast<int>(first);
  (across ? two.left : two.top) = across ? one.right : one.bottom;
  cut(counts, most, one, tiles);
  cut(counts, most, two, tiles);
}

}  // namespace

std::vector<Tile> cut_in_tiles(const std::vector<std::uint64_t>& counts, std::uint64_t most) {
  std::vector<Tile> tiles;
  cut(counts, most, {0, 0, GroundCells::kSide, GroundCells::kSide}, tiles);
  return tiles;
}

}  // namespace icefield
