// The surface between what is inside and outside on a regular grid.
#pragma once
#include <Eigen/Core>
#include <array>
#include <cstddef>
#include <functional>

#include "icefield/surface/mesh.h"

namespace icefield {

// Nodes at low + step (i, j, k), i the fastest.
struct Grid {
  Eigen::Vector3d low = Eigen::Vector3d::Zero();
  double step = 1;
  std::array<int, 3> nodes{};

  std::size_t size() const {
    return static_cast<std::size_t>(nodes[0]) * static_cast<std::size_t>(nodes[1]) * static_cast<std::size_t>(nodes[2]);
  }
  std::size_t index(int i, int j, int k) const {
    return (static_cast<std::size_t>(k) * static_cast<std::size_t>(nodes[1]) + static_cast<std::size_t>(j)) *
               static_cast<std::size_t>(nodes[0]) +
           static_cast<std::size_t>(i);
  }
  Eigen::Vector3d place(int i, int j, int k) const { return low + step * Eigen::Vector3d(i, j, k); }
};

// Values above 0 are inside. Each cube is parted into six tetrahedra about a diagonal, and a plane put through each
// (marching tetrahedra: Doi and Koide, "An efficient method of triangulating equi-valued surfaces by using tetrahedral
// cells", 1991): manifold, oriented outwards, without self-intersection, and closed where all nodes on the grid's sides
// are outside. `share`: where between an inside and an outside place the surface lies, from 0 at the former to 1;
// without it as the two values have it. Throws Error(usage) where values are not one for each node, or a side has fewer
// than two nodes.
Mesh grid_surface(
    const Grid& grid, std::span<const float> values,
    const std::function<double(const Eigen::Vector3d& inside, const Eigen::Vector3d& outside)>& share = {});

}  // namespace icefield
