// Iterative solution of a sparse symmetric positive definite system of dense blocks.
#pragma once
#include "src/adjust/block_matrix.h"

namespace icefield {

struct ConjugateGradients {
  int iterations = 0;
  bool definite = true;  // false: a direction of negative curvature or a block that is not positive definite came up
};

// Preconditioned by the diagonal blocks. Ends after `max_iterations`, or when the quadratic model gains less in an
// iteration than `forcing` times its mean gain so far (Nash and Sofer, "Assessing a search direction within a truncated
// Newton method", 1990): a step of the adjustment need not be solved more exactly than the linearisation holds.
ConjugateGradients conjugate_gradients(BlockMatrix& matrix, const Eigen::VectorXd& right, double forcing,
                                       int max_iterations, const Executor& executor, Eigen::VectorXd& x);

}  // namespace icefield
