#include "src/adjust/conjugate_gradients.h"

#include <Eigen/Cholesky>

namespace icefield {

ConjugateGradients conjugate_gradients(BlockMatrix& matrix, const Eigen::VectorXd& right, double forcing,
                                       int max_iterations, const Executor& executor, Eigen::VectorXd& x) {
  ConjugateGradients result;
  x.setZero(matrix.unknowns());
  std::vector<Eigen::LLT<Eigen::MatrixXd>> blocks(matrix.nodes());
  for (std::size_t a = 0; a < matrix.nodes(); ++a) {
    const Eigen::MatrixXd block = matrix.block(a, a);
    blocks[a].compute(block);
    if (blocks[a].info() != Eigen::Success) {
      result.definite = false;
      return result;
    }
  }
  const auto precondition = [&](const Eigen::VectorXd& r) {
    Eigen::VectorXd z(r.size());
    for (std::size_t a = 0; a < matrix.nodes(); ++a)
      z.segment(matrix.offsets[a], matrix.sizes[a]) = blocks[a].solve(r.segment(matrix.offsets[a], matrix.sizes[a]));
    return z;
  };
  Eigen::VectorXd residual = right, z = precondition(residual), direction = z, product;
  double rz = residual.dot(z), model = 0;
  while (result.iterations < max_iterations && rz > 0) {
    matrix.multiply(direction, product, executor);
    const double curvature = direction.dot(product);
    if (!(curvature > 0)) {
      result.definite = result.iterations > 0;
      return result;
    }
    ++result.iterations;
    const double alpha = rz / curvature;
    x += alpha * direction;
    residual -= alpha * product;
    // Gain of the model, x^T b - x^T A x / 2.
    const double gained = 0.5 * x.dot(right + residual);
    if (result.iterations * (gained - model) <= forcing * gained) break;
    model = gained;
    z = precondition(residual);
    const double next = residual.dot(z);
    direction = z + (next / rz) * direction;
    rz = next;
  }
  return result;
}

}  // namespace icefield
