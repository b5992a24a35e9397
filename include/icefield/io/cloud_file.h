// Clouds as files, written as a stream.
#pragma once
#include <filesystem>
#include <memory>
#include <string>

#include "icefield/cloud/cloud.h"

namespace icefield {

enum class CloudFormat {
  ply,  // binary, little-endian
  ply_ascii,
  las,     // LAS 1.4 (ASPRS, 2019), point format 7; views, normals and errors as extra bytes; the CRS as WKT
  las_12,  // LAS 1.2 (ASPRS, 2008), point format 2, for readers that know no later one: places and colours alone; the
           // CRS by its codes
  xyz,     // text: x y z, then red green blue, nx ny nz as far as there are any
};
// By the extension of a file name: .ply (or none), .las, .xyz or .txt. Throws Error(usage) for others.
CloudFormat cloud_format_of(const std::filesystem::path& file, bool ascii);

// What the points of a file carry, and the frame that they stand in.
struct CloudContent {
  bool normals = false, colours = false, views = false, gsd = false, counted = false, errors = false, conflicts = false,
       faults = false, classes = false, class_confidence = false;
  Eigen::Vector3d origin = Eigen::Vector3d::Zero();  // that positions in memory are relative to
  Datum datum;                                       // PLY has it in comments
  double spacing = 0.001;                            // of the points, about; LAS keeps coordinates to a hundredth of it
  bool tiled = false;       // PLY ends with a table of the tiles that were added (tiled_cloud.h)
  std::string fingerprint;  // of what the cloud was made from, in a survey; PLY has it in a comment; may be empty
};
CloudContent content_of(const PointCloud& cloud);

// Writes point after point; memory does not grow. The file is put in its place by finish(); without it nothing is left
// behind. Throws Error(resource) when the disk is full or the file cannot be written; Error(usage) for LAS coordinates
// so far from the origin that they do not fit its 32 bits.
class CloudWriter {
 public:
  CloudWriter(const std::filesystem::path& file, CloudFormat format, const CloudContent& content);
  ~CloudWriter();
  CloudWriter(const CloudWriter&) = delete;
  CloudWriter& operator=(const CloudWriter&) = delete;

  // All points of a cloud that carries what was announced (more is passed over). Positions count from the origin that
  // was announced, whatever the cloud says of its own.
  void add(const PointCloud& cloud);
  // A part of the cloud that lies together, its points `spacing` apart (0: not known): of a tiled PLY it can be found
  // again, coarse or fine. Points are brought into the order of in_levels.
  void add_tile(const PointCloud& cloud, double spacing);
  std::uint64_t points() const;
  void finish();

 private:
  struct Sink;
  std::unique_ptr<Sink> sink_;
};

// A whole cloud in one call.
void write_cloud(const std::filesystem::path& file, CloudFormat format, const PointCloud& cloud,
                 double spacing = 0.001);

}  // namespace icefield
