#include <Eigen/Dense>
#include <array>
#include <cmath>

#include "icefield/camera/pose.h"
#include "icefield/geometry/polynomial.h"
#include "icefield/geometry/two_view.h"
#include "src/geometry/decompositions.h"
#include "src/geometry/normalisation.h"

namespace icefield {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector3d;

Eigen::Matrix<double, 1, 9> constraint(const Matrix3d& t1, const Matrix3d& t2, const PointPair& pair) {
  const Vector3d a = t1 * pair.first.homogeneous(), b = t2 * pair.second.homogeneous();
  Eigen::Matrix<double, 1, 9> row;
  for (int r = 0; r < 3; ++r)
    for (int c = 0; c < 3; ++c) row[3 * r + c] = b[r] * a[c];
  return row;
}

Matrix3d as_matrix(const Eigen::Matrix<double, 9, 1>& v) {
  Matrix3d m;
  for (int r = 0; r < 3; ++r)
    for (int c = 0; c < 3; ++c) m(r, c) = v[3 * r + c];
  return m;
}

struct FundamentalProblem {
  using Model = Matrix3d;
  static constexpr std::size_t kSample = 7;
  std::span<const PointPair> pairs;

  std::size_t size() const { return pairs.size(); }
  double error2(const Matrix3d& f, std::size_t i) const { return sampson2(f, pairs[i]); }
  void solve(const std::uint32_t* sample, std::vector<Matrix3d>& models) const {
    std::array<PointPair, 7> seven;
    for (int k = 0; k < 7; ++k) seven[k] = pairs[sample[k]];
    models = fundamental_from_seven(seven);
  }
  // Linear least squares weighted so that it minimises the Sampson distance of the present model.
  Matrix3d polish(const Matrix3d& f, const std::vector<std::uint32_t>& inliers,
                  const std::vector<double>& marginal) const {
    if (inliers.size() < 8) return f;
    std::vector<PointPair> chosen;
    std::vector<double> weights;
    for (std::size_t n = 0; n < inliers.size(); ++n) {
      const PointPair& p = pairs[inliers[n]];
      const double d2 = (f * p.first.homogeneous()).head<2>().squaredNorm() +
                        (f.transpose() * p.second.homogeneous()).head<2>().squaredNorm();
      chosen.push_back(p);
      weights.push_back(d2 > 0 ? std::sqrt(marginal[n] / d2) : 0);
    }
    return fundamental_from_many(chosen, weights);
  }
};

// F = [e']x H for a known homography H of a plane in view: two pairs off the plane fix the epipole e'. Chum, Werner and
// Matas, "Two-view geometry estimation unaffected by a dominant plane", 2005.
struct ParallaxProblem {
  using Model = Matrix3d;
  static constexpr std::size_t kSample = 2;
  std::span<const PointPair> pairs;
  const Matrix3d& homography;

  std::size_t size() const { return pairs.size(); }
  double error2(const Matrix3d& f, std::size_t i) const { return sampson2(f, pairs[i]); }
  void solve(const std::uint32_t* sample, std::vector<Matrix3d>& models) const {
    Vector3d lines[2];
    for (int k = 0; k < 2; ++k)
      lines[k] = (homography * pairs[sample[k]].first.homogeneous()).cross(pairs[sample[k]].second.homogeneous());
    const Vector3d epipole = lines[0].normalized().cross(lines[1].normalized());
    if (epipole.norm() > 1e-9) models.push_back((skew(epipole) * homography).normalized());
  }
  Matrix3d polish(const Matrix3d& f, const std::vector<std::uint32_t>&, const std::vector<double>&) const { return f; }
};

}  // namespace

std::vector<Matrix3d> fundamental_from_seven(std::span<const PointPair> pairs) {
  const Matrix3d t1 = normalisation(pairs, &PointPair::first), t2 = normalisation(pairs, &PointPair::second);
  Eigen::Matrix<double, 7, 9> rows;
  for (int i = 0; i < 7; ++i) rows.row(i) = constraint(t1, t2, pairs[i]);
  const Eigen::HouseholderQR<Eigen::Matrix<double, 9, 7>> qr(rows.transpose());
  const Eigen::Matrix<double, 9, 9> q = qr.householderQ();
  const Matrix3d f1 = as_matrix(q.col(7)), f2 = as_matrix(q.col(8));
  // det(x F1 + F2) = 0 is a cubic: through its values at four places.
  const auto mixed = [](const Matrix3d& a, const Matrix3d& b) {
    return a.col(0).dot(b.col(1).cross(b.col(2))) + a.col(1).dot(b.col(2).cross(b.col(0))) +
           a.col(2).dot(b.col(0).cross(b.col(1)));
  };
  const std::array<double, 4> cubic = {f2.determinant(), mixed(f1, f2), mixed(f2, f1), f1.determinant()};
  std::vector<Matrix3d> solutions;
  for (const double x : real_roots(cubic)) solutions.push_back((t2.transpose() * (x * f1 + f2) * t1).normalized());
  return solutions;
}

Matrix3d fundamental_from_many(std::span<const PointPair> pairs, std::span<const double> weights) {
  const Matrix3d t1 = normalisation(pairs, &PointPair::first), t2 = normalisation(pairs, &PointPair::second);
  Eigen::Matrix<double, 9, 9> normal = Eigen::Matrix<double, 9, 9>::Zero();
  for (std::size_t i = 0; i < pairs.size(); ++i) {
    const Eigen::Matrix<double, 1, 9> row = constraint(t1, t2, pairs[i]) * (weights.empty() ? 1.0 : weights[i]);
    normal += row.transpose() * row;
  }
  auto [u, v, values] = singular_values(as_matrix(least_eigenvector(normal)));
  values[2] = 0;
  return (t2.transpose() * u * values.asDiagonal() * v.transpose() * t1).normalized();
}

TwoViewFit fit_fundamental(std::span<const PointPair> pairs, const TwoViewOptions& options, std::uint64_t seed) {
  const FundamentalProblem problem{pairs};
  const auto result = robust_fit(problem, robust_options(options, pairs), seed);
  return {result.model, result.inliers, result.samples, noise_of(problem, result.model, result.inliers)};
}

TwoViewFit fit_parallax(const Matrix3d& homography, std::span<const PointPair> off_plane, const TwoViewOptions& options,
                        std::uint64_t seed) {
  const ParallaxProblem problem{off_plane, homography};
  const auto result = robust_fit(problem, robust_options(options, off_plane), seed);
  return {result.model, result.inliers, result.samples, noise_of(problem, result.model, result.inliers)};
}

}  // namespace icefield
