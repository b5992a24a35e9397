// A drawing of a facade: photos laid onto an upright plane, to scale.
#pragma once
#include <string>
#include <vector>

#include "icefield/io/tiled_cloud.h"
#include "icefield/survey/survey.h"

namespace icefield {

// What it is made of.
struct ElevationSource {
  const TiledCloud& cloud;  // in the coordinates of `frame`
  const Block& block;
  PhotoSource& photos;
  const WorldFrame& frame;
  std::vector<std::string> names;  // of the block's photos
  double gsd = 0;                  // of these, which cells have by default; 0: the spacing of the points
};

// Where its results go; an empty path is not written.
struct ElevationFiles {
  std::filesystem::path picture;  // GeoTIFF: red, green, blue, alpha
  std::filesystem::path relief;   // GeoTIFF: how far the surface stands out of the plane
};

// The plane goes through the corners by least squares, its normal to the side of the photos. Of three corners all of
// the cloud that lies near it is drawn, of more what lies within their outline. x of the pictures runs to the right and
// y up as one stands before the plane (of one that lies level: to the north), 0 at the middle of the corners; lengths
// in the plane are true. What stands before the plane hides what lies behind. Memory follows
// `executor.memory_bytes()`. Throws Error(usage) for fewer than three corners, corners on one line or cells too small,
// Error(computation) where no point lies near, and what make_orthomosaic throws; files that are not finished leave what
// was there.
ElevationReport make_elevation(const ElevationSource& source, const ElevationOptions& options,
                               const OrthomosaicSettings& settings, const ElevationFiles& files,
                               const Executor& executor, Monitor& monitor);

}  // namespace icefield
