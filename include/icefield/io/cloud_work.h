// Work on clouds as files, however large: merging, cropping, cleaning, thinning, normals, tiles.
#pragma once
#include <array>
#include <filesystem>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "icefield/base/monitor.h"
#include "icefield/cloud/clean.h"
#include "icefield/io/cloud_file.h"

namespace icefield {

// What is done, in this order.
struct CloudWork {
  std::optional<Bounds> box;             // keep what lies in it
  std::vector<Eigen::Vector2d> outline;  // keep what lies in this polygon, in plan; empty: all
  bool outside = false;                  // keep what lies outside of box and outline instead
  Selection selection;                   // empty: all
  bool clean = false;
  CleanOptions cleaning;
  double thin = 0;       // one point for each cube of this size; 0: all
  bool normals = false;  // from each point's neighbours
  double tiles = 0;      // a file for each square of this size, OUTPUT_COLUMN_ROW; 0: one file
  // File for what cleaning takes out; empty: none.
  std::filesystem::path aside;
  CloudFormat format = CloudFormat::ply, aside_format = CloudFormat::ply;
  // A cloud of more points is worked on in parts of about so many that lie together, one after the other, each with
  // what lies around it. This bounds the memory: about 250 bytes for each of these points. Whether a point close to the
  // border of a part is an island may come out another way with other parts.
  std::size_t part_points = 4'000'000;
};

struct CloudWorkResult {
  std::uint64_t read = 0, in_box = 0, in_outline = 0, selected = 0, cleaned = 0, thinned = 0,
                written = 0;                    // points left
  std::array<std::uint64_t, kFaults> faults{};  // set aside, by Fault
  double spacing = 0;                           // of the points written, middle over the parts
  std::size_t parts = 0;                        // 1: all at once, in the order of the input
  std::vector<std::string> files;               // written
};

// Reads PLY files, in the frame of the first that has points, with what every one of them carries. Parts lie on the
// disk beside the output meanwhile. An output of several parts is a PLY with a table of tiles (tiled_cloud.h). Throws
// Error(input) for a file that cannot be read or has a coordinate system of its own, Error(computation) when no point
// is left, Error(resource) when the disk is full; no file is left half written. The same bytes for any number of
// threads.
CloudWorkResult work_on_clouds(std::span<const std::filesystem::path> inputs, const std::filesystem::path& output,
                               const CloudWork& work, const Executor& executor, Monitor& monitor);

}  // namespace icefield
