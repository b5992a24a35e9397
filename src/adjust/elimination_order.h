// In which order the unknowns of a sparse symmetric system are eliminated.
#pragma once
#include <cstdint>
#include <vector>

namespace icefield {

// Which nodes of a symmetric block matrix share a block: without the diagonal, both directions, ascending.
struct BlockGraph {
  std::vector<int> sizes;  // unknowns of each node
  std::vector<std::vector<std::uint32_t>> neighbours;
  std::size_t size() const { return sizes.size(); }
};

// One step of the elimination: nodes that go together, and the nodes that they fill in. Both ascending.
struct Front {
  std::vector<std::uint32_t> pivots, rest;
  std::int32_t parent = -1;  // the front that takes its update in; always a later one
  int pivot_unknowns = 0, rest_unknowns = 0;
};

// Multiply-adds of eliminating `pivots` unknowns of a dense symmetric matrix of `pivots + rest`.
double elimination_cost(int pivots, int rest);
double elimination_cost(const std::vector<Front>& fronts);

// The fronts of eliminating nodes 0, 1, 2 ... (a node belongs to the front in which it is eliminated). Nodes with
// nearly the same fill are put in one front, which costs a few zeros and gains large dense blocks.
std::vector<Front> elimination_fronts(const BlockGraph& graph);

// An order that fills in little: the nodes marked `last` at the end, the others by minimum degree or by nested
// dissection (George and Liu, "An automatic nested dissection algorithm for irregular finite element problems", 1978),
// whichever costs less. order[k] is the node that is eliminated as number k.
std::vector<std::uint32_t> elimination_order(const BlockGraph& graph, const std::vector<bool>& last);

// How many steps from neighbour to neighbour lie between the nodes that are the farthest apart, nearly; nodes in
// `left_out` are no way through. The most of all pieces.
std::size_t graph_depth(const BlockGraph& graph, const std::vector<bool>& left_out);

BlockGraph reordered(const BlockGraph& graph, const std::vector<std::uint32_t>& order);

}  // namespace icefield
