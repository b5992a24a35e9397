// Point clouds.
#pragma once
#include <Eigen/Core>
#include <Eigen/Geometry>
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
  std::vector<float> gsd;                                // truth only: local ground sample distance
  std::vector<std::uint8_t> counted;                     // truth only: 1 where completeness counts the point

  std::size_t size() const { return positions.size(); }
  Eigen::Vector3d position(std::size_t i) const { return origin + positions[i].cast<double>(); }
  void append(const PointCloud& other, std::size_t i);   // one point with all that this cloud carries; same origin
};

// A box, free to turn. Axes are the columns of the rotation; half_size along them.
struct Bounds {
  Eigen::Vector3d centre = Eigen::Vector3d::Zero();
  Eigen::Vector3d half_size = Eigen::Vector3d::Zero();
  Eigen::Quaterniond orientation = Eigen::Quaterniond::Identity();  // box to world

  bool contains(const Eigen::Vector3d& point) const {
    const Eigen::Vector3d p = orientation.conjugate() * (point - centre);
    return (p.cwiseAbs().array() <= half_size.array()).all();
  }
};

// One point for each occupied cell of a grid of the given spacing (the one nearest to the cell's middle; the lower index
// where two tie). The order of the input is kept.
PointCloud thin(const PointCloud& cloud, double spacing);

}  // namespace icefield
