// From the covariance of the camera system to that of points and observations.
#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

#include "src/adjust/gauge.h"
#include "src/adjust/normal_equations.h"

namespace icefield {

namespace {
using Row = Eigen::Matrix<double, Eigen::Dynamic, Eigen::Dynamic, Eigen::RowMajor>;
}

Eigen::MatrixXd NormalEquations::signed_gradients(const Signs& signs) const {
  const Eigen::Index draws = signs.cols();
  Eigen::MatrixXd sums = Eigen::MatrixXd::Zero(matrix_.unknowns(), draws);
  const std::size_t photos = block_.photos.size();
  std::vector<Eigen::MatrixXd> of_camera(photos);  // what a photo asks of its shared camera
  executor_.blocks(photos, 1, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t photo = begin; photo < end; ++photo) {
      const std::int32_t node = unknowns_.photo_node[photo],
                         camera = unknowns_.camera_node[block_.photos[photo].camera.value];
      Eigen::MatrixXd own;
      if (node >= 0) own.setZero(matrix_.sizes[static_cast<std::size_t>(node)], draws);
      if (camera >= 0) of_camera[photo].setZero(matrix_.sizes[static_cast<std::size_t>(camera)], draws);
      for (std::uint64_t k = photo_starts_[photo]; k < photo_starts_[photo + 1]; ++k) {
        const std::uint64_t o = photo_observations_[k];
        const std::uint32_t point = point_of_[o];
        const double* const mine = record(o);
        const Eigen::Vector2d left =
            Eigen::Vector2d(mine[kResidual], mine[kResidual + 1]) - Row::Map(mine + kM, 2, 3) * points_[point].reduced;
        const auto sign = signs.row(static_cast<Eigen::Index>(point)).cast<double>();
        if (node >= 0) own += Row::Map(mine + kA, 2, own.rows()).transpose() * left * sign;
        if (camera >= 0)
          of_camera[photo] += Row::Map(mine + camera_at_[photo], 2, of_camera[photo].rows()).transpose() * left * sign;
      }
      if (node >= 0) sums.middleRows(matrix_.offsets[static_cast<std::size_t>(node)], own.rows()) = own;
    }
  });
  for (std::size_t photo = 0; photo < photos; ++photo)
    if (const std::int32_t camera = unknowns_.camera_node[block_.photos[photo].camera.value]; camera >= 0)
      sums.middleRows(matrix_.offsets[static_cast<std::size_t>(camera)], of_camera[photo].rows()) += of_camera[photo];
  return sums;
}

// The unknowns that a point hangs on: the nodes of its photos, then its shared cameras, then its own if it has one.
struct NormalEquations::OfPoint {
  std::vector<std::uint32_t> nodes;  // -1 where it is held
  std::vector<int> at;               // of each in the rows below
  std::size_t photos = 0, before_own = 0;
  Eigen::MatrixXd g;     // M^T A of each; the point moves by -L^-T G times the move of these unknowns
  Eigen::MatrixXd c;     // their covariance
  Eigen::MatrixXd h;     // C G^T
  Eigen::Matrix3d core;  // G C G^T
  bool is_free(std::size_t k) const { return static_cast<std::int32_t>(nodes[k]) >= 0; }
};

void NormalEquations::gather(std::size_t i, const BlockMatrix& covariance, OfPoint& of) const {
  const std::uint64_t first = starts_[i], last = starts_[i + 1];
  of.nodes.clear(), of.at.clear();
  int size = 0;
  const auto add = [&](std::int32_t node) {
    of.at.push_back(size);
    of.nodes.push_back(static_cast<std::uint32_t>(node));
    if (node >= 0) size += matrix_.sizes[static_cast<std::size_t>(node)];
  };
  for (std::uint64_t o = first; o < last; ++o) add(unknowns_.photo_node[photo_of_[o]]);
  for (std::uint64_t e = point_camera_starts_[i]; e < point_camera_starts_[i + 1]; ++e)
    add(static_cast<std::int32_t>(point_cameras_[e]));
  of.photos = static_cast<std::size_t>(last - first), of.before_own = of.nodes.size();
  if (const std::int32_t own = point_node(i); own >= 0) add(own);

  of.g.setZero(3, size);
  for (std::size_t k = 0; k < of.photos; ++k) {
    if (!of.is_free(k)) continue;
    const int s = matrix_.sizes[of.nodes[k]];
    const double *m = record(first + k) + kM, *a = record(first + k) + kA;
    of.g.middleCols(of.at[k], s) = Row::Map(m, 2, 3).transpose() * Row::Map(a, 2, s);
  }
  for (std::size_t k = of.photos; k < of.before_own; ++k) {
    const int s = matrix_.sizes[of.nodes[k]];
    const double* z = point_camera_values_.data() + point_camera_places_[point_camera_starts_[i] + (k - of.photos)];
    of.g.middleCols(of.at[k], s) = BlockRows(z, 3, s, Eigen::OuterStride<>(matrix_.padded[of.nodes[k]]));
  }
  of.c.resize(size, size);
  for (std::size_t p = 0; p < of.nodes.size(); ++p)
    for (std::size_t q = 0; q < of.nodes.size(); ++q) {
      if (!of.is_free(p) || !of.is_free(q)) continue;
      auto to = of.c.block(of.at[p], of.at[q], matrix_.sizes[of.nodes[p]], matrix_.sizes[of.nodes[q]]);
      if (of.nodes[p] <= of.nodes[q])
        to = covariance.block(of.nodes[p], of.nodes[q]);
      else
        to = covariance.block(of.nodes[q], of.nodes[p]).transpose();
    }
  of.h.noalias() = of.c * of.g.transpose();
  of.core = of.g * of.h;
}

Eigen::Matrix3d NormalEquations::cofactor_of_point(std::size_t i, const OfPoint& of, const AdjustState& state,
                                                   const Eigen::MatrixXd* gauge_rows,
                                                   const Eigen::MatrixXd* gauge_core) const {
  const bool own_node = point_node(i) >= 0;
  const Eigen::Matrix3d& inverse = points_[i].inverse;
  const bool held = !inverse.isZero();
  if (!held && !own_node)
    return Eigen::Matrix3d::Constant(options_.fix_points ? 0 : std::numeric_limits<double>::infinity());
  Eigen::Matrix3d cofactor = inverse.transpose() * (Eigen::Matrix3d::Identity() + of.core) * inverse;
  if (own_node) cofactor = of.c.block<3, 3>(of.at.back(), of.at.back());
  if (!gauge_rows) return cofactor;
  // In the frame of the free network: the point less what the frame moves it by.
  const Eigen::MatrixXd own = gauge_of_place(state.points[i]).leftCols(gauge_rows->rows());
  Eigen::MatrixXd rows(gauge_rows->rows(), of.g.cols());
  for (std::size_t k = 0; k < of.nodes.size(); ++k)
    if (of.is_free(k))
      rows.middleCols(of.at[k], matrix_.sizes[of.nodes[k]]) =
          gauge_rows->middleCols(matrix_.offsets[of.nodes[k]], matrix_.sizes[of.nodes[k]]);
  const Eigen::Matrix3d cross = own_node ? Eigen::Matrix3d(own * rows.rightCols<3>())
                                         : Eigen::Matrix3d(own * (rows * -(of.g.transpose() * inverse)));
  return cofactor + (own * *gauge_core * own.transpose() - cross - cross.transpose());
}

void NormalEquations::cofactors_of_observations(std::size_t i, const OfPoint& of,
                                                std::vector<Propagated::OfObservation>& observations) const {
  for (std::size_t k = 0; k < of.photos; ++k) {
    const std::uint64_t o = starts_[i] + k;
    const double* const mine = record(o);
    const Eigen::Matrix<double, 2, 3> m = Row::Map(mine + kM, 2, 3);
    Eigen::Matrix2d q = m * m.transpose() + m * of.core * m.transpose();
    // Own derivatives: by the photo's node, by the point's own, and by the photo's shared camera.
    std::vector<std::pair<std::size_t, const double*>> parts;
    if (of.is_free(k)) parts.emplace_back(k, mine + kA);
    if (of.before_own < of.nodes.size()) parts.emplace_back(of.before_own, mine + kB);
    const std::int32_t camera = unknowns_.camera_node[block_.photos[photo_of_[o]].camera.value];
    for (std::size_t e = of.photos; e < of.before_own; ++e)
      if (static_cast<std::int32_t>(of.nodes[e]) == camera) parts.emplace_back(e, mine + camera_at_[photo_of_[o]]);
    for (const auto& [p, a] : parts) {
      const int s = matrix_.sizes[of.nodes[p]];
      const Eigen::Matrix2d cross = Row::Map(a, 2, s) * of.h.middleRows(of.at[p], s) * m.transpose();
      q -= cross + cross.transpose();
      for (const auto& [r, b] : parts)
        q += Row::Map(a, 2, s) * of.c.block(of.at[p], of.at[r], s, matrix_.sizes[of.nodes[r]]) *
             Row::Map(b, 2, matrix_.sizes[of.nodes[r]]).transpose();
    }
    observations[o] = {q, Eigen::Vector2d(mine[kResidual], mine[kResidual + 1])};
  }
}

Propagated NormalEquations::propagate(const BlockMatrix& covariance, const AdjustState& state,
                                      const Eigen::MatrixXd* gauge_rows, const Eigen::MatrixXd* gauge_core,
                                      bool observations) const {
  Propagated result;
  result.points.resize(points_.size());
  if (observations) result.observations.resize(photo_of_.size());
  executor_.blocks(points_.size(), 64, [&](std::size_t, std::size_t begin, std::size_t end) {
    OfPoint of;
    for (std::size_t i = begin; i < end; ++i) {
      gather(i, covariance, of);
      result.points[i] = cofactor_of_point(i, of, state, gauge_rows, gauge_core);
      if (observations) cofactors_of_observations(i, of, result.observations);
    }
  });
  return result;
}

}  // namespace icefield
