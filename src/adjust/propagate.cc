// From the covariance of the camera system to that of points and observations.
#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

#include "src/adjust/gauge.h"
#include "src/adjust/normal_equations.h"

namespace icefield {

Eigen::MatrixXd NormalEquations::signed_gradients(const Signs& signs) const {
  using Row = Eigen::Matrix<double, Eigen::Dynamic, Eigen::Dynamic, Eigen::RowMajor>;
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

Propagated NormalEquations::propagate(const BlockMatrix& covariance, const AdjustState& state,
                                      const Eigen::MatrixXd* gauge_rows, const Eigen::MatrixXd* gauge_core,
                                      bool observations) const {
  using Row = Eigen::Matrix<double, Eigen::Dynamic, Eigen::Dynamic, Eigen::RowMajor>;
  Propagated result;
  result.points.resize(points_.size());
  if (observations) result.observations.resize(photo_of_.size());
  executor_.blocks(points_.size(), 64, [&](std::size_t, std::size_t begin, std::size_t end) {
    std::vector<std::uint32_t> nodes;
    std::vector<int> at;
    Eigen::MatrixXd g, c, h;
    for (std::size_t i = begin; i < end; ++i) {
      const std::uint64_t first = starts_[i], last = starts_[i + 1];
      // The unknowns that the point hangs on: the nodes of its photos, then its shared cameras.
      nodes.clear(), at.clear();
      int size = 0;
      const auto add = [&](std::int32_t node) {
        at.push_back(size);
        nodes.push_back(static_cast<std::uint32_t>(node));
        if (node >= 0) size += matrix_.sizes[static_cast<std::size_t>(node)];
      };
      for (std::uint64_t o = first; o < last; ++o) add(unknowns_.photo_node[photo_of_[o]]);
      for (std::uint64_t e = point_camera_starts_[i]; e < point_camera_starts_[i + 1]; ++e)
        add(static_cast<std::int32_t>(point_cameras_[e]));
      const std::size_t before_end = nodes.size();
      const std::int32_t end_node = point_node(i);
      if (end_node >= 0) add(end_node);
      const auto photos = static_cast<std::size_t>(last - first);
      const auto free = [&](std::size_t k) { return static_cast<std::int32_t>(nodes[k]) >= 0; };

      // Rows of G: M^T A of each; the point moves by -L^-T G times the move of these unknowns.
      g.setZero(3, size);
      for (std::size_t k = 0; k < photos; ++k) {
        if (!free(k)) continue;
        const int s = matrix_.sizes[nodes[k]];
        const double *m = record(first + k) + kM, *a = record(first + k) + kA;
        g.middleCols(at[k], s) = Row::Map(m, 2, 3).transpose() * Row::Map(a, 2, s);
      }
      for (std::size_t k = photos; k < before_end; ++k) {
        const int s = matrix_.sizes[nodes[k]];
        const double* z = point_camera_values_.data() + point_camera_places_[point_camera_starts_[i] + (k - photos)];
        g.middleCols(at[k], s) = BlockRows(z, 3, s, Eigen::OuterStride<>(matrix_.padded[nodes[k]]));
      }
      c.resize(size, size);
      for (std::size_t p = 0; p < nodes.size(); ++p)
        for (std::size_t q = 0; q < nodes.size(); ++q) {
          if (!free(p) || !free(q)) continue;
          auto to = c.block(at[p], at[q], matrix_.sizes[nodes[p]], matrix_.sizes[nodes[q]]);
          if (nodes[p] <= nodes[q])
            to = covariance.block(nodes[p], nodes[q]);
          else
            to = covariance.block(nodes[q], nodes[p]).transpose();
        }
      h.noalias() = c * g.transpose();
      const Eigen::Matrix3d core = g * h;
      const PointSystem& system = points_[i];
      const bool held = !system.inverse.isZero();
      Eigen::Matrix3d cofactor = system.inverse.transpose() * (Eigen::Matrix3d::Identity() + core) * system.inverse;
      if (end_node >= 0) cofactor = c.block<3, 3>(at.back(), at.back());
      if ((held || end_node >= 0) && gauge_rows) {
        // In the frame of the free network: the point less what the frame moves it by.
        const Eigen::MatrixXd own = gauge_of_place(state.points[i]).leftCols(gauge_rows->rows());
        Eigen::MatrixXd rows(gauge_rows->rows(), size);
        for (std::size_t k = 0; k < nodes.size(); ++k)
          if (free(k))
            rows.middleCols(at[k], matrix_.sizes[nodes[k]]) =
                gauge_rows->middleCols(matrix_.offsets[nodes[k]], matrix_.sizes[nodes[k]]);
        const Eigen::Matrix3d cross = end_node >= 0 ? Eigen::Matrix3d(own * rows.rightCols<3>())
                                                    : Eigen::Matrix3d(own * (rows * -(g.transpose() * system.inverse)));
        cofactor += own * *gauge_core * own.transpose() - cross - cross.transpose();
      }
      if (!held && end_node < 0)
        cofactor.setConstant(options_.fix_points ? 0 : std::numeric_limits<double>::infinity());
      result.points[i] = cofactor;
      if (!observations) continue;
      for (std::size_t k = 0; k < photos; ++k) {
        const std::uint64_t o = first + k;
        const double* const mine = record(o);
        const Eigen::Matrix<double, 2, 3> m = Row::Map(mine + kM, 2, 3);
        Eigen::Matrix2d q = m * m.transpose() + m * core * m.transpose();
        // Own derivatives: by the photo's node, and by its shared camera.
        std::vector<std::pair<std::size_t, const double*>> parts;
        if (free(k)) parts.emplace_back(k, mine + kA);
        const std::int32_t camera = unknowns_.camera_node[block_.photos[photo_of_[o]].camera.value];
        if (end_node >= 0) parts.emplace_back(before_end, mine + kB);
        for (std::size_t e = photos; e < before_end; ++e)
          if (static_cast<std::int32_t>(nodes[e]) == camera) parts.emplace_back(e, mine + camera_at_[photo_of_[o]]);
        for (const auto& [p, a] : parts) {
          const int s = matrix_.sizes[nodes[p]];
          const Eigen::Matrix2d cross = Row::Map(a, 2, s) * h.middleRows(at[p], s) * m.transpose();
          q -= cross + cross.transpose();
          for (const auto& [r, b] : parts)
            q += Row::Map(a, 2, s) * c.block(at[p], at[r], s, matrix_.sizes[nodes[r]]) *
                 Row::Map(b, 2, matrix_.sizes[nodes[r]]).transpose();
        }
        result.observations[o] = {q, Eigen::Vector2d(mine[kResidual], mine[kResidual + 1])};
      }
    }
  });
  return result;
}

}  // namespace icefield
