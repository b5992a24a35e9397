#include "icefield/control/measure.h"

#include <Eigen/Geometry>
#include <cmath>
#include <numbers>

namespace icefield {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector3d;

constexpr double kDegrees = 180 / std::numbers::pi;

double along(const Matrix3d& covariance, const Vector3d& slope) {
  return std::sqrt(std::max(0.0, slope.dot(covariance * slope)));
}
// Of places on each other every direction is as good.
Vector3d direction(const Vector3d& v) {
  return v.norm() > 0 ? Vector3d(v.normalized()) : Vector3d(Vector3d::UnitX());
}

}  // namespace

SpotDistance distance_between(const LocatedSpot& first, const LocatedSpot& second) {
  SpotDistance distance;
  if (!first.known || !second.known) return distance;
  const Vector3d apart = second.position - first.position, flat(apart.x(), apart.y(), 0);
  const Matrix3d covariance = first.covariance + second.covariance;
  distance.length = {apart.norm(), along(covariance, direction(apart))};
  distance.plan = {flat.norm(), along(covariance, direction(flat))};
  distance.height = {apart.z(), along(covariance, Vector3d::UnitZ())};
  distance.slope_deg = kDegrees * std::atan2(apart.z(), flat.norm());
  return distance;
}

Measured angle_at(const LocatedSpot& corner, const LocatedSpot& first, const LocatedSpot& second) {
  if (!corner.known || !first.known || !second.known) return {};
  const Vector3d a = first.position - corner.position, b = second.position - corner.position;
  if (!(a.norm() > 0 && b.norm() > 0)) return {};
  const Vector3d axis = a.cross(b);
  // Along a line the angle grows with every error across it; any direction across stands for all.
  const Vector3d across = axis.norm() > 1e-9 * a.norm() * b.norm() ? Vector3d(axis.normalized()) : a.unitOrthogonal();
  const Vector3d by_a = a.cross(across) / a.squaredNorm(), by_b = across.cross(b) / b.squaredNorm();
  const double variance = by_a.dot(first.covariance * by_a) + by_b.dot(second.covariance * by_b) +
                          (by_a + by_b).dot(corner.covariance * (by_a + by_b));
  return {kDegrees * std::atan2(axis.norm(), a.dot(b)), kDegrees * std::sqrt(std::max(0.0, variance))};
}

}  // namespace icefield
