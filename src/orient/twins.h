// Places that look alike.
#pragma once
#include "src/orient/view_graph.h"

namespace icefield {

// Pairs between places that look alike, when some pairs share suspiciously little. First blocks are made of the pairs
// that share what is usual, so that each shows one place; then each two of them are laid on each other as their common
// points say. Where their photos then stand side by side and do not see each other's points, the pairs between the two
// are wrong, all of them.
std::vector<std::uint32_t> pairs_of_twins(const OrientInput& input, const std::shared_ptr<const TrackSet>& tracks,
                                          const ViewGraph& graph, const std::vector<Camera>& cameras);

}  // namespace icefield
