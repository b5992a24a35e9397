#include "src/geometry/decompositions.h"

#include <Eigen/Eigenvalues>
#include <Eigen/SVD>
#include <cmath>
#include <numbers>

namespace icefield {

SingularValues3 singular_values(const Eigen::Matrix3d& m) {
  const Eigen::JacobiSVD<Eigen::Matrix3d> svd(m, Eigen::ComputeFullU | Eigen::ComputeFullV);
  return {svd.matrixU(), svd.matrixV(), svd.singularValues()};
}

Spectrum3 spectrum(const Eigen::Matrix3d& symmetric) {
  const Eigen::SelfAdjointEigenSolver<Eigen::Matrix3d> solver(symmetric);
  return {solver.eigenvalues(), solver.eigenvectors()};
}

Spectrum3 spectrum_direct(const Eigen::Matrix3d& symmetric) {
  Eigen::SelfAdjointEigenSolver<Eigen::Matrix3d> solver;
  solver.computeDirect(symmetric);
  return {solver.eigenvalues(), solver.eigenvectors()};
}

Eigen::Matrix<double, 9, 1> least_eigenvector(const Eigen::Matrix<double, 9, 9>& symmetric) {
  return Eigen::SelfAdjointEigenSolver<Eigen::Matrix<double, 9, 9>>(symmetric).eigenvectors().col(0);
}

Eigen::Quaterniond turn_between(const Eigen::Vector3d& from, const Eigen::Vector3d& to) {
  const Eigen::Vector3d a = from.normalized(), b = to.normalized();
  const double cosine = b.dot(a);
  if (cosine < -1 + 1e-12) return Eigen::Quaterniond(Eigen::AngleAxisd(std::numbers::pi, a.unitOrthogonal()));
  const Eigen::Vector3d axis = a.cross(b);
  const double s = std::sqrt((1 + cosine) * 2), inverse = 1 / s;
  return {s * 0.5, axis.x() * inverse, axis.y() * inverse, axis.z() * inverse};
}

}  // namespace icefield
