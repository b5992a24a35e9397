// Point clouds as PLY.
#pragma once
#include <filesystem>

#include "icefield/cloud/cloud.h"

namespace icefield {

enum class PlyEncoding { ascii, binary };

// Properties: x y z (float, or double where the cloud has an origin other than 0), then those that the cloud carries:
// nx ny nz, red green blue, views (ushort), error (float), gsd (float), counted (uchar). Throws Error(resource) when it cannot be written.
void write_ply(const std::filesystem::path& file, const PointCloud& cloud, PlyEncoding encoding = PlyEncoding::binary);

// Reads the vertices of an ASCII or little-endian PLY with these properties in any order and type; others are passed
// over. Double coordinates are taken relative to the first point where they are far from 0. Throws Error(input) naming
// the file and the fault; a count in the header is believed only as far as the file is long.
PointCloud read_ply(const std::filesystem::path& file);

}  // namespace icefield
