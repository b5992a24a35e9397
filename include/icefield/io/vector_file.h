// Lines and areas in plan as GeoPackage (OGC 12-128) or GeoJSON (RFC 7946), by GDAL.
#pragma once
#include <Eigen/Core>
#include <filesystem>
#include <map>
#include <string>
#include <vector>

#include "icefield/world/datum.h"

namespace icefield {

enum class ShapeKind : std::uint8_t { points, lines, areas };

struct Shape {
  std::vector<Eigen::Vector2d> places;  // a ring's first place is not repeated at its end
  bool closed = false;                  // of a line: a ring
  std::map<std::string, double> numbers;
  std::map<std::string, std::string> texts;
};

struct ShapeLayer {
  std::string name = "shapes";
  ShapeKind kind = ShapeKind::lines;
  Datum datum;
  std::vector<Shape> shapes;  // with the same numbers and texts, each
  std::string fingerprint;    // of what it was made from, in a survey; kept by GeoPackages
};

// By the extension: .gpkg or .geojson. GeoJSON has longitude and latitude on WGS 84 by its standard; where the datum
// has no CRS, it has the coordinates as they are. The file takes its place when it is whole. Throws Error(usage) for
// other extensions, Error(resource) where it cannot be written.
void write_shapes(const std::filesystem::path& file, const ShapeLayer& layer);

// The lines and areas of the first layer, of an area its outer ring; parts of one shape each by itself. Coordinates are
// brought into the CRS of `into` where both have one. Throws Error(input) naming the file and the fault.
ShapeLayer read_shapes(const std::filesystem::path& file, const Datum& into = {});

// Areas or lines in plan from any file that has them: GeoPackage, GeoJSON, or text with a corner X Y in each line
// (outline_file.h). Throws Error(input) where there is none.
std::vector<std::vector<Eigen::Vector2d>> read_plan_shapes(const std::filesystem::path& file, const Datum& into,
                                                           ShapeKind kind);

// What a GeoPackage says of what it was made from; empty where it says nothing or cannot be read.
std::string shapes_fingerprint(const std::filesystem::path& file);

}  // namespace icefield
