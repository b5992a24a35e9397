#include "src/adjust/gauge.h"

namespace icefield {

Eigen::MatrixXd gauge_of_system(const NormalEquations& equations, const AdjustState& state) {
  const Unknowns& unknowns = equations.unknowns();
  Eigen::MatrixXd gauge = Eigen::MatrixXd::Zero(equations.matrix().unknowns(), 7);
  for (std::size_t i = 0; i < state.poses.size(); ++i) {
    if (unknowns.photo_node[i] < 0) continue;
    const int at = equations.matrix().offsets[static_cast<std::size_t>(unknowns.photo_node[i])];
    // A turn d of the world turns the camera frame by -R d.
    gauge.block<3, 3>(at, 3) = -state.poses[i].rotation();
    gauge.block<3, 7>(at + 3, 0) = gauge_of_place(state.poses[i].centre);
  }
  for (const std::uint32_t i : equations.kept_points())
    gauge.middleRows<3>(equations.matrix().offsets[static_cast<std::size_t>(equations.point_node(i))]) =
        gauge_of_place(state.points[i]);
  return gauge;
}

bool hold_frame(NormalEquations& equations, const AdjustState& state, bool scale_is_held) {
  BlockMatrix& matrix = equations.matrix();
  const Unknowns& unknowns = equations.unknowns();
  // The photo with the strongest diagonal, and the one farthest from it.
  std::int32_t first = -1, second = -1;
  double strongest = 0, farthest = 0;
  const auto strength = [&](std::int32_t node) {
    double sum = 0;
    for (int k = 0; k < 6; ++k)
      sum += matrix.diagonal(static_cast<std::size_t>(node))[k * matrix.padded[static_cast<std::size_t>(node)] + k];
    return sum;
  };
  std::size_t first_photo = 0, second_photo = 0;
  for (std::size_t i = 0; i < state.poses.size(); ++i) {
    const std::int32_t node = unknowns.photo_node[i];
    if (node < 0 || strength(node) <= strongest) continue;
    strongest = strength(node), first = node, first_photo = i;
  }
  for (std::size_t i = 0; i < state.poses.size(); ++i) {
    const double distance = first < 0 ? 0 : (state.poses[i].centre - state.poses[first_photo].centre).norm();
    if (unknowns.photo_node[i] < 0 || distance <= farthest) continue;
    farthest = distance, second = unknowns.photo_node[i], second_photo = i;
  }
  if (first < 0 || second < 0) return false;
  const auto a = static_cast<std::size_t>(first), b = static_cast<std::size_t>(second);
  double* const own = matrix.diagonal(a);
  for (int k = 0; k < 6; ++k) own[k * matrix.padded[a] + k] *= 2;
  if (scale_is_held) return true;
  // The same stiffness along the line to the other.
  const Eigen::Vector3d along = (state.poses[second_photo].centre - state.poses[first_photo].centre).normalized();
  double* const other = matrix.diagonal(b);
  double stiffness = 0;
  for (int k = 3; k < 6; ++k) stiffness = std::max(stiffness, other[k * matrix.padded[b] + k]);
  for (int r = 0; r < 3; ++r)
    for (int c = 0; c < 3; ++c) other[(3 + r) * matrix.padded[b] + 3 + c] += stiffness * along[r] * along[c];
  return true;
}

}  // namespace icefield
