// How well a block holds the middle of its photos.
#pragma once
#include <Eigen/Core>
#include <optional>
#include <span>

#include "icefield/adjust/adjust.h"

namespace icefield {

// Variances (block units squared) along x, y and z of a weighted sum of projection centres; `weights` by photo of the
// block, for each coordinate. From the normal equations of the block as it stands, for observations with
// `options.observation_sigma_px`; nothing where something stays undetermined. One factor and three solutions: far less
// than the covariances of all photos.
std::optional<Eigen::Vector3d> variance_of_centres(const Block& block, const AdjustOptions& options,
                                                   std::span<const Eigen::Vector3d> weights, const Executor& executor);

}  // namespace icefield
