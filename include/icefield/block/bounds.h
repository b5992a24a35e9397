// The box outside which nothing is reconstructed.
#pragma once
#include <Eigen/Core>
#include <Eigen/Geometry>

#include "icefield/block/block.h"

namespace icefield {

// A box, free to turn. Axes are the columns of the rotation; half_size along them.
struct Bounds {
  Eigen::Vector3d centre = Eigen::Vector3d::Zero();
  Eigen::Vector3d half_size = Eigen::Vector3d::Zero();
  Eigen::Quaterniond orientation = Eigen::Quaterniond::Identity();  // box to world

  bool contains(const Eigen::Vector3d& point) const {
    const Eigen::Vector3d p = orientation.conjugate() * (point - centre);
    return (p.cwiseAbs().array() <= half_size.array()).all();
  }
  // Whether the half-line from `start` along `direction` meets the box.
  bool meets(const Eigen::Vector3d& start, const Eigen::Vector3d& direction) const;
};

// The box around the subject: where the photos look and tie points crowd, upright, with room for what lies between the
// points. Found by the share of photos that see a place, so that a horizon behind the subject does not count.
Bounds automatic_bounds(const Block& block);

// Turn about the vertical, degrees, of a box that stands upright.
double turn_deg(const Bounds& bounds);

// Whether any tie point of the block lies within.
bool holds_points(const Bounds& bounds, const Block& block);

}  // namespace icefield
