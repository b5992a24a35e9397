// Point clouds as PLY.
#pragma once
#include <filesystem>
#include <memory>
#include <string>
#include <vector>

#include "icefield/cloud/cloud.h"
#include "icefield/io/cloud_reader.h"

namespace icefield {

enum class PlyEncoding { ascii, binary };

// Properties: x y z (float, or double where the cloud has an origin other than 0), then those that the cloud carries:
// nx ny nz, red green blue, views (ushort), error (float), conflicts (ushort), fault (uchar), classification (uchar),
// class_confidence (uchar), gsd (float), counted (uchar). Throws Error(resource) when it cannot be written.
void write_ply(const std::filesystem::path& file, const PointCloud& cloud, PlyEncoding encoding = PlyEncoding::binary);

// Reads the vertices of an ASCII or little-endian PLY with these properties in any order and type, part by part; others
// are passed over. Coordinates are taken relative to the first point where they are far from 0. Throws Error(input)
// naming the file and the fault; a count in the header is believed only as far as the file is long.
class PlyReader : public CloudReader {
 public:
  explicit PlyReader(const std::filesystem::path& file);
  ~PlyReader() override;
  const CloudContent& content() const override;
  std::uint64_t points() const override;
  bool read(PointCloud& part, std::size_t most = std::size_t{1} << 16) override;
  void go_to(std::uint64_t point) override;
  std::vector<std::vector<double>> tile_table(const std::vector<std::string>& names) override;
  bool is_text() const override;

 private:
  struct Source;
  std::unique_ptr<Source> source_;
};

// All in one call.
PointCloud read_ply(const std::filesystem::path& file);

}  // namespace icefield
