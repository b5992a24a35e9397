#include "icefield/geometry/similarity.h"

#include "src/geometry/decompositions.h"

namespace icefield {

Pose Similarity::operator*(const Pose& pose) const {
  Pose moved;
  moved.orientation = (pose.orientation * rotation.conjugate()).normalized();
  moved.centre = *this * pose.centre;
  return moved;
}

Similarity Similarity::inverse() const {
  Similarity inverted;
  inverted.scale = 1 / scale;
  inverted.rotation = rotation.conjugate();
  inverted.translation = -(inverted.scale * (inverted.rotation * translation));
  return inverted;
}

std::optional<Similarity> fit_similarity(std::span<const Eigen::Vector3d> source,
                                         std::span<const Eigen::Vector3d> target) {
  const std::size_t count = source.size();
  if (count < 3 || target.size() != count) return std::nullopt;
  Eigen::Vector3d source_mean = Eigen::Vector3d::Zero(), target_mean = Eigen::Vector3d::Zero();
  for (std::size_t i = 0; i < count; ++i) source_mean += source[i], target_mean += target[i];
  source_mean /= static_cast<double>(count);
  target_mean /= static_cast<double>(count);
  Eigen::Matrix3d covariance = Eigen::Matrix3d::Zero();
  double variance = 0;
  for (std::size_t i = 0; i < count; ++i) {
    covariance += (target[i] - target_mean) * (source[i] - source_mean).transpose();
    variance += (source[i] - source_mean).squaredNorm();
  }
  const auto [u, v, values] = singular_values(covariance);
  if (!(values[1] > 1e-9 * values[0])) return std::nullopt;  // one line, or one spot
  Eigen::Vector3d signs(1, 1, (u * v.transpose()).determinant() < 0 ? -1 : 1);
  Similarity fit;
  const Eigen::Matrix3d rotation = u * signs.asDiagonal() * v.transpose();
  fit.rotation = Eigen::Quaterniond(rotation).normalized();
  fit.scale = values.dot(signs) / variance;
  fit.translation = target_mean - fit.scale * (rotation * source_mean);
  return fit;
}

}  // namespace icefield
