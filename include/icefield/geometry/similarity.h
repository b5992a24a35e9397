// Seven-parameter transformation between frames.
#pragma once
#include <Eigen/Core>
#include <Eigen/Geometry>
#include <optional>
#include <span>

#include "icefield/camera/pose.h"

namespace icefield {

// target = scale * rotation * source + translation
struct Similarity {
  double scale = 1;
  Eigen::Quaterniond rotation = Eigen::Quaterniond::Identity();
  Eigen::Vector3d translation = Eigen::Vector3d::Zero();

  Eigen::Vector3d operator*(const Eigen::Vector3d& p) const { return scale * (rotation * p) + translation; }
  Pose operator*(const Pose& pose) const;
  Similarity inverse() const;
};

// Least squares over pairs of points (Umeyama, "Least-squares estimation of transformation parameters between two point
// patterns", 1991), each pair with its weight where any are given. Nothing for fewer than three pairs or points on one
// line.
std::optional<Similarity> fit_similarity(std::span<const Eigen::Vector3d> source,
                                         std::span<const Eigen::Vector3d> target, std::span<const double> weights = {});

// The same where both frames have z up: a turn about it, a scale and a shift. Nothing for fewer than two pairs, or
// where they lie above each other.
std::optional<Similarity> fit_level_similarity(std::span<const Eigen::Vector3d> source,
                                               std::span<const Eigen::Vector3d> target,
                                               std::span<const double> weights = {});

}  // namespace icefield
