// Point clouds as LAS (ASPRS, "LAS specification 1.4 R15", 2019).
#pragma once
#include "icefield/io/cloud_reader.h"

namespace icefield {

// Versions 1.0 to 1.4, point formats 0 to 10: places, colours (16 bits come down to 8), classes, and of extra bytes
// those that Icefield writes: views, errors, conflicts, faults, class confidence, normals. Points that the file
// withholds have class noise. The CRS comes from its WKT or, in older files, its codes. Throws Error(input) naming the
// file and the fault; a count in the header is believed only as far as the file is long. Compressed files (LAZ) are not
// read.
class LasReader : public CloudReader {
 public:
  explicit LasReader(const std::filesystem::path& file);
  ~LasReader() override;
  const CloudContent& content() const override;
  std::uint64_t points() const override;
  bool read(PointCloud& part, std::size_t most = std::size_t{1} << 16) override;
  void go_to(std::uint64_t point) override;

 private:
  struct Source;
  std::unique_ptr<Source> source_;
};

}  // namespace icefield
