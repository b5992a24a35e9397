// Points from two or more rays.
#pragma once
#include <Eigen/Core>
#include <optional>
#include <span>

#include "icefield/camera/pose.h"

namespace icefield {

// One view of a point: the pose and the direction (x, y, 1) in its camera frame.
struct Ray {
  Pose pose;
  Eigen::Vector2d direction;
};

// Least squares in the normalised image planes: linear start (Hartley and Sturm, "Triangulation", 1997, inhomogeneous),
// then Gauss-Newton on the reprojection errors. Two or more rays. Nothing when the rays are parallel to working
// precision or the point lies behind a view.
std::optional<Eigen::Vector3d> triangulate(std::span<const Ray> rays);

// Largest angle between any two rays to the point, radians.
double triangulation_angle(std::span<const Ray> rays, const Eigen::Vector3d& point);

}  // namespace icefield
