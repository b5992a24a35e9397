// The box or the outline outside which nothing is reconstructed.
#pragma once
#include <Eigen/Core>
#include <Eigen/Geometry>
#include <span>
#include <vector>

#include "icefield/block/block.h"

namespace icefield {

// Whether a place in plan lies within a polygon (even-odd rule; its corners in order, the last joined to the first).
bool within_outline(const Eigen::Vector2d& place, std::span<const Eigen::Vector2d> outline);

// A box, free to turn, and within it a polygon in plan where one is given. Axes are the columns of the rotation;
// half_size along them.
struct Bounds {
  Eigen::Vector3d centre = Eigen::Vector3d::Zero();
  Eigen::Vector3d half_size = Eigen::Vector3d::Zero();
  Eigen::Quaterniond orientation = Eigen::Quaterniond::Identity();  // box to world
  std::vector<Eigen::Vector2d> outline{};  // corners X Y, the last joined to the first; empty: the box alone

  bool contains(const Eigen::Vector3d& point) const {
    const Eigen::Vector3d p = orientation.conjugate() * (point - centre);
    return (p.cwiseAbs().array() <= half_size.array()).all() &&
           (outline.empty() || within_outline(point.head<2>(), outline));
  }
  // Whether the half-line from `start` along `direction` meets the box, and there what lies above and below the
  // outline.
  bool meets(const Eigen::Vector3d& start, const Eigen::Vector3d& direction) const;
};

// A box by its centre x y z, its size x y z and, where there is a seventh number, its turn about the vertical in
// degrees. Throws Error(usage) for another count of numbers, and for a box without volume.
Bounds upright_box(std::span<const double> numbers);

// The box around the subject: where the photos look and tie points crowd, upright, with room for what lies between the
// points. Found by the share of photos that see a place, so that a horizon behind the subject does not count. Of no
// size for a block without points.
Bounds automatic_bounds(const Block& block);

// The outline, as high as the block's tie points within it reach, with room as above. Of no size when there are none.
Bounds bounds_within(std::span<const Eigen::Vector2d> outline, const Block& block);

// Turn about the vertical, degrees, of a box that stands upright.
double turn_deg(const Bounds& bounds);

// Whether any tie point of the block lies within.
bool holds_points(const Bounds& bounds, const Block& block);

}  // namespace icefield
