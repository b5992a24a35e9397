// The inverse of rotation_from_vector.
#pragma once
#include <Eigen/Geometry>
#include <cmath>

namespace icefield {

inline Eigen::Vector3d rotation_vector(const Eigen::Quaterniond& q) {
  const double sign = q.w() < 0 ? -1 : 1, s = q.vec().norm();
  const double scale = s < 1e-12 ? 2 : 2 * std::atan2(s, sign * q.w()) / s;
  return sign * scale * q.vec();
}

}  // namespace icefield
