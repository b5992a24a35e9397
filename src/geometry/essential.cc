#include <Eigen/Cholesky>
#include <Eigen/Dense>
#include <array>
#include <cmath>

#include "icefield/geometry/polynomial.h"
#include "icefield/geometry/triangulate.h"
#include "icefield/geometry/two_view.h"
#include "src/geometry/decompositions.h"
#include "src/geometry/normalisation.h"

namespace icefield {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector3d;

// Polynomials in x, y, z of degree 1, 2 and 3; entry (i, j, k) stands for x^i y^j z^k.
using Linear = std::array<double, 4>;  // x, y, z, 1
struct Quadratic {                     // xx, xy, xz, x, yy, yz, y, zz, z, 1
  std::array<double, 10> c{};
  Quadratic& operator+=(const Quadratic& o) {
    for (int i = 0; i < 10; ++i) c[i] += o.c[i];
    return *this;
  }
};

Quadratic operator*(const Linear& a, const Linear& b) {
  return {{a[0] * b[0], a[0] * b[1] + a[1] * b[0], a[0] * b[2] + a[2] * b[0], a[0] * b[3] + a[3] * b[0], a[1] * b[1],
           a[1] * b[2] + a[2] * b[1], a[1] * b[3] + a[3] * b[1], a[2] * b[2], a[2] * b[3] + a[3] * b[2], a[3] * b[3]}};
}

// Monomials of degree 3 in the order that Nister's elimination needs:
// x3 y3 x2y xy2 x2z x2 y2z y2 xyz xy | xz2 xz x yz2 yz y z3 z2 z 1
using Cubic = Eigen::Matrix<double, 1, 20>;

void add_product(Cubic& out, const Quadratic& q, const Linear& l, double factor) {
  // Place of (quadratic monomial) * (x, y, z, 1).
  static constexpr int place[10][4] = {{0, 2, 4, 5},     {2, 3, 8, 9},    {4, 8, 10, 11}, {5, 9, 11, 12},
                                       {3, 1, 6, 7},     {8, 6, 13, 14},  {9, 7, 14, 15}, {10, 13, 16, 17},
                                       {11, 14, 17, 18}, {12, 15, 18, 19}};
  for (int i = 0; i < 10; ++i)
    for (int k = 0; k < 4; ++k) out[place[i][k]] += factor * q.c[i] * l[k];
}

template <int N, int M>
std::array<double, N + M - 1> multiply(const std::array<double, N>& a, const std::array<double, M>& b) {
  std::array<double, N + M - 1> c{};
  for (int i = 0; i < N; ++i)
    for (int j = 0; j < M; ++j) c[i + j] += a[i] * b[j];
  return c;
}

struct EssentialProblem {
  using Model = Matrix3d;
  static constexpr std::size_t kSample = 5;
  std::span<const PointPair> pairs;

  std::size_t size() const { return pairs.size(); }
  double error2(const Matrix3d& e, std::size_t i) const { return sampson2(e, pairs[i]); }
  void solve(const std::uint32_t* sample, std::vector<Matrix3d>& models) const {
    std::array<PointPair, 5> five;
    for (int k = 0; k < 5; ++k) five[k] = pairs[sample[k]];
    models = essential_from_five(five);
  }
  // Gauss-Newton on the Sampson distances over rotation and direction of the baseline, E = [t]x R, with the weights of
  // the distance held for a step.
  Matrix3d polish(const Matrix3d& e, const std::vector<std::uint32_t>& inliers,
                  const std::vector<double>& weights) const {
    auto [u, v, values] = singular_values(e);
    if (u.determinant() < 0) u.col(2) *= -1;
    if (v.determinant() < 0) v.col(2) *= -1;
    Matrix3d w;
    w << 0, -1, 0, 1, 0, 0, 0, 0, 1;
    Matrix3d rotation = u * w * v.transpose();
    Vector3d baseline = u.col(2);
    for (int step = 0; step < 3; ++step) {
      const Matrix3d essential = skew(baseline) * rotation;
      const Vector3d side1 = baseline.unitOrthogonal(), side2 = baseline.cross(side1);
      std::array<Matrix3d, 5> d;
      for (int k = 0; k < 3; ++k) d[k] = skew(baseline) * skew(Vector3d::Unit(k)) * rotation;
      d[3] = skew(side1) * rotation;
      d[4] = skew(side2) * rotation;
      Eigen::Matrix<double, 5, 5> normal = Eigen::Matrix<double, 5, 5>::Zero();
      Eigen::Matrix<double, 5, 1> right = Eigen::Matrix<double, 5, 1>::Zero();
      for (std::size_t n = 0; n < inliers.size(); ++n) {
        const PointPair& pair = pairs[inliers[n]];
        const Vector3d a = pair.first.homogeneous(), b = pair.second.homogeneous();
        const double weight2 =
            (essential * a).head<2>().squaredNorm() + (essential.transpose() * b).head<2>().squaredNorm();
        if (!(weight2 > 0)) continue;
        Eigen::Matrix<double, 5, 1> j;
        for (int k = 0; k < 5; ++k) j[k] = b.dot(d[k] * a);
        const double weight = weights[n] / weight2;
        normal += weight * j * j.transpose();
        right -= j * (weight * b.dot(essential * a));
      }
      const Eigen::Matrix<double, 5, 1> delta = normal.ldlt().solve(right);
      if (!delta.allFinite()) break;
      rotation = rotation_from_vector(delta.head<3>()).toRotationMatrix() * rotation;
      baseline = (baseline + delta[3] * side1 + delta[4] * side2).normalized();
    }
    return (skew(baseline) * rotation).normalized();
  }
};

}  // namespace

double sampson_error2(const Matrix3d& m, const PointPair& pair) {
  return sampson2(m, pair);
}

std::vector<Matrix3d> essential_from_five(std::span<const PointPair> pairs) {
  Eigen::Matrix<double, 9, 9> rows = Eigen::Matrix<double, 9, 9>::Zero();
  for (int i = 0; i < 5; ++i) {
    const Vector3d a = pairs[i].first.homogeneous(), b = pairs[i].second.homogeneous();
    for (int r = 0; r < 3; ++r)
      for (int c = 0; c < 3; ++c) rows(i, 3 * r + c) = b[r] * a[c];
  }
  // The four directions that the pairs leave free: the last columns of Q of the transposed system.
  const Eigen::HouseholderQR<Eigen::Matrix<double, 9, 5>> qr(rows.topRows<5>().transpose());
  const Eigen::Matrix<double, 9, 9> q = qr.householderQ();
  Linear e[3][3];
  for (int r = 0; r < 3; ++r)
    for (int c = 0; c < 3; ++c)
      for (int k = 0; k < 4; ++k) e[r][c][k] = q(3 * r + c, 5 + k);

  Eigen::Matrix<double, 10, 20> system = Eigen::Matrix<double, 10, 20>::Zero();
  const auto minor = [&](int r0, int c0, int r1, int c1) {  // e[r0][c0] e[r1][c1] - e[r0][c1] e[r1][c0]
    Quadratic m = e[r0][c0] * e[r1][c1];
    const Quadratic n = e[r0][c1] * e[r1][c0];
    for (int i = 0; i < 10; ++i) m.c[i] -= n.c[i];
    return m;
  };
  Cubic row = Cubic::Zero();
  add_product(row, minor(1, 1, 2, 2), e[0][0], 1);
  add_product(row, minor(1, 0, 2, 2), e[0][1], -1);
  add_product(row, minor(1, 0, 2, 1), e[0][2], 1);
  system.row(0) = row;
  // 2 E E^T E - trace(E E^T) E = 0
  Quadratic eet[3][3];
  for (int r = 0; r < 3; ++r)
    for (int c = 0; c < 3; ++c)
      for (int k = 0; k < 3; ++k) eet[r][c] += e[r][k] * e[c][k];
  Quadratic trace = eet[0][0];
  trace += eet[1][1];
  trace += eet[2][2];
  for (int r = 0; r < 3; ++r)
    for (int c = 0; c < 3; ++c) {
      row.setZero();
      for (int k = 0; k < 3; ++k) add_product(row, eet[r][k], e[k][c], 2);
      add_product(row, trace, e[r][c], -1);
      system.row(1 + 3 * r + c) = row;
    }
  const Eigen::Matrix<double, 10, 10> tail = system.leftCols<10>().partialPivLu().solve(system.rightCols<10>());
  if (!tail.allFinite()) return {};

  // Three equations [x y 1] . (polynomials in z) = 0, from rows x2z - z x2, y2z - z y2, xyz - z xy.
  std::array<double, 4> bx[3], by[3];
  std::array<double, 5> b1[3];
  for (int i = 0; i < 3; ++i) {
    const auto a = tail.row(4 + 2 * i), b = tail.row(5 + 2 * i);
    bx[i] = {a[2], a[1] - b[2], a[0] - b[1], -b[0]};
    by[i] = {a[5], a[4] - b[5], a[3] - b[4], -b[3]};
    b1[i] = {a[9], a[8] - b[9], a[7] - b[8], a[6] - b[7], -b[6]};
  }
  std::array<double, 11> determinant{};
  for (int i = 0; i < 3; ++i) {
    const int j = (i + 1) % 3, k = (i + 2) % 3;
    const auto p = multiply<4, 4>(bx[j], by[k]), n = multiply<4, 4>(bx[k], by[j]);
    std::array<double, 7> m;
    for (int t = 0; t < 7; ++t) m[t] = p[t] - n[t];
    const auto term = multiply<7, 5>(m, b1[i]);
    for (int t = 0; t < 11; ++t) determinant[t] += term[t];
  }
  std::vector<Matrix3d> solutions;
  for (const double z : real_roots(determinant)) {
    const auto value = [z](const auto& c) {
      double v = 0;
      for (std::size_t i = c.size(); i-- > 0;) v = v * z + c[i];
      return v;
    };
    Matrix3d b;
    for (int i = 0; i < 3; ++i) b.row(i) << value(bx[i]), value(by[i]), value(b1[i]);
    // The null vector: the longest cross product of two rows.
    Vector3d null = b.row(0).cross(b.row(1));
    for (const Vector3d& other : {Vector3d(b.row(0).cross(b.row(2))), Vector3d(b.row(1).cross(b.row(2)))})
      if (other.squaredNorm() > null.squaredNorm()) null = other;
    if (!(std::abs(null.z()) > 1e-12 * null.norm())) continue;
    const double x = null.x() / null.z(), y = null.y() / null.z();
    Matrix3d essential;
    for (int r = 0; r < 3; ++r)
      for (int c = 0; c < 3; ++c) essential(r, c) = x * e[r][c][0] + y * e[r][c][1] + z * e[r][c][2] + e[r][c][3];
    if (essential.allFinite()) solutions.push_back(essential.normalized());
  }
  return solutions;
}

Matrix3d essential_from_pose(const Pose& second_in_first) {
  const Matrix3d rotation = second_in_first.rotation();
  return (skew(-(rotation * second_in_first.centre)) * rotation).normalized();
}

std::vector<RelativePose> poses_from_essential(const Matrix3d& essential, std::span<const PointPair> pairs) {
  auto [u, v, values] = singular_values(essential);
  if (u.determinant() < 0) u.col(2) *= -1;
  if (v.determinant() < 0) v.col(2) *= -1;
  Matrix3d w;
  w << 0, -1, 0, 1, 0, 0, 0, 0, 1;
  std::vector<RelativePose> poses;
  for (int k = 0; k < 4; ++k) {
    const Matrix3d rotation = u * (k & 1 ? w : Matrix3d(w.transpose())) * v.transpose();
    Pose pose;
    pose.orientation = Eigen::Quaterniond(rotation).normalized();
    pose.centre = -(rotation.transpose() * u.col(2)) * (k & 2 ? 1 : -1);
    std::size_t in_front = 0;
    for (const PointPair& pair : pairs) {
      // Depths along the two rays from first = d1 a, second = R (d1 a - C) = d2 b.
      const Vector3d a = rotation * pair.first.homogeneous(), b = pair.second.homogeneous(),
                     t = -(rotation * pose.centre);
      const Vector3d n = a.cross(b);
      const double nn = n.squaredNorm();
      const double d1 = -n.dot(t.cross(b)) / nn, d2 = -n.dot(t.cross(a)) / nn;
      in_front += d1 > 0 && d2 > 0;
    }
    poses.push_back({pose, in_front});
  }
  std::stable_sort(poses.begin(), poses.end(),
                   [](const RelativePose& a, const RelativePose& b) { return a.in_front > b.in_front; });
  return poses;
}

RelativePose pose_from_essential(const Matrix3d& essential, std::span<const PointPair> pairs) {
  const RelativePose best = poses_from_essential(essential, pairs).front();
  return best.in_front > 0 ? best : RelativePose{};
}

TwoViewFit fit_essential(std::span<const PointPair> pairs, const TwoViewOptions& options, std::uint64_t seed) {
  const EssentialProblem problem{pairs};
  const auto result = robust_fit(problem, robust_options(options, pairs), seed);
  return {result.model, result.inliers, result.samples, noise_of(problem, result.model, result.inliers)};
}

Matrix3d refine_essential(const Matrix3d& start, std::span<const PointPair> pairs, double max_error) {
  const EssentialProblem problem{pairs};
  const double inverse = 1 / (max_error * max_error);
  Matrix3d essential = start;
  std::vector<std::uint32_t> inliers;
  std::vector<double> weights;
  for (int pass = 0; pass < 4; ++pass) {
    inliers.clear();
    weights.clear();
    for (std::size_t i = 0; i < pairs.size(); ++i) {
      const double u = problem.error2(essential, i) * inverse;
      if (u < 1) inliers.push_back(static_cast<std::uint32_t>(i)), weights.push_back(marginal_loss().weight(u));
    }
    if (inliers.size() < 5) break;
    essential = problem.polish(essential, inliers, weights);
  }
  return essential;
}

}  // namespace icefield
