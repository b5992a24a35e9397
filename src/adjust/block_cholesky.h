// Cholesky factor of a sparse symmetric matrix of dense blocks.
#pragma once
#include <Eigen/Core>
#include <memory>

#include "src/adjust/block_matrix.h"

namespace icefield {

// Multifrontal (Duff and Reid, "The multifrontal solution of indefinite sparse symmetric linear equations", 1983), with
// the nodes eliminated in their order: find one that fills in little with elimination_order. Dense matrices are the
// case of one front. The same bytes for any number of threads.
class BlockCholesky {
 public:
  BlockCholesky() = default;
  explicit BlockCholesky(const BlockGraph& graph);

  double multiply_adds() const { return elimination_cost(fronts_); }
  std::size_t factor_values() const { return factor_at_.back(); }  // doubles

  // False when the matrix is not positive definite.
  bool factorise(const BlockMatrix& matrix, const Executor& executor);
  void solve(Eigen::VectorXd& x) const;

  // The blocks of the inverse that stand where the matrix has blocks (Takahashi, Fagan and Chin, "Formation of a sparse
  // bus impedance matrix and its application to short circuit study", 1973), in the layout of the matrix.
  BlockMatrix inverse_blocks(const BlockMatrix& pattern, const Executor& executor) const;

 private:
  class Buffers;
  struct Update;  // what a front leaves to its parent
  using FactorMap = Eigen::Map<const Eigen::MatrixXd>;
  FactorMap factor(std::size_t front) const;  // unknowns by pivot unknowns, lower
  bool factorise_front(const BlockMatrix& matrix, std::size_t index, std::vector<Update>& updates,
                       const Executor* executor);
  void invert_front(std::size_t index, std::vector<Eigen::MatrixXd>& inverses, BlockMatrix& out) const;

  BlockGraph graph_;
  std::vector<int> offsets_;
  std::vector<Front> fronts_;
  std::vector<std::vector<std::uint32_t>> children_;
  // Subtrees are worked on independently of each other, then the fronts above them one after the other, each by all
  // threads; in stages, so that few updates wait. Children stand before parents.
  struct Stage {
    std::vector<std::vector<std::uint32_t>> subtrees;
    std::vector<std::uint32_t> top;
  };
  std::vector<Stage> stages_;
  std::vector<std::uint64_t> factor_at_;  // of each front in `factors_`; one more entry
  std::vector<double> factors_;
  std::shared_ptr<Buffers> buffers_;  // memory of updates, kept from one factorisation to the next
};

}  // namespace icefield
