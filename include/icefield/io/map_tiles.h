// A picture in plan as a folder of small pictures for web maps, with a page that shows them from disk.
#pragma once
#include <filesystem>
#include <string>

#include "icefield/base/monitor.h"
#include "icefield/base/parallel.h"

namespace icefield {

struct MapTiles {
  int lowest = 0, highest = 0;  // levels
  std::uint64_t tiles = 0;      // that hold something
  bool on_earth = false;        // false: the raster has no CRS, and tiles count in its own coordinates
};

// FOLDER/LEVEL/COLUMN/ROW.png of 256 x 256, columns from west and rows from north. With a CRS in the square net of the
// web Mercator projection (EPSG:3857): level 0 is the earth. Without one level 0 holds the whole raster. The finest
// level is the first whose pixels are no larger than the raster's cells. tiles.json says what there is (TileJSON
// 3.0.0), index.html shows it. The folder is there whole or not at all; one that is there and holds anything else than
// such tiles is refused. The same for any number of threads. Throws Error(usage) for a raster that makes more than ten
// million tiles, Error(input) for one that is no picture, Error(resource) where it cannot be written,
// Error(interrupted).
MapTiles write_map_tiles(const std::filesystem::path& raster, const std::filesystem::path& folder,
                         const std::string& title, const Executor& executor = Executor(),
                         Monitor& monitor = silent_monitor());

}  // namespace icefield
