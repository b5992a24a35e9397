#include "icefield/io/tiled_cloud.h"

#include <algorithm>
#include <cmath>
#include <limits>

#include "icefield/base/error.h"
#include "icefield/io/cloud_reader.h"
#include "src/io/tile_table.h"

namespace icefield {
namespace {

constexpr std::size_t kPiece = 1'000'000;  // points, of a file without a table

TiledCloud::Tile tile_of_row(const std::vector<double>& row) {
  TiledCloud::Tile tile;
  tile.first = static_cast<std::uint64_t>(std::max(0.0, row[0]));
  tile.spacing = row[1];
  tile.low = {row[2], row[3], row[4]}, tile.high = {row[5], row[6], row[7]};
  for (std::size_t l = 0; l < kCloudLevels; ++l) tile.end[l] = static_cast<std::uint64_t>(std::max(0.0, row[8 + l]));
  return tile;
}

// The table of another program, or damaged, is not believed.
bool sound(const std::vector<TiledCloud::Tile>& tiles, std::uint64_t points) {
  std::uint64_t next = 0;
  for (const TiledCloud::Tile& tile : tiles) {
    if (tile.first != next || !std::is_sorted(tile.end.begin(), tile.end.end()) || tile.points() > points - next ||
        !tile.low.allFinite() || !tile.high.allFinite() || !(tile.spacing >= 0))
      return false;
    next += tile.points();
  }
  return next == points;
}

std::vector<TiledCloud::Tile> look_through(CloudReader& reader, std::size_t piece) {
  std::vector<TiledCloud::Tile> tiles;
  PointCloud part;
  std::uint64_t first = 0;
  while (reader.read(part, piece)) {
    TiledCloud::Tile tile;
    tile.first = first;
    tile.low = Eigen::Vector3d::Constant(std::numeric_limits<double>::infinity()), tile.high = -tile.low;
    for (std::size_t i = 0; i < part.size(); ++i)
      tile.low = tile.low.cwiseMin(part.position(i)), tile.high = tile.high.cwiseMax(part.position(i));
    tile.end.back() = part.size();
    first += part.size();
    tiles.push_back(tile);
  }
  return tiles;
}

}  // namespace

int TiledCloud::Tile::level_for(double size) const {
  int level = kCloudLevels - 1;
  if (!(spacing > 0)) return level;
  while (level > 0 && level_spacing(spacing, level - 1) <= size) --level;
  return level;
}

TiledCloud::TiledCloud(const std::filesystem::path& file) : file_(file) {
  const auto opened = open_cloud(file);
  CloudReader& reader = *opened;
  points_ = reader.points();
  for (const std::vector<double>& row : reader.tile_table(tile_properties())) tiles_.push_back(tile_of_row(row));
  has_levels_ = !tiles_.empty() && sound(tiles_, points_);
  if (!has_levels_) tiles_ = look_through(reader, reader.is_text() ? std::numeric_limits<std::size_t>::max() : kPiece);
  reader.go_to(0);
  PointCloud first;
  if (!reader.is_text()) reader.read(first, 1);  // with it the origin is known
  content_ = reader.content();
}

PointCloud TiledCloud::read(std::size_t tile, int level) const {
  const auto opened = open_cloud(file_);
  CloudReader& reader = *opened;
  PointCloud part;
  if (reader.points() != points_ || reader.content().fingerprint != content_.fingerprint)
    throw Error(ErrorKind::input, file_.string(), "was replaced while it was read", "run the same command again");
  if (!reader.is_text()) {
    reader.read(part, 1);
    reader.go_to(tiles_[tile].first);
  }
  const std::uint64_t count = tiles_[tile].end[static_cast<std::size_t>(level)];
  reader.read(part, static_cast<std::size_t>(count));
  return part;
}

PointCloud TiledCloud::read(const Bounds& box, double size) const {
  PointCloud all;
  all.origin = content_.origin, all.datum = content_.datum;
  // The least upright box around the turned one.
  const Eigen::Vector3d reach = box.orientation.toRotationMatrix().cwiseAbs() * box.half_size;
  for (std::size_t t = 0; t < tiles_.size(); ++t) {
    const Tile& tile = tiles_[t];
    if (((tile.low - box.centre - reach).array() > 0).any() || ((box.centre - reach - tile.high).array() > 0).any())
      continue;
    all.append(crop(read(t, size > 0 ? tile.level_for(size) : kCloudLevels - 1), box));
  }
  return all;
}

PointCloud TiledCloud::overview(std::uint64_t most) const {
  if (!has_levels_) return one_in(most > 0 ? (points_ + most - 1) / most : points_);
  const auto points_at = [&](int level) {
    std::uint64_t sum = 0;
    for (const Tile& tile : tiles_) sum += tile.end[static_cast<std::size_t>(level)];
    return sum;
  };
  int level = kCloudLevels - 1;
  while (level > 0 && points_at(level) > most) --level;
  std::uint64_t room = most - std::min(most, points_at(level));
  PointCloud all;
  all.origin = content_.origin, all.datum = content_.datum;
  for (std::size_t t = 0; t < tiles_.size(); ++t) {
    const auto finer = static_cast<std::size_t>(std::min(level + 1, kCloudLevels - 1));
    const std::uint64_t more = tiles_[t].end[finer] - tiles_[t].end[static_cast<std::size_t>(level)];
    const bool fits = more <= room;
    if (fits) room -= more;
    all.append(read(t, fits ? static_cast<int>(finer) : level));
  }
  return all;
}

PointCloud TiledCloud::one_in(std::uint64_t step) const {
  if (step <= 1 && tiles_.size() == 1) return read(0);
  PointCloud all;
  all.origin = content_.origin, all.datum = content_.datum;
  for (std::size_t t = 0; t < tiles_.size(); ++t) {
    const PointCloud part = read(t);
    for (std::uint64_t i = (step - tiles_[t].first % step) % step; i < part.size(); i += step)
      all.append(part, static_cast<std::size_t>(i));
  }
  return all;
}

}  // namespace icefield
