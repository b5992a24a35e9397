#include "src/orient/sparse_solver.h"

#include <Eigen/SparseCholesky>

namespace icefield {

struct SparseSolver::Factor {
  Eigen::SparseMatrix<double> matrix;
  Eigen::SimplicialLDLT<Eigen::SparseMatrix<double>> solver;
  bool analysed = false;
};

SparseSolver::SparseSolver(std::size_t unknowns) : factor_(std::make_unique<Factor>()) {
  factor_->matrix.resize(static_cast<Eigen::Index>(unknowns), static_cast<Eigen::Index>(unknowns));
}
SparseSolver::~SparseSolver() = default;

bool SparseSolver::factorise(const std::vector<Eigen::Triplet<double>>& lower) {
  factor_->matrix.setFromTriplets(lower.begin(), lower.end());
  if (!factor_->analysed) factor_->solver.analyzePattern(factor_->matrix);
  factor_->analysed = true;
  factor_->solver.factorize(factor_->matrix);
  return factor_->solver.info() == Eigen::Success;
}

Eigen::MatrixXd SparseSolver::solve(const Eigen::MatrixXd& right) const {
  return factor_->solver.solve(right);
}

}  // namespace icefield
