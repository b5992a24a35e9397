// What both the estimate and the run start from.
#pragma once
#include "icefield/dense/dense.h"

namespace icefield {

struct DenseJob {
  Bounds bounds;
  std::vector<std::vector<std::uint32_t>> neighbours;   // by photo of the block
  std::size_t with_neighbours = 0, repeated = 0;
};
// Throws Error(computation) when the bounds hold nothing or no photo has a neighbour.
DenseJob plan_dense(const Block& block, const std::optional<Bounds>& bounds, const DenseOptions& options, const PhotoSource* photos);

}  // namespace icefield
