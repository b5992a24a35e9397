// Moves along normals that measurements ask for, against the bending of a surface.
#pragma once
#include <span>
#include <vector>

#include "icefield/base/parallel.h"
#include "icefield/surface/mesh.h"

namespace icefield {

// A mesh's vertices with their neighbours.
class VertexRings {
 public:
  explicit VertexRings(const Mesh& mesh);
  std::span<const std::uint32_t> of(std::size_t vertex) const {
    return {neighbours_.data() + starts_[vertex], neighbours_.data() + starts_[vertex + 1]};
  }
  bool on_rim(std::size_t vertex) const { return rim_[vertex] != 0; }  // of an open edge, or of one of many faces
  std::size_t size() const { return rim_.size(); }

 private:
  std::vector<std::uint64_t> starts_;
  std::vector<std::uint32_t> neighbours_;
  std::vector<std::uint8_t> rim_;
};

// The moves d that make sum(weights d^2 - 2 wanted d) + smoothness sum((bend + L d)^2) + least sum(d^2) smallest, where
// L is the mean of the neighbours less the own value, `bend` the same of the places along the normal, and both are left
// out at rims. By conjugate gradients; sums in fixed blocks.
std::vector<float> moves_with_least_bending(const VertexRings& rings, std::span<const float> weights,
                                            std::span<const float> wanted, std::span<const float> bend,
                                            double smoothness, double least, const Executor& executor);

}  // namespace icefield
