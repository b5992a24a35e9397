// A cloud in a file, of which parts are read: what lies in a box, as finely as it is asked for.
#pragma once
#include <array>
#include <cstdint>
#include <filesystem>
#include <vector>

#include "icefield/cloud/cloud.h"
#include "icefield/io/cloud_file.h"

namespace icefield {

// A PLY with a table of tiles (docs/formats.md), as `densify` writes it. One without the table, and a LAS, is looked
// through once and taken in pieces of a million points that have only their last level; a text in one piece. May be
// read from several threads.
class TiledCloud {
 public:
  struct Tile {
    std::uint64_t first = 0;                        // of the points of the file
    double spacing = 0;                             // of its points; 0: not known
    Eigen::Vector3d low, high;                      // all its points lie within, origin included
    std::array<std::uint64_t, kCloudLevels> end{};  // points up to each level
    std::uint64_t points() const { return end.back(); }
    // The coarsest level whose cubes are no larger than this; the last where the tile has none.
    int level_for(double size) const;
  };

  // Throws Error(input) naming the file and the fault.
  explicit TiledCloud(const std::filesystem::path& file);
  const std::filesystem::path& file() const { return file_; }
  const CloudContent& content() const { return content_; }
  std::uint64_t points() const { return points_; }
  const std::vector<Tile>& tiles() const { return tiles_; }

  // Points of a tile up to a level. Throws Error(input) for a file that has changed meanwhile.
  PointCloud read(std::size_t tile, int level = kCloudLevels - 1) const;
  // Points of all tiles within the box, at levels for the size; with 0 all of them.
  PointCloud read(const Bounds& box, double size = 0) const;
  // Of the whole cloud no more than so many points, in levels as fine as they can be: the same for each tile but for
  // what is left, which goes to the first ones. Of a file without the table one point in so many. Where even the
  // coarsest levels hold more, these.
  PointCloud overview(std::uint64_t most) const;

 private:
  PointCloud one_in(std::uint64_t step) const;  // each so many-th point of the file

  std::filesystem::path file_;
  CloudContent content_;
  std::uint64_t points_ = 0;
  bool has_levels_ = false;
  std::vector<Tile> tiles_;
};

}  // namespace icefield
