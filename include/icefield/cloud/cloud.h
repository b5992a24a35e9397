// Point clouds.
#pragma once
#include <Eigen/Core>
#include <array>
#include <cstdint>
#include <vector>

namespace icefield {

// Arrays of one length, or empty where a cloud does not carry them. Positions are float, relative to a double origin.
struct PointCloud {
  Eigen::Vector3d origin = Eigen::Vector3d::Zero();
  std::vector<Eigen::Vector3f> positions;
  std::vector<Eigen::Vector3f> normals;                  // unit, towards the cameras
  std::vector<std::array<std::uint8_t, 3>> colours;      // red, green, blue
  std::vector<std::uint16_t> views;                      // photos that agree on the point
  std::vector<float> errors;                             // expected error of the position, in its units (one standard deviation)
  std::vector<float> gsd;                                // truth only: local ground sample distance
  std::vector<std::uint8_t> counted;                     // truth only: 1 where completeness counts the point

  std::size_t size() const { return positions.size(); }
  Eigen::Vector3d position(std::size_t i) const { return origin + positions[i].cast<double>(); }
  void append(const PointCloud& other, std::size_t i);   // one point with all that this cloud carries; same origin
};

// One point for each occupied cell of a grid of the given spacing (the one nearest to the cell's middle; the lower index
// where two tie). The order of the input is kept.
PointCloud thin(const PointCloud& cloud, double spacing);

}  // namespace icefield
