// The largest flow through a graph, and with it the cheapest cut between source and sink (Boykov and Kolmogorov, "An
// experimental comparison of min-cut/max-flow algorithms for energy minimization in vision", 2004): two search trees
// that grow towards each other and are mended, not made anew, after each path.
#pragma once
#include <cstddef>
#include <cstdint>
#include <deque>
#include <vector>

namespace icefield {

// Capacities are whole numbers, so that the cut is the same on every machine. One thread.
class MaxFlow {
 public:
  explicit MaxFlow(std::size_t nodes, std::size_t edges = 0);

  // Capacities add up where a node or a pair is named more than once. None may be negative.
  void add_terminals(std::uint32_t node, std::int64_t from_source, std::int64_t to_sink);
  void add_edge(std::uint32_t a, std::uint32_t b, std::int64_t forth, std::int64_t back);

  std::int64_t solve();  // once
  // After solve(): whether the node lies on the sink's side of the cut. A node that the cut leaves open lies on the
  // source's.
  bool with_sink(std::uint32_t node) const;

 private:
  struct Node {
    std::int64_t terminal = 0;  // left from the source (above 0) or to the sink (below)
    std::uint32_t first;        // its arcs
    std::uint32_t parent;       // arc to it
    std::uint32_t time = 0;     // when its distance was true
    std::uint32_t distance = 0;
    bool to_sink = false;  // of which tree
    bool active = false;
  };
  struct Arc {
    std::uint32_t head, next;
    std::int64_t left;
  };

  void activate(std::uint32_t node);
  // An arc that joins the trees, from the source's to the sink's, or none.
  std::uint32_t grow(std::uint32_t node);
  void augment(std::uint32_t joint);
  void adopt(std::uint32_t node);
  std::uint32_t tail(std::uint32_t arc) const { return arcs_[arc ^ 1].head; }
  // Whether flow could go along the arc as the tree of its tail has it.
  bool open(std::uint32_t arc, bool to_sink) const { return arcs_[to_sink ? arc ^ 1 : arc].left > 0; }

  std::vector<Node> nodes_;
  std::vector<Arc> arcs_;
  std::deque<std::uint32_t> active_, orphans_;
  std::int64_t flow_ = 0;
  std::uint32_t time_ = 0;
};

}  // namespace icefield
