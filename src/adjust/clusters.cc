#include "src/adjust/clusters.h"

#include <algorithm>
#include <numeric>

#include "icefield/base/random.h"

namespace icefield {
namespace {

// Halves a range of points along its longest axis until it is small enough, and gives each part the next number.
void number_parts(const std::vector<Eigen::Vector3d>& points, std::span<std::uint32_t> order, std::size_t size,
                  std::uint32_t& next, std::vector<std::uint32_t>& group_of) {
  if (order.size() <= size) {
    for (const std::uint32_t i : order) group_of[i] = next;
    ++next;
    return;
  }
  Eigen::Vector3d low = points[order[0]], high = low;
  for (const std::uint32_t i : order) low = low.cwiseMin(points[i]), high = high.cwiseMax(points[i]);
  Eigen::Index axis = 0;
  (high - low).maxCoeff(&axis);
  const auto middle = order.begin() + static_cast<std::ptrdiff_t>(order.size() / 2);
  std::nth_element(order.begin(), middle, order.end(), [&](std::uint32_t a, std::uint32_t b) {
    return points[a][axis] != points[b][axis] ? points[a][axis] < points[b][axis] : a < b;
  });
  number_parts(points, order.first(order.size() / 2), size, next, group_of);
  number_parts(points, order.subspan(order.size() / 2), size, next, group_of);
}

}  // namespace

std::vector<std::uint32_t> groups_in_space(const std::vector<Eigen::Vector3d>& points, std::size_t size) {
  std::vector<std::uint32_t> order(points.size()), group_of(points.size(), 0);
  std::iota(order.begin(), order.end(), 0u);
  std::uint32_t next = 0;
  if (!points.empty()) number_parts(points, order, std::max<std::size_t>(1, size), next, group_of);
  return group_of;
}

Eigen::MatrixXd draws_by_groups(const NormalEquations& equations, const BlockCholesky& factor,
                                const std::vector<std::uint32_t>& group_of_point, int draws) {
  NormalEquations::Signs signs(static_cast<Eigen::Index>(group_of_point.size()), draws);
  for (std::size_t i = 0; i < group_of_point.size(); ++i) {
    std::uint64_t bits = 0;
    CounterRandom random(combine_keys(0x516, group_of_point[i]));
    for (int k = 0; k < draws; ++k) {
      if (k % 64 == 0) bits = random.bits();
      signs(static_cast<Eigen::Index>(i), k) = bits >> (k % 64) & 1 ? 1.0f : -1.0f;
    }
  }
  Eigen::MatrixXd changes = equations.signed_gradients(signs);
  for (int k = 0; k < draws; ++k) {
    Eigen::VectorXd x = changes.col(k);
    factor.solve(x);
    changes.col(k) = x;
  }
  return changes;
}

}  // namespace icefield
