// Rasters in plan as GeoTIFF (OGC 19-008, "OGC GeoTIFF Standard 1.1", 2019), cloud-optimised (OGC 21-026, "OGC Cloud
// Optimized GeoTIFF Standard", 2023), by GDAL.
#pragma once
#include <filesystem>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "icefield/photo/image.h"
#include "icefield/terrain/grid.h"
#include "icefield/world/datum.h"

namespace icefield {

enum class RasterValues : std::uint8_t {
  heights,  // float; what is not a number is no data
  numbers,  // whole, 0 to 65535; 0 is no data
  picture,  // red, green, blue, alpha of 8 bits; alpha 0 is no data
};

struct RasterContent {
  GridFrame frame;
  Datum datum;
  RasterValues values = RasterValues::heights;
  std::vector<std::string> bands;            // what each is, as "height, m"
  std::map<std::string, std::string> notes;  // what else is to be known, in the file's metadata
  std::string fingerprint;                   // of what it was made from, in a survey; may be empty
};

enum class RasterPacking : std::uint8_t {
  whole,  // each value as it is
  lossy,  // pictures as JPEG, which takes a tenth of the room
};

// Written window by window beside its place; with finish() it gets overviews and takes its place, and without it
// nothing is left behind and what was there before stays. Throws Error(resource) when the disk is full or the folder
// cannot be written to.
class RasterWriter {
 public:
  RasterWriter(const std::filesystem::path& file, const RasterContent& content,
               RasterPacking packing = RasterPacking::whole);
  ~RasterWriter();
  RasterWriter(const RasterWriter&) = delete;
  RasterWriter& operator=(const RasterWriter&) = delete;

  // All bands of a window whose first cell this is, as channels.
  void write(int column, int row, const ImageF& values);
  void write(int column, int row, const Image<std::uint16_t>& values);
  void write(int column, int row, const ImageU8& values);
  // One more of RasterContent::notes, known only now.
  void note(const std::string& name, const std::string& value);
  void finish();

 private:
  struct Sink;
  std::unique_ptr<Sink> sink_;
};

// Any raster that GDAL's GeoTIFF reader reads, whose rows run west to east and north to south in square cells. Throws
// Error(input) naming the file and the fault.
class RasterReader {
 public:
  explicit RasterReader(const std::filesystem::path& file);
  ~RasterReader();
  RasterReader(const RasterReader&) = delete;
  RasterReader& operator=(const RasterReader&) = delete;

  const RasterContent& content() const;
  // Of one band; NaN where there is no data. Windows that reach beyond the raster throw Error(usage).
  ImageF read(int column, int row, int width, int height, int band = 0) const;
  ImageF read(int band = 0) const;
  // All bands as bytes.
  ImageU8 read_picture(int column, int row, int width, int height) const;
  // The same of the whole, with no more than so many cells in the longer direction: from the overviews, means.
  ImageF overview(int most, int band = 0) const;
  // Values of single cells in place of means, for what is no quantity.
  ImageF nearest_overview(int most, int band = 0) const;
  ImageU8 picture_overview(int most) const;

 private:
  struct Source;
  std::unique_ptr<Source> source_;
};

// A picture raster as PNG (with its empty cells) or JPEG (these are white), by the extension, with a world file beside
// it (.pgw, .jgw: size of the cells and place of the first one's middle) and, where there is a CRS, its name in a .prj
// (OGC 01-009). Throws Error(usage) for other extensions and for more cells than the format holds, Error(input) for a
// raster that is no picture, Error(resource) where it cannot be written. Returns the files.
std::vector<std::filesystem::path> write_world_picture(const std::filesystem::path& raster,
                                                       const std::filesystem::path& file);

// What the file says of what it was made from; empty where it says nothing or cannot be read.
std::string raster_fingerprint(const std::filesystem::path& file);

}  // namespace icefield
