// Decompositions of small matrices, compiled once for all that use them: they are costly to compile.
#pragma once
#include <Eigen/Core>

namespace icefield {

// m = u diag(values) v^T, the values falling.
struct SingularValues3 {
  Eigen::Matrix3d u, v;
  Eigen::Vector3d values;
};
SingularValues3 singular_values(const Eigen::Matrix3d& m);

// Of a symmetric matrix: m = vectors diag(values) vectors^T, the values rising.
struct Spectrum3 {
  Eigen::Vector3d values;
  Eigen::Matrix3d vectors;
};
Spectrum3 spectrum(const Eigen::Matrix3d& symmetric);
// By the roots of the characteristic polynomial: faster, less exact.
Spectrum3 spectrum_direct(const Eigen::Matrix3d& symmetric);

// Of the least eigenvalue.
Eigen::Matrix<double, 9, 1> least_eigenvector(const Eigen::Matrix<double, 9, 9>& symmetric);

// The least turn that brings one direction onto another; of opposite ones a half turn about any axis across. Eigen's
// own compiles a decomposition for the latter in each file.
Eigen::Quaterniond turn_between(const Eigen::Vector3d& from, const Eigen::Vector3d& to);

}  // namespace icefield
