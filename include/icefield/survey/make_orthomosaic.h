// What the step `orthomosaic` does with heights and photos.
#pragma once
#include <optional>
#include <string>
#include <vector>

#include "icefield/survey/survey.h"

namespace icefield {

struct OrthomosaicSource {
  std::filesystem::path heights;  // GeoTIFF: a surface (DSM), or the ground (DTM) when that is asked for
  std::filesystem::path ground;   // the ground below, to tell what stands on it; may be empty
  const Block& block;             // in the frame
  PhotoSource& photos;
  const WorldFrame& frame;         // leads to the coordinates of the heights
  std::vector<std::string> names;  // of the block's photos
};

// Where its results go; an empty path is not written.
struct OrthomosaicFiles {
  std::filesystem::path picture;  // GeoTIFF: red, green, blue, alpha
  std::filesystem::path photos;  // GeoTIFF: the number of each cell's photo in the block, from 1; names in its metadata
  std::filesystem::path seams;   // GeoPackage: lines with the photos on both sides
};

// terrain/orthomosaic.h over files, window by window: windows follow `executor.memory_bytes()`; the photos that one of
// them needs are held whole beside it. Heights and frame are of one CRS. Of the report all but `block`, `file` and
// `fresh` is filled. Throws Error(usage) where both heights have not the same cells, Error(input) for a raster without
// heights, and what OrthomosaicMaker throws; a file that is not finished leaves what was there.
OrthomosaicReport make_orthomosaic(const OrthomosaicSource& source, const OrthomosaicSettings& settings,
                                   const OrthomosaicFiles& files, const std::string& fingerprint,
                                   const Executor& executor, Monitor& monitor);

}  // namespace icefield
