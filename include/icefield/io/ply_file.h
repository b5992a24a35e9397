// Point clouds as PLY.
#pragma once
#include <filesystem>
#include <memory>
#include <string>
#include <vector>

#include "icefield/cloud/cloud.h"
#include "icefield/io/cloud_file.h"

namespace icefield {

enum class PlyEncoding { ascii, binary };

// Properties: x y z (float, or double where the cloud has an origin other than 0), then those that the cloud carries:
// nx ny nz, red green blue, views (ushort), error (float), conflicts (ushort), fault (uchar), classification (uchar),
// class_confidence (uchar), gsd (float), counted (uchar). Throws Error(resource) when it cannot be written.
void write_ply(const std::filesystem::path& file, const PointCloud& cloud, PlyEncoding encoding = PlyEncoding::binary);

// Reads the vertices of an ASCII or little-endian PLY with these properties in any order and type, part by part; others
// are passed over. Coordinates are taken relative to the first point where they are far from 0. Throws Error(input)
// naming the file and the fault; a count in the header is believed only as far as the file is long.
class PlyReader {
 public:
  explicit PlyReader(const std::filesystem::path& file);
  ~PlyReader();
  PlyReader(const PlyReader&) = delete;
  PlyReader& operator=(const PlyReader&) = delete;

  // The origin is that of the first point once it has been read.
  const CloudContent& content() const;
  std::uint64_t points() const;
  // The next points, at most so many, in place of what `part` held; false when there are none left.
  bool read(PointCloud& part, std::size_t most = std::size_t{1} << 16);
  // To the point with this number; in a text only forwards.
  void go_to(std::uint64_t point);
  // Rows of the element `tile` behind the points of a binary PLY, its properties in the order of `names`; empty where
  // there is none, or it lacks one of them.
  std::vector<std::vector<double>> tile_table(const std::vector<std::string>& names);
  bool is_text() const;

 private:
  struct Source;
  std::unique_ptr<Source> source_;
};

// A PLY as another file, part by part; returns the number of points. `spacing` as in CloudContent.
std::uint64_t copy_cloud(const std::filesystem::path& ply, const std::filesystem::path& file, CloudFormat format,
                         double spacing = 0.001);

// All in one call.
PointCloud read_ply(const std::filesystem::path& file);

}  // namespace icefield
