// Clouds from files, part by part, whatever their format.
#pragma once
#include <filesystem>
#include <memory>
#include <string>
#include <vector>

#include "icefield/io/cloud_file.h"

namespace icefield {

class CloudReader {
 public:
  virtual ~CloudReader() = default;
  CloudReader(const CloudReader&) = delete;
  CloudReader& operator=(const CloudReader&) = delete;

  // The origin is that of the first point once it has been read.
  virtual const CloudContent& content() const = 0;
  virtual std::uint64_t points() const = 0;
  // The next points, at most so many, in place of what `part` held; false when there are none left.
  virtual bool read(PointCloud& part, std::size_t most = std::size_t{1} << 16) = 0;
  // To the point with this number; in a text only forwards.
  virtual void go_to(std::uint64_t point) = 0;
  // Rows of the table of tiles behind the points, their properties in the order of `names`; empty where there is none,
  // or it lacks one of them.
  virtual std::vector<std::vector<double>> tile_table(const std::vector<std::string>& names);
  virtual bool is_text() const { return false; }

 protected:
  CloudReader() = default;
};

// A PLY or a LAS, told by its first bytes. Throws Error(input) naming the file and the fault.
std::unique_ptr<CloudReader> open_cloud(const std::filesystem::path& file);

// All in one call.
PointCloud read_cloud(const std::filesystem::path& file);

// A cloud as another file, part by part; returns the number of points. `spacing` as in CloudContent.
std::uint64_t copy_cloud(const std::filesystem::path& from, const std::filesystem::path& file, CloudFormat format,
                         double spacing = 0.001);

}  // namespace icefield
