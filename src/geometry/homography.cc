#include <Eigen/Dense>
#include <array>
#include <cmath>
#include <numbers>

#include "icefield/geometry/two_view.h"
#include "src/geometry/decompositions.h"
#include "src/geometry/normalisation.h"
#include "src/geometry/robust.h"

namespace icefield {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector3d;

struct WithInverse {
  Matrix3d matrix = Matrix3d::Zero(), inverse = Matrix3d::Zero();
};

double distance2(const Matrix3d& h, const Eigen::Vector2d& from, const Eigen::Vector2d& to) {
  const double x = from.x(), y = from.y(), inverse = 1 / (h(2, 0) * x + h(2, 1) * y + h(2, 2));
  const double dx = (h(0, 0) * x + h(0, 1) * y + h(0, 2)) * inverse - to.x(),
               dy = (h(1, 0) * x + h(1, 1) * y + h(1, 2)) * inverse - to.y();
  return dx * dx + dy * dy;
}
double error2_of(const WithInverse& h, const PointPair& p) {
  return 0.5 * (distance2(h.matrix, p.first, p.second) + distance2(h.inverse, p.second, p.first));
}

struct HomographyProblem {
  using Model = WithInverse;
  static constexpr std::size_t kSample = 4;
  std::span<const PointPair> pairs;

  std::size_t size() const { return pairs.size(); }
  double error2(const Model& h, std::size_t i) const { return error2_of(h, pairs[i]); }
  void solve(const std::uint32_t* sample, std::vector<Model>& models) const {
    std::array<PointPair, 4> four;
    for (int k = 0; k < 4; ++k) four[k] = pairs[sample[k]];
    if (const auto h = homography_from_four(four)) models.push_back({*h, h->inverse()});
  }
  Model polish(const Model& h, const std::vector<std::uint32_t>& inliers, const std::vector<double>& weights) const {
    const std::vector<PointPair> points = chosen(pairs, inliers);
    // Divided by the depth of the present model, the algebraic distance is the distance in the second image.
    std::vector<double> row_weights;
    for (std::size_t k = 0; k < points.size(); ++k) {
      const double depth = h.matrix.row(2).dot(points[k].first.homogeneous());
      row_weights.push_back(std::sqrt(weights[k]) / std::max(1e-12, std::abs(depth)));
    }
    const Matrix3d better = homography_from_many(points, row_weights);
    return {better, better.inverse()};
  }
};

struct RotationProblem {
  using Model = WithInverse;
  static constexpr std::size_t kSample = 2;
  std::span<const PointPair> pairs;

  std::size_t size() const { return pairs.size(); }
  double error2(const Model& r, std::size_t i) const { return error2_of(r, pairs[i]); }
  void solve(const std::uint32_t* sample, std::vector<Model>& models) const {
    models.push_back(polish({}, {sample[0], sample[1]}, {1.0, 1.0}));
  }
  // Wahba's problem on unit directions by singular values (Kabsch, "A solution for the best rotation to relate two sets
  // of vectors", 1976).
  Model polish(const Model&, const std::vector<std::uint32_t>& inliers, const std::vector<double>& weights) const {
    Matrix3d sum = Matrix3d::Zero();
    for (std::size_t k = 0; k < inliers.size(); ++k) {
      const PointPair& p = pairs[inliers[k]];
      sum += weights[k] * p.second.homogeneous().normalized() * p.first.homogeneous().normalized().transpose();
    }
    const auto [u, v, values] = singular_values(sum);
    Vector3d signs(1, 1, (u * v.transpose()).determinant() < 0 ? -1 : 1);
    const Matrix3d rotation = u * signs.asDiagonal() * v.transpose();
    return {rotation, rotation.transpose()};
  }
};

}  // namespace

double transfer_error2(const Matrix3d& homography, const Matrix3d& inverse, const PointPair& pair) {
  return error2_of({homography, inverse}, pair);
}

std::optional<Matrix3d> homography_from_four(std::span<const PointPair> pairs) {
  // Each quadrangle is the image of the unit one: the columns of a basis map are three corners, scaled so that they add
  // up to the fourth.
  const auto basis = [&](Eigen::Vector2d PointPair::*which) -> std::optional<Matrix3d> {
    Matrix3d corners;
    for (int k = 0; k < 3; ++k) corners.col(k) = (pairs[k].*which).homogeneous();
    const Vector3d fourth = (pairs[3].*which).homogeneous();
    const double determinant = corners.determinant();
    const double size = (corners.col(1) - corners.col(0)).norm() * (corners.col(2) - corners.col(0)).norm();
    if (!(std::abs(determinant) > 1e-6 * size)) return std::nullopt;  // three in a line
    const Vector3d scale = corners.inverse() * fourth;
    if (!(scale.cwiseAbs().minCoeff() > 1e-6)) return std::nullopt;
    return Matrix3d(corners * scale.asDiagonal());
  };
  const auto from = basis(&PointPair::first), to = basis(&PointPair::second);
  if (!from || !to) return std::nullopt;
  const Matrix3d h = *to * from->inverse();
  // A view of a plane does not turn it over: all four lie on one side of the line that goes to infinity.
  const double side = h.row(2).dot(pairs[0].first.homogeneous());
  for (int k = 1; k < 4; ++k)
    if (!(h.row(2).dot(pairs[k].first.homogeneous()) * side > 0)) return std::nullopt;
  return h.normalized();
}

Matrix3d homography_from_many(std::span<const PointPair> pairs, std::span<const double> weights) {
  const Matrix3d t1 = normalisation(pairs, &PointPair::first), t2 = normalisation(pairs, &PointPair::second);
  Eigen::Matrix<double, 9, 9> normal = Eigen::Matrix<double, 9, 9>::Zero();
  for (std::size_t i = 0; i < pairs.size(); ++i) {
    const Vector3d a = t1 * pairs[i].first.homogeneous();
    const Eigen::Vector2d b = (t2 * pairs[i].second.homogeneous()).head<2>();
    Eigen::Matrix<double, 2, 9> rows = Eigen::Matrix<double, 2, 9>::Zero();
    rows.block<1, 3>(0, 0) = a.transpose();
    rows.block<1, 3>(1, 3) = a.transpose();
    rows.block<1, 3>(0, 6) = -b.x() * a.transpose();
    rows.block<1, 3>(1, 6) = -b.y() * a.transpose();
    const double weight = weights.empty() ? 1.0 : weights[i];
    normal += weight * weight * rows.transpose() * rows;
  }
  const Eigen::Matrix<double, 9, 1> v = least_eigenvector(normal);
  Matrix3d h;
  for (int r = 0; r < 3; ++r) h.row(r) = v.segment<3>(3 * r).transpose();
  return (t2.inverse() * h * t1).normalized();
}

std::vector<PlanePose> poses_from_homography(const Matrix3d& homography, std::span<const PointPair> pairs) {
  Matrix3d h = homography / singular_values(homography).values[1];
  std::size_t negative = 0;
  for (const PointPair& p : pairs) negative += p.second.homogeneous().dot(h * p.first.homogeneous()) < 0;
  if (2 * negative > pairs.size()) h = -h;
  const auto [squares, axes] = spectrum(h.transpose() * h);
  const double s1 = squares[2], s3 = squares[0];
  if (!(s1 - s3 > 1e-9)) return {};  // a turn: no baseline
  Matrix3d v;
  v << axes.col(2), axes.col(1), axes.col(0);
  if (v.determinant() < 0) v.col(2) *= -1;
  std::vector<PlanePose> poses;
  for (const double sign : {1.0, -1.0}) {
    const Vector3d u =
        (std::sqrt(std::max(0.0, 1 - s3)) * v.col(0) + sign * std::sqrt(std::max(0.0, s1 - 1)) * v.col(2)) /
        std::sqrt(s1 - s3);
    const Vector3d v2 = v.col(1), hv2 = h * v2, hu = h * u;
    Matrix3d from, to;
    from << v2, u, v2.cross(u);
    to << hv2, hu, hv2.cross(hu);
    const Matrix3d rotation = to * from.transpose();
    Vector3d normal = v2.cross(u);
    Vector3d shift = (h - rotation) * normal;
    // The plane lies in front of the first camera.
    std::size_t front = 0;
    for (const PointPair& p : pairs) front += normal.dot(p.first.homogeneous()) > 0;
    if (2 * front < pairs.size()) normal = -normal, shift = -shift, front = pairs.size() - front;
    PlanePose pose;
    pose.normal = normal;
    pose.pose.orientation = Eigen::Quaterniond(rotation).normalized();
    pose.pose.centre = -(rotation.transpose() * shift);
    pose.in_front = front;
    if (pose.pose.centre.allFinite()) poses.push_back(pose);
  }
  return poses;
}

TwoViewFit fit_homography(std::span<const PointPair> pairs, const TwoViewOptions& options, std::uint64_t seed) {
  const HomographyProblem problem{pairs};
  const auto result = robust_fit(problem, robust_options(options, pairs), seed);
  return {result.model.matrix, result.inliers, result.samples, noise_of(problem, result.model, result.inliers)};
}

TwoViewFit fit_rotation(std::span<const PointPair> pairs, const TwoViewOptions& options, std::uint64_t seed) {
  const RotationProblem problem{pairs};
  const auto result = robust_fit(problem, robust_options(options, pairs), seed);
  return {result.model.matrix, result.inliers, result.samples, noise_of(problem, result.model, result.inliers)};
}

}  // namespace icefield
