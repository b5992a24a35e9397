// What a free block can do without any residual changing: move, turn, grow.
#pragma once
#include <Eigen/Core>

#include "src/adjust/normal_equations.h"

namespace icefield {

using Matrix3x7 = Eigen::Matrix<double, 3, 7>;

// The change of a place by a shift (3), a turn about the origin (3) and a growth.
inline Matrix3x7 gauge_of_place(const Eigen::Vector3d& place) {
  Matrix3x7 g;
  g << Eigen::Matrix3d::Identity(), -skew(place), place;
  return g;
}

// The change of the camera system's unknowns, a row each.
Eigen::MatrixXd gauge_of_system(const NormalEquations& equations, const AdjustState& state);

// Adds to the system what holds one photo's pose and, unless scale bars do, the distance to another: just what fixes
// the frame. Returns false for fewer than two photos.
bool hold_frame(NormalEquations& equations, const AdjustState& state, bool scale_is_held);

}  // namespace icefield
