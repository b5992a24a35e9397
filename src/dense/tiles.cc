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
      const std::uint64_t count =
          counts[static_cast<std::size_t>(y) * GroundCells::kSide + static_cast<std::size_t>(x)];
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

constexpr double kBeyond = 0.01;  // of the points at either end: strays

}  // namespace

GroundCells::GroundCells(const Bounds& bounds, std::span<const Eigen::Vector3d> points)
    : to_box_(bounds.orientation.conjugate()) {
  const Eigen::Vector3d centre = to_box_ * bounds.centre;
  for (int axis = 0; axis < 2; ++axis) {
    low_[axis] = centre[axis] - bounds.half_size[axis];
    double high = centre[axis] + bounds.half_size[axis];
    std::vector<double> places;
    for (const Eigen::Vector3d& p : points)
      if (bounds.contains(p)) places.push_back(to_box_.row(axis).dot(p));
    if (!places.empty()) {
      std::sort(places.begin(), places.end());
      const auto at = [&](double share) {
        return places[static_cast<std::size_t>(share * static_cast<double>(places.size() - 1))];
      };
      const double first = at(kBeyond), last = at(1 - kBeyond), margin = 0.05 * (last - first);
      low_[axis] = std::max(low_[axis], first - margin), high = std::min(high, last + margin);
    }
    per_unit_[axis] = kSide / std::max(high - low_[axis], 1e-12 * bounds.half_size[axis]);
  }
}

std::vector<Tile> cut_in_tiles(const std::vector<std::uint64_t>& counts, std::uint64_t most) {
  std::vector<Tile> tiles;
  cut(counts, most, {0, 0, GroundCells::kSide, GroundCells::kSide}, tiles);
  return tiles;
}

std::vector<int> colours_of(const std::vector<Tile>& tiles) {
  std::vector<int> colours;
  for (std::size_t t = 0; t < tiles.size(); ++t) {
    std::vector<std::uint8_t> taken(t + 1, 0);
    for (std::size_t other = 0; other < t; ++other)
      if (tiles[other].left <= tiles[t].right && tiles[t].left <= tiles[other].right &&
          tiles[other].top <= tiles[t].bottom && tiles[t].top <= tiles[other].bottom)
        taken[static_cast<std::size_t>(colours[other])] = 1;
    colours.push_back(static_cast<int>(std::find(taken.begin(), taken.end(), 0) - taken.begin()));
  }
  return colours;
}

}  // namespace icefield
