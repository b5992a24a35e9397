// Exterior orientation.
#pragma once
#include <Eigen/Core>
#include <Eigen/Geometry>

namespace icefield {

// X_cam = R (X_world - centre), R the rotation matrix of `orientation`.
struct Pose {
  Eigen::Quaterniond orientation = Eigen::Quaterniond::Identity();  // world to camera, unit
  Eigen::Vector3d centre = Eigen::Vector3d::Zero();                 // of projection, in the world

  Eigen::Matrix3d rotation() const { return orientation.toRotationMatrix(); }
  Eigen::Vector3d to_camera(const Eigen::Vector3d& world) const { return orientation * (world - centre); }
  Eigen::Vector3d to_world(const Eigen::Vector3d& camera) const { return orientation.conjugate() * camera + centre; }
  Eigen::Vector3d viewing_direction() const { return orientation.conjugate() * Eigen::Vector3d::UnitZ(); }
};

// A pose at `centre` that looks at `target`, with the image's upper side towards `up`. `up` must not be parallel to the
// line of sight.
Pose look_at(const Eigen::Vector3d& centre, const Eigen::Vector3d& target, const Eigen::Vector3d& up);

// Angle of the rotation between two orientations, radians.
double rotation_angle(const Eigen::Quaterniond& a, const Eigen::Quaterniond& b);

// The rotation by the vector's length about its direction.
Eigen::Quaterniond rotation_from_vector(const Eigen::Vector3d& v);

// Cross-product matrix: skew(a) b = a x b.
Eigen::Matrix3d skew(const Eigen::Vector3d& v);

}  // namespace icefield
