// What the linear fits and the robust ones share.
#pragma once
#include <Eigen/Core>
#include <span>

#include "icefield/geometry/two_view.h"
#include "src/geometry/robust.h"

namespace icefield {

// Moves the points' mean to 0 and their mean distance from it to the root of 2 (Hartley 1997).
inline Eigen::Matrix3d normalisation(std::span<const PointPair> pairs, Eigen::Vector2d PointPair::*which) {
  Eigen::Vector2d mean = Eigen::Vector2d::Zero();
  for (const PointPair& p : pairs) mean += p.*which;
  mean /= static_cast<double>(pairs.size());
  double distance = 0;
  for (const PointPair& p : pairs) distance += (p.*which - mean).norm();
  const double scale = distance > 0 ? std::sqrt(2.0) * static_cast<double>(pairs.size()) / distance : 1;
  Eigen::Matrix3d t;
  t << scale, 0, -scale * mean.x(), 0, scale, -scale * mean.y(), 0, 0, 1;
  return t;
}

// sampson_error2, for the loops over all pairs. The denominator is 0 only where every point agrees.
inline double sampson2(const Eigen::Matrix3d& m, const PointPair& pair) {
  const double x = pair.first.x(), y = pair.first.y(), u = pair.second.x(), v = pair.second.y();
  const double l0 = m(0, 0) * x + m(0, 1) * y + m(0, 2), l1 = m(1, 0) * x + m(1, 1) * y + m(1, 2),
               l2 = m(2, 0) * x + m(2, 1) * y + m(2, 2);
  const double k0 = m(0, 0) * u + m(1, 0) * v + m(2, 0), k1 = m(0, 1) * u + m(1, 1) * v + m(2, 1);
  const double numerator = u * l0 + v * l1 + l2;
  return numerator * numerator / (l0 * l0 + l1 * l1 + k0 * k0 + k1 * k1);
}

inline std::vector<PointPair> chosen(std::span<const PointPair> pairs, const std::vector<std::uint32_t>& indices) {
  std::vector<PointPair> out;
  out.reserve(indices.size());
  for (const std::uint32_t i : indices) out.push_back(pairs[i]);
  return out;
}

// Of the box around the points of the second view, the longer side; above 0.
inline double extent_of_second(std::span<const PointPair> pairs) {
  Eigen::AlignedBox2d box;
  for (const PointPair& p : pairs) box.extend(p.second);
  return pairs.empty() ? 1 : std::max(1e-12, box.sizes().maxCoeff());
}

inline RobustOptions robust_options(TwoViewOptions options, std::span<const PointPair> pairs) {
  if (!(options.max_error > 0)) options.max_error = 0.003 * extent_of_second(pairs);
  RobustOptions robust;
  robust.max_error2 = options.max_error * options.max_error;
  robust.confidence = options.confidence;
  robust.max_samples = options.max_samples;
  robust.min_samples = options.min_samples;
  robust.best_first = options.best_first;
  robust.least_share = options.least_share;
  return robust;
}

}  // namespace icefield
