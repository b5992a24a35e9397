#include "icefield/adjust/uncertainty.h"

#include <fmt/format.h>

#include <Eigen/Dense>
#include <cmath>

#include "icefield/base/statistics.h"
#include "src/adjust/block_cholesky.h"
#include "src/adjust/clusters.h"
#include "src/adjust/gauge.h"

namespace icefield {

namespace {

// Of the shifts, turns and growths that are free, the frame that makes the centres' variances smallest.
struct FreeFrame {
  Eigen::MatrixXd gauge;       // what these do to the unknowns of the system
  Eigen::MatrixXd weights;     // transposed: the frame's change by the unknowns' changes
  Eigen::MatrixXd rows, core;  // covariance of that with the unknowns, and with itself
  bool is_free = false;
  FreeFrame(Eigen::MatrixXd of_system, bool free) : gauge(std::move(of_system)), is_free(free) {}
  void find(const Unknowns& unknowns, const BlockMatrix& matrix, const BlockCholesky& factor) {
    const Eigen::Index freedoms = gauge.cols();
    rows.resize(freedoms, matrix.unknowns());
    core = Eigen::MatrixXd::Zero(freedoms, freedoms);
    if (!is_free) return;
    Eigen::MatrixXd centres = Eigen::MatrixXd::Zero(matrix.unknowns(), freedoms);
    for (const std::int32_t node : unknowns.photo_node)
      if (node >= 0)
        centres.middleRows<3>(matrix.offsets[static_cast<std::size_t>(node)] + 3) =
            gauge.middleRows<3>(matrix.offsets[static_cast<std::size_t>(node)] + 3);
    const Eigen::MatrixXd normal = centres.transpose() * centres;
    const Eigen::MatrixXd inverse =
        normal.completeOrthogonalDecomposition().pseudoInverse();  // centres on a line leave a turn open
    weights = centres * inverse;
    for (Eigen::Index k = 0; k < freedoms; ++k) {
      Eigen::VectorXd x = weights.col(k);
      factor.solve(x);
      rows.row(k) = x.transpose();
    }
    core = rows * weights;
  }
};

// The covariance of a node of the system, in that frame, for observations of this variance.
struct NodeCovariances {
  const BlockMatrix &matrix, &covariance;
  const FreeFrame& frame;
  double variance = 1;
  Eigen::MatrixXd of(std::size_t node) const {
    const int size = matrix.sizes[node], at = matrix.offsets[node];
    Eigen::MatrixXd c = covariance.block(node, node);
    if (frame.is_free) {
      const Eigen::MatrixXd own = frame.gauge.middleRows(at, size), cross = own * frame.rows.middleCols(at, size);
      c += own * frame.core * own.transpose() - cross - cross.transpose();
    }
    return Eigen::MatrixXd(variance * c);
  }
};

// The standard deviation of an observation from the weighted residuals, and how many are more than needed.
void measure_sigma(const Block& block, const AdjustOptions& options, const NormalEquations& equations,
                   const Propagated& propagated, double given_sigma_px, Uncertainty& result) {
  double squares = 0;
  for (const auto& o : propagated.observations) squares += o.residual.squaredNorm();
  const double measurements = 2 * static_cast<double>(block.observations.size());
  std::size_t moved = 0;
  for (const Eigen::Matrix3d& p : propagated.points) moved += !options.fix_points && p.allFinite();
  const double needed =
      static_cast<double>(equations.unknowns().count() + 3 * (moved - equations.kept_points().size())) -
      (result.free_network ? 7 : 0);
  result.redundancy = static_cast<std::size_t>(std::max(0.0, measurements - needed));
  result.sigma_px = given_sigma_px > 0      ? given_sigma_px
                    : result.redundancy > 0 ? std::sqrt(squares / static_cast<double>(result.redundancy))
                                            : options.observation_sigma_px;
}

double group_factor(const Block& block, const NormalEquations& equations, const AdjustState& state,
                    const BlockCholesky& factor, const NodeCovariances& covariances) {
  constexpr int kDraws = 64;
  const FreeFrame& frame = covariances.frame;
  const std::size_t size =
      std::clamp<std::size_t>(block.observations.size() / std::max<std::size_t>(1, block.photos.size()) / 40, 4, 200);
  Eigen::MatrixXd draws = draws_by_groups(equations, factor, groups_in_space(state.points, size), kDraws);
  if (frame.is_free) draws -= frame.gauge * (frame.weights.transpose() * draws);
  std::vector<double> ratios;
  for (std::size_t i = 0; i < block.photos.size(); ++i) {
    if (equations.unknowns().photo_node[i] < 0) continue;
    const auto node = static_cast<std::size_t>(equations.unknowns().photo_node[i]);
    const Eigen::MatrixXd said = covariances.of(node);
    for (const int at : {0, 3}) {
      const double squares_drawn = draws.middleRows<3>(covariances.matrix.offsets[node] + at).squaredNorm() / kDraws,
                   squares_said = said.block<3, 3>(at, at).trace();
      if (squares_said > 0) ratios.push_back(squares_drawn / squares_said);
    }
  }
  return std::sqrt(median(ratios));
}

void fill_poses_and_cameras(const Block& block, const Unknowns& unknowns, const NodeCovariances& covariances,
                            Uncertainty& result) {
  result.poses.assign(block.photos.size(), Matrix6::Zero());
  result.cameras.resize(block.cameras.size());
  for (std::size_t c = 0; c < block.cameras.size(); ++c) {
    if (unknowns.camera_node[c] < 0) continue;
    result.cameras[c] = {unknowns.free[c], covariances.of(static_cast<std::size_t>(unknowns.camera_node[c]))};
  }
  for (std::size_t i = 0; i < block.photos.size(); ++i) {
    if (unknowns.photo_node[i] < 0) continue;
    const Eigen::MatrixXd all = covariances.of(static_cast<std::size_t>(unknowns.photo_node[i]));
    result.poses[i] = all.topLeftCorner<6, 6>();
    const std::uint32_t c = block.photos[i].camera.value;
    if (unknowns.own_camera[i])
      result.cameras[c] = {unknowns.free[c], all.bottomRightCorner(all.rows() - 6, all.rows() - 6)};
  }
}

void fill_residuals(const NormalEquations& equations, const Propagated& propagated, Uncertainty& result) {
  std::vector<double> standardised(propagated.observations.size(), 0), numbers(propagated.observations.size(), 0);
  for (std::size_t o = 0; o < standardised.size(); ++o)
    for (int k = 0; k < 2; ++k) {
      const double share = 1 - propagated.observations[o].cofactor(k, k);  // of an error that shows in the residual
      numbers[o] += share;
      if (share > 1e-3)
        standardised[o] = std::max(
            standardised[o], std::abs(propagated.observations[o].residual[k]) / (result.sigma_px * std::sqrt(share)));
    }
  result.redundancy_numbers = equations.observations_in_block_order(numbers);
  result.standardised_residuals = equations.observations_in_block_order(standardised);
}

// What is held may leave part of the frame open (a known place leaves turns and scale): the factor then exists by
// rounding alone, and some photo could turn freely or stand anywhere.
bool is_determined(const Block& block, const Uncertainty& result) {
  for (const Matrix6& p : result.poses)
    if (!p.allFinite() || p.diagonal().minCoeff() < 0) return false;
  for (std::size_t i = 0; i < result.poses.size() && !result.free_network; ++i) {
    double reach = 0;
    for (const PosedPhoto& other : block.photos)
      reach = std::max(reach, (other.pose.centre - block.photos[i].pose.centre).norm());
    const bool turns = !(result.poses[i].topLeftCorner<3, 3>().diagonal().maxCoeff() < 1),
               stands = !(reach > 0) || result.poses[i].bottomRightCorner<3, 3>().diagonal().maxCoeff() < reach * reach;
    if (turns || !stands) return false;
  }
  return true;
}

}  // namespace

Uncertainty uncertainty(const Block& block, const AdjustOptions& options, const UncertaintyOptions& uncertainty_options,
                        const Executor& executor, Monitor& monitor) {
  Uncertainty result;
  if (block.observations.empty()) {
    result.outcome = "no observations";
    return result;
  }
  NormalEquations equations(block, options, executor);
  const AdjustState state = equations.start();
  equations.linearise(state);
  equations.reduce(0);
  monitor.check();
  result.free_network = options.position_priors.empty() && options.point_priors.empty() &&
                        options.direction_priors.empty() && options.fixed_photos.empty() && !options.fix_points &&
                        !options.fix_poses;
  // A frame that only scale bars hold is free to move and turn, but not to grow.
  const bool scale_is_held = !equations.kept_points().empty();
  FreeFrame frame(gauge_of_system(equations, state).leftCols(scale_is_held ? 6 : 7), result.free_network);
  if (result.free_network && !hold_frame(equations, state, scale_is_held)) {
    result.outcome = "fewer than two photos";
    return result;
  }
  BlockMatrix& matrix = equations.matrix();
  BlockCholesky factor(equations.unknowns().graph);
  if (matrix.unknowns() > 0 && !factor.factorise(matrix, executor)) {
    result.outcome = "the photos leave something undetermined";
    return result;
  }
  monitor.check();
  const BlockMatrix covariance = factor.inverse_blocks(matrix, executor);
  monitor.check();
  frame.find(equations.unknowns(), matrix, factor);
  const Propagated propagated = equations.propagate(covariance, state, result.free_network ? &frame.rows : nullptr,
                                                    result.free_network ? &frame.core : nullptr, true);
  measure_sigma(block, options, equations, propagated, uncertainty_options.observation_sigma_px, result);
  const double variance = result.sigma_px * result.sigma_px;
  const NodeCovariances covariances{matrix, covariance, frame, variance};
  if (uncertainty_options.groups) result.group_factor = group_factor(block, equations, state, factor, covariances);
  fill_poses_and_cameras(block, equations.unknowns(), covariances, result);
  result.points = equations.in_block_order(propagated.points);
  for (Eigen::Matrix3d& p : result.points) p *= variance;
  if (uncertainty_options.residuals) fill_residuals(equations, propagated, result);
  result.valid = is_determined(block, result);
  result.outcome = result.valid ? fmt::format("from {} redundant measurements with {:.3f} px each", result.redundancy,
                                              result.sigma_px)
                                : "the photos leave something undetermined";
  return result;
}

}  // namespace icefield
