#include "src/adjust/mean_centre.h"

#include "src/adjust/block_cholesky.h"
#include "src/adjust/normal_equations.h"

namespace icefield {

std::optional<Eigen::Vector3d> variance_of_centres(const Block& block, const AdjustOptions& options,
                                                   std::span<const Eigen::Vector3d> weights, const Executor& executor) {
  NormalEquations equations(block, options, executor);
  const AdjustState state = equations.start();
  equations.linearise(state);
  equations.reduce(0);
  BlockMatrix& matrix = equations.matrix();
  BlockCholesky factor(equations.unknowns().graph);
  if (matrix.unknowns() == 0 || !factor.factorise(matrix, executor)) return std::nullopt;
  Eigen::Vector3d variances;
  for (int c = 0; c < 3; ++c) {
    Eigen::VectorXd sum = Eigen::VectorXd::Zero(matrix.unknowns());
    for (std::size_t i = 0; i < weights.size(); ++i)
      if (const std::int32_t node = equations.unknowns().photo_node[i]; node >= 0)
        sum[matrix.offsets[static_cast<std::size_t>(node)] + 3 + c] = weights[i][c];
    Eigen::VectorXd solved = sum;
    factor.solve(solved);
    variances[c] = options.observation_sigma_px * options.observation_sigma_px * sum.dot(solved);
  }
  if (!variances.allFinite() || variances.minCoeff() < 0) return std::nullopt;
  return variances;
}

}  // namespace icefield
