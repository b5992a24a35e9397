#include <algorithm>
#include <cmath>

#include "icefield/surface/grid_surface.h"
#include "simulate/plan.h"

namespace icefield::simulate {
namespace {

// Which nodes air reaches from above without going through anything.
std::vector<std::uint8_t> nodes_in_air(const Scene& scene, const Grid& grid, const Executor& executor,
                                       Monitor& monitor) {
  // From each node the ways to the next ones along the axes that nothing blocks, a bit each.
  std::vector<std::uint8_t> open(grid.size(), 0);
  executor.run("truth: solid", static_cast<std::size_t>(grid.nodes[2]), monitor, [&](std::size_t layer) {
    const int k = static_cast<int>(layer);
    for (int j = 0; j < grid.nodes[1]; ++j)
      for (int i = 0; i < grid.nodes[0]; ++i) {
        const Eigen::Vector3f from = grid.place(i, j, k).cast<float>();
        for (int axis = 0; axis < 3; ++axis) {
          const int at[] = {i, j, k};
          if (at[axis] + 1 >= grid.nodes[static_cast<std::size_t>(axis)]) continue;
          const Eigen::Vector3f way = static_cast<float>(grid.step) * Eigen::Vector3f::Unit(axis);
          // Both ways: a ray may miss what it starts on.
          if (!scene.blocked(from, way, 1.0f) && !scene.blocked(from + way, -way, 1.0f))
            open[grid.index(i, j, k)] |= static_cast<std::uint8_t>(1 << axis);
        }
      }
  });
  std::vector<std::uint8_t> air(grid.size(), 0);
  std::vector<std::array<int, 3>> queue;
  for (int j = 0; j < grid.nodes[1]; ++j)
    for (int i = 0; i < grid.nodes[0]; ++i) {
      air[grid.index(i, j, grid.nodes[2] - 1)] = 1;
      queue.push_back({i, j, grid.nodes[2] - 1});
    }
  while (!queue.empty()) {
    const std::array<int, 3> at = queue.back();
    queue.pop_back();
    for (std::size_t axis = 0; axis < 3; ++axis)
      for (const int side : {-1, 1}) {
        std::array<int, 3> next = at;
        next[axis] += side;
        if (next[axis] < 0 || next[axis] >= grid.nodes[axis]) continue;
        const std::array<int, 3>& lower = side > 0 ? at : next;
        const std::size_t n = grid.index(next[0], next[1], next[2]);
        if (air[n] || !(open[grid.index(lower[0], lower[1], lower[2])] >> axis & 1)) continue;
        air[n] = 1;
        queue.push_back(next);
      }
  }
  return air;
}

}  // namespace

icefield::Mesh true_solid(const Scene& scene, const Bounds& bounds, double step, const Executor& executor,
                          Monitor& monitor) {
  Grid grid;
  grid.step = step;
  const Eigen::Vector3d half = bounds.half_size + Eigen::Vector3d::Constant(step);
  grid.low = bounds.centre - half;
  for (std::size_t c = 0; c < 3; ++c)
    grid.nodes[c] = static_cast<int>(std::ceil(2 * half[static_cast<int>(c)] / step)) + 1;
  constexpr double kMost = 2e8;
  if (static_cast<double>(grid.nodes[0]) * grid.nodes[1] * grid.nodes[2] > kMost)
    throw Error(ErrorKind::usage, "solid", "has too many cells at this spacing", "give a larger one");
  const std::vector<std::uint8_t> air = nodes_in_air(scene, grid, executor, monitor);
  std::vector<float> values(grid.size());
  for (int k = 0; k < grid.nodes[2]; ++k)
    for (int j = 0; j < grid.nodes[1]; ++j)
      for (int i = 0; i < grid.nodes[0]; ++i) {
        // Cut off at the grid's sides.
        const bool side =
            i == 0 || j == 0 || k == 0 || i + 1 == grid.nodes[0] || j + 1 == grid.nodes[1] || k + 1 == grid.nodes[2];
        values[grid.index(i, j, k)] = side || air[grid.index(i, j, k)] ? -1.0f : 1.0f;
      }
  icefield::Mesh mesh = grid_surface(grid, values, [&](const Eigen::Vector3d& inside, const Eigen::Vector3d& outside) {
    const auto hit = scene.trace(outside.cast<float>(), (inside - outside).cast<float>());
    return hit && hit->distance <= 1 ? 1.0 - static_cast<double>(hit->distance) : 0.5;
  });
  set_normals(mesh);
  mesh.colours.resize(mesh.positions.size());
  constexpr std::size_t kGrain = 2048;
  executor.run("truth: colours", block_count(mesh.positions.size(), kGrain), monitor, [&](std::size_t block) {
    for (std::size_t v = block * kGrain; v < std::min((block + 1) * kGrain, mesh.positions.size()); ++v) {
      const Eigen::Vector3f away = static_cast<float>(2 * step) * mesh.normals[v];
      mesh.colours[v] = colour_seen(scene, mesh.position(v).cast<float>() + away, -away.normalized(), 0.25f);
    }
  });
  return mesh;
}

}  // namespace icefield::simulate
