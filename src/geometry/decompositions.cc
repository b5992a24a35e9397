#include "src/geometry/decompositions.h"

#include <Eigen/Eigenvalues>
#include <Eigen/SVD>

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

}  // namespace icefield
