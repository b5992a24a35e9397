#include "icefield/geometry/similarity.h"

#include <cmath>

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

namespace {

// Weighted means, and the spread about them.
struct Paired {
  double weight = 0, source_spread = 0, source_spread_in_plan = 0;
  Eigen::Vector3d source = Eigen::Vector3d::Zero(), target = Eigen::Vector3d::Zero();
  Eigen::Matrix3d covariance = Eigen::Matrix3d::Zero();
  Paired(std::span<const Eigen::Vector3d> from, std::span<const Eigen::Vector3d> to, std::span<const double> weights) {
    const auto w = [&](std::size_t i) { return weights.empty() ? 1.0 : weights[i]; };
    for (std::size_t i = 0; i < from.size(); ++i) weight += w(i), source += w(i) * from[i], target += w(i) * to[i];
    source /= weight;
    target /= weight;
    for (std::size_t i = 0; i < from.size(); ++i) {
      const Eigen::Vector3d d = from[i] - source;
      covariance += w(i) * (to[i] - target) * d.transpose();
      source_spread += w(i) * d.squaredNorm();
      source_spread_in_plan += w(i) * d.head<2>().squaredNorm();
    }
  }
};

}  // namespace

std::optional<Similarity> fit_similarity(std::span<const Eigen::Vector3d> source,
                                         std::span<const Eigen::Vector3d> target, std::span<const double> weights) {
  if (source.size() < 3 || target.size() != source.size()) return std::nullopt;
  const Paired pairs(source, target, weights);
  const auto [u, v, values] = singular_values(pairs.covariance);
  if (!(values[1] > 1e-9 * values[0])) return std::nullopt;  // one line, or one spot
  Eigen::Vector3d signs(1, 1, (u * v.transpose()).determinant() < 0 ? -1 : 1);
  Similarity fit;
  const Eigen::Matrix3d rotation = u * signs.asDiagonal() * v.transpose();
  fit.rotation = Eigen::Quaterniond(rotation).normalized();
  fit.scale = values.dot(signs) / pairs.source_spread;
  fit.translation = pairs.target - fit.scale * (rotation * pairs.source);
  return fit;
}

std::optional<Similarity> fit_level_similarity(std::span<const Eigen::Vector3d> source,
                                               std::span<const Eigen::Vector3d> target,
                                               std::span<const double> weights) {
  if (source.size() < 2 || target.size() != source.size()) return std::nullopt;
  const Paired pairs(source, target, weights);
  const Eigen::Matrix3d& c = pairs.covariance;
  const double along = c(0, 0) + c(1, 1), across = c(1, 0) - c(0, 1), reach = std::hypot(along, across);
  if (!(pairs.source_spread_in_plan > 1e-12 * pairs.source_spread) || !(reach > 0)) return std::nullopt;
  Similarity fit;
  fit.rotation = Eigen::Quaterniond(Eigen::AngleAxisd(std::atan2(across, along), Eigen::Vector3d::UnitZ()));
  fit.scale = (reach + c(2, 2)) / pairs.source_spread;
  if (!(fit.scale > 0)) return std::nullopt;
  fit.translation = pairs.target - fit.scale * (fit.rotation * pairs.source);
  return fit;
}

}  // namespace icefield
