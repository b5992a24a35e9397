// How much more the errors of neighbouring observations move a block than independent ones of their size would.
#pragma once
#include <Eigen/Core>
#include <vector>

#include "src/adjust/block_cholesky.h"
#include "src/adjust/normal_equations.h"

namespace icefield {

// Points in groups of about `size` that lie together in space, by their number in the equations' order.
std::vector<std::uint32_t> groups_in_space(const std::vector<Eigen::Vector3d>& points, std::size_t size);

// Changes of the camera system's unknowns, a column for each draw, if the residuals of each group of points kept what
// they have in common and groups were independent: every group's residuals, as they are or turned round, at random
// (Wu, "Jackknife, bootstrap and other resampling methods in regression analysis", 1986; by groups as in Liang and
// Zeger, "Longitudinal data analysis using generalized linear models", 1986). Their mean squares are variances that
// hold whatever the errors of a group have to do with each other. `factor` is of the equations' matrix.
Eigen::MatrixXd draws_by_groups(const NormalEquations& equations, const BlockCholesky& factor,
                                const std::vector<std::uint32_t>& group_of_point, int draws);

}  // namespace icefield
