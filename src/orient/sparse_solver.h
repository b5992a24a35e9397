// Solves sparse systems of one pattern, compiled once for all that use it.
#pragma once
#include <Eigen/SparseCore>
#include <memory>
#include <vector>

namespace icefield {

// Positive definite and symmetric; entries of the lower triangle, those at one place are added.
class SparseSolver {
 public:
  explicit SparseSolver(std::size_t unknowns);
  ~SparseSolver();
  SparseSolver(const SparseSolver&) = delete;
  SparseSolver& operator=(const SparseSolver&) = delete;

  // The pattern must be that of the first call. False where the matrix is not definite.
  bool factorise(const std::vector<Eigen::Triplet<double>>& lower);
  Eigen::MatrixXd solve(const Eigen::MatrixXd& right) const;

 private:
  struct Factor;
  std::unique_ptr<Factor> factor_;
};

}  // namespace icefield
