#include "icefield/camera/pose.h"

#include <cmath>

namespace icefield {

Pose look_at(const Eigen::Vector3d& centre, const Eigen::Vector3d& target, const Eigen::Vector3d& up) {
  const Eigen::Vector3d z = (target - centre).normalized();
  const Eigen::Vector3d x = z.cross(up).normalized();
  Eigen::Matrix3d rotation;
  rotation << x.transpose(), z.cross(x).transpose(), z.transpose();
  Pose pose;
  pose.orientation = Eigen::Quaterniond(rotation).normalized();
  pose.centre = centre;
  return pose;
}

double rotation_angle(const Eigen::Quaterniond& a, const Eigen::Quaterniond& b) {
  const Eigen::Quaterniond d = a.conjugate() * b;
  return 2 * std::atan2(d.vec().norm(), std::abs(d.w()));
}

Eigen::Quaterniond rotation_from_vector(const Eigen::Vector3d& v) {
  const double angle = v.norm();
  // sin(angle / 2) / angle by its series near 0.
  const double factor = angle > 1e-6 ? std::sin(0.5 * angle) / angle : 0.5 - angle * angle / 48;
  return Eigen::Quaterniond(std::cos(0.5 * angle), factor * v.x(), factor * v.y(), factor * v.z());
}

Eigen::Matrix3d skew(const Eigen::Vector3d& v) {
  Eigen::Matrix3d m;
  m << 0, -v.z(), v.y(), v.z(), 0, -v.x(), -v.y(), v.x(), 0;
  return m;
}

}  // namespace icefield
