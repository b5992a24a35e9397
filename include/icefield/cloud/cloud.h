// Point clouds.
#pragma once
#include <Eigen/Core>
#include <array>
#include <cstdint>
#include <span>
#include <vector>

#include "icefield/base/bytes.h"
#include "icefield/base/parallel.h"
#include "icefield/block/selection.h"

namespace icefield {

// Classes of points, by the standard numbers of LAS 1.4 (ASPRS, "LAS specification 1.4 R15", 2019, table 17).
enum class PointClass : std::uint8_t {
  never = 0,  // classified
  other = 1,  // classified as none of these
  ground = 2,
  low_vegetation = 3,
  medium_vegetation = 4,
  high_vegetation = 5,
  building = 6,
  noise = 7,
  water = 9,
};
const char* describe(PointClass of);

// Arrays of one length, or empty where a cloud does not carry them. Positions are float, relative to a double origin,
// so that national coordinates lose nothing.
struct PointCloud {
  Eigen::Vector3d origin = Eigen::Vector3d::Zero();
  Datum datum;  // what coordinates mean, the origin added
  std::vector<Eigen::Vector3f> positions;
  std::vector<Eigen::Vector3f> normals;              // unit, towards the cameras
  std::vector<std::array<std::uint8_t, 3>> colours;  // red, green, blue
  std::vector<std::uint16_t> views;                  // photos that agree on the point
  std::vector<float> errors;                   // expected error of the position, in its units (one standard deviation)
  std::vector<std::uint16_t> conflicts;        // photos that see surface behind the point
  std::vector<std::uint8_t> faults;            // why cleaning took it out, as Fault (clean.h)
  std::vector<std::uint8_t> classes;           // what it is of, as PointClass
  std::vector<std::uint8_t> class_confidence;  // how sure that is, 0 to 100
  std::vector<float> gsd;                      // truth only: local ground sample distance
  std::vector<std::uint8_t> counted;           // truth only: 1 where completeness counts the point

  std::size_t size() const { return positions.size(); }
  Eigen::Vector3d position(std::size_t i) const { return origin + positions[i].cast<double>(); }
  void append(const PointCloud& other, std::size_t i);  // one point with all that this cloud carries; same origin
  // All of another one, of the same origin; a cloud that is still empty takes over what that one carries.
  void append(const PointCloud& other);
  Bytes to_bytes() const;
  static PointCloud from_bytes(std::span<const std::byte> bytes);  // throws Error(input) for anything else
};

// The points with these indices, in this order, with all that the cloud carries.
PointCloud pick(const PointCloud& cloud, std::span<const std::uint32_t> indices);

// Points inside a box or, in plan, a polygon; or those outside.
PointCloud crop(const PointCloud& cloud, const Bounds& box, bool outside = false);
PointCloud crop(const PointCloud& cloud, std::span<const Eigen::Vector2d> outline, bool outside = false);
// What the selection keeps.
PointCloud crop(const PointCloud& cloud, const Selection& selection);

// One point for each occupied cell of a grid of the given spacing (the one nearest to the cell's middle; the lower
// index where two tie). The order of the input is kept.
PointCloud thin(const PointCloud& cloud, double spacing);

// An order of a cloud's points, each beginning of which shows all of it, ever finer: up to `end[l]` stands one for
// each occupied cube of level l. The last level is the whole cloud.
inline constexpr int kCloudLevels = 7;
struct CloudLevels {
  std::vector<std::uint32_t> order;
  std::array<std::uint64_t, kCloudLevels> end{};
};
// The size of a level's cubes, where points of the whole cloud lie `spacing` apart.
inline double level_spacing(double spacing, int level) {
  return spacing * static_cast<double>(1 << (kCloudLevels - 1 - level));
}
CloudLevels in_levels(const PointCloud& cloud, double spacing);

// All points of all clouds, in the frame of the first, with what every one of them carries.
PointCloud merge(std::span<const PointCloud> clouds);

// The occupied squares of a raster in plan, by rows; the raster's lines lie on multiples of `size`.
struct CloudTile {
  std::int64_t column = 0, row = 0;
  PointCloud cloud;
};
std::vector<CloudTile> split(const PointCloud& cloud, double size);

// Normals of the planes through each point's nearest neighbours (least squares); they point to the side that the
// normals before pointed to or, where there were none, along `up`. Places with fewer than three points get `up`. The
// same for any number of threads.
void estimate_normals(PointCloud& cloud, int neighbours, const Eigen::Vector3f& up, const Executor& executor);

// From each point to the nearest of `other` (which holds one at least), block units.
std::vector<double> distances(const PointCloud& cloud, const PointCloud& other, const Executor& executor);

// Middle distance of points to their nearest neighbour, from at most a few thousand of them; 0 for fewer than two
// points.
double typical_spacing(const PointCloud& cloud);

}  // namespace icefield
