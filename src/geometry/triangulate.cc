#include "icefield/geometry/triangulate.h"

#include <Eigen/Cholesky>
#include <Eigen/Eigenvalues>
#include <algorithm>
#include <cmath>

#include "src/geometry/decompositions.h"

namespace icefield {

std::optional<Eigen::Vector3d> triangulate(std::span<const Ray> rays) {
  // Start: the point nearest to all lines. Coordinates relative to the first centre keep the sums well scaled.
  const Eigen::Vector3d origin = rays[0].pose.centre;
  Eigen::Matrix3d normal = Eigen::Matrix3d::Zero();
  Eigen::Vector3d right = Eigen::Vector3d::Zero();
  for (const Ray& ray : rays) {
    const Eigen::Vector3d d = (ray.pose.orientation.conjugate() * ray.direction.homogeneous()).normalized();
    const Eigen::Matrix3d off_line = Eigen::Matrix3d::Identity() - d * d.transpose();
    normal += off_line;
    right += off_line * (ray.pose.centre - origin);
  }
  const auto [values, vectors] = spectrum(normal);
  // The smallest eigenvalue is about n sin^2 of the spread of directions.
  if (!(values[0] > 1e-9 * static_cast<double>(rays.size()))) return std::nullopt;
  Eigen::Vector3d point = vectors * (vectors.transpose() * right).cwiseQuotient(values) + origin;

  for (int iteration = 0; iteration < 10; ++iteration) {
    Eigen::Matrix3d hessian = Eigen::Matrix3d::Zero();
    Eigen::Vector3d gradient = Eigen::Vector3d::Zero();
    for (const Ray& ray : rays) {
      const Eigen::Matrix3d rotation = ray.pose.rotation();
      const Eigen::Vector3d p = rotation * (point - ray.pose.centre);
      if (!(p.z() > 0)) return std::nullopt;
      const double inv_z = 1 / p.z();
      Eigen::Matrix<double, 2, 3> d;
      d << inv_z, 0, -p.x() * inv_z * inv_z, 0, inv_z, -p.y() * inv_z * inv_z;
      const Eigen::Matrix<double, 2, 3> jacobian = d * rotation;
      const Eigen::Vector2d residual = ray.direction - p.hnormalized();
      hessian += jacobian.transpose() * jacobian;
      gradient += jacobian.transpose() * residual;
    }
    const Eigen::LDLT<Eigen::Matrix3d> factor(hessian);
    if (factor.info() != Eigen::Success || !factor.isPositive()) return std::nullopt;
    const Eigen::Vector3d step = factor.solve(gradient);
    if (!step.allFinite()) return std::nullopt;
    point += step;
    if (step.norm() < 1e-10 * (point - origin).norm()) break;
  }
  for (const Ray& ray : rays)
    if (!(ray.pose.to_camera(point).z() > 0)) return std::nullopt;
  return point;
}

double triangulation_angle(std::span<const Ray> rays, const Eigen::Vector3d& point) {
  double largest = 0;
  for (std::size_t i = 0; i < rays.size(); ++i)
    for (std::size_t j = i + 1; j < rays.size(); ++j) {
      const Eigen::Vector3d a = point - rays[i].pose.centre, b = point - rays[j].pose.centre;
      largest = std::max(largest, std::atan2(a.cross(b).norm(), a.dot(b)));
    }
  return largest;
}

}  // namespace icefield
