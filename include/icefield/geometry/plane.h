// A plane, and the side that its normal points to.
#pragma once
#include <Eigen/Core>

namespace icefield {

struct Plane {
  Eigen::Vector3d normal = Eigen::Vector3d::UnitZ();  // unit
  double distance = 0;                                // of the plane from the origin along the normal
  double height_of(const Eigen::Vector3d& p) const { return normal.dot(p) - distance; }
};

}  // namespace icefield
