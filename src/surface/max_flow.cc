#include "src/surface/max_flow.h"

#include <algorithm>
#include <limits>

namespace icefield {
namespace {

constexpr std::uint32_t kNone = 0xffffffffu, kTerminal = 0xfffffffeu, kOrphan = 0xfffffffdu;

}  // namespace

MaxFlow::MaxFlow(std::size_t nodes, std::size_t edges) : nodes_(nodes) {
  for (Node& node : nodes_) node.first = node.parent = kNone;
  arcs_.reserve(2 * edges);
}

void MaxFlow::add_terminals(std::uint32_t node, std::int64_t from_source, std::int64_t to_sink) {
  // What goes straight through is flow already.
  std::int64_t& terminal = nodes_[node].terminal;
  if (terminal > 0)
    from_source += terminal;
  else
    to_sink -= terminal;
  flow_ += std::min(from_source, to_sink);
  terminal = from_source - to_sink;
}

void MaxFlow::add_edge(std::uint32_t a, std::uint32_t b, std::int64_t forth, std::int64_t back) {
  const auto at = static_cast<std::uint32_t>(arcs_.size());
  arcs_.push_back({b, nodes_[a].first, forth});
  arcs_.push_back({a, nodes_[b].first, back});
  nodes_[a].first = at;
  nodes_[b].first = at + 1;
}

bool MaxFlow::with_sink(std::uint32_t node) const {
  return nodes_[node].parent != kNone && nodes_[node].to_sink;
}

void MaxFlow::activate(std::uint32_t node) {
  if (nodes_[node].active) return;
  nodes_[node].active = true;
  active_.push_back(node);
}

std::int64_t MaxFlow::solve() {
  for (std::uint32_t i = 0; i < nodes_.size(); ++i) {
    Node& node = nodes_[i];
    if (node.terminal == 0) continue;
    node.to_sink = node.terminal < 0;
    node.parent = kTerminal;
    node.distance = 1;
    activate(i);
  }
  while (!active_.empty()) {
    const std::uint32_t node = active_.front();
    // It stays in front for as long as it finds joints.
    std::uint32_t joint = kNone;
    if (nodes_[node].parent != kNone) joint = grow(node);
    if (joint == kNone) {
      active_.pop_front();
      nodes_[node].active = false;
      continue;
    }
    ++time_;
    augment(joint);
    while (!orphans_.empty()) {
      const std::uint32_t orphan = orphans_.front();
      orphans_.pop_front();
      adopt(orphan);
    }
  }
  return flow_;
}

std::uint32_t MaxFlow::grow(std::uint32_t i) {
  const Node& node = nodes_[i];
  for (std::uint32_t a = node.first; a != kNone; a = arcs_[a].next) {
    if (!open(a, node.to_sink)) continue;
    const std::uint32_t j = arcs_[a].head;
    Node& other = nodes_[j];
    if (other.parent == kNone) {
      other.to_sink = node.to_sink;
      other.parent = a ^ 1;
      other.time = node.time;
      other.distance = node.distance + 1;
      activate(j);
    } else if (other.to_sink != node.to_sink) {
      return node.to_sink ? a ^ 1 : a;
    } else if (other.time <= node.time && other.distance > node.distance) {
      // Nearer to the terminal this way.
      other.parent = a ^ 1;
      other.time = node.time;
      other.distance = node.distance + 1;
    }
  }
  return kNone;
}

void MaxFlow::augment(std::uint32_t joint) {
  std::int64_t most = arcs_[joint].left;
  const std::uint32_t ends[2] = {tail(joint), arcs_[joint].head};
  for (const bool to_sink : {false, true}) {
    std::uint32_t i = ends[to_sink];
    for (std::uint32_t a; (a = nodes_[i].parent) != kTerminal; i = arcs_[a].head)
      most = std::min(most, arcs_[to_sink ? a : a ^ 1].left);
    most = std::min(most, std::abs(nodes_[i].terminal));
  }
  arcs_[joint].left -= most;
  arcs_[joint ^ 1].left += most;
  for (const bool to_sink : {false, true}) {
    std::uint32_t i = ends[to_sink];
    for (std::uint32_t a; (a = nodes_[i].parent) != kTerminal; i = arcs_[a].head) {
      const std::uint32_t used = to_sink ? a : a ^ 1;
      arcs_[used].left -= most;
      arcs_[used ^ 1].left += most;
      if (arcs_[used].left == 0) {
        nodes_[i].parent = kOrphan;
        orphans_.push_front(i);
        // The way up is needed no more below: its head is read from the arc.
      }
    }
    nodes_[i].terminal += to_sink ? most : -most;
    if (nodes_[i].terminal == 0) {
      nodes_[i].parent = kOrphan;
      orphans_.push_front(i);
    }
  }
  flow_ += most;
}

void MaxFlow::adopt(std::uint32_t i) {
  const bool to_sink = nodes_[i].to_sink;
  constexpr std::uint32_t kFar = std::numeric_limits<std::uint32_t>::max();
  std::uint32_t best = kNone, least = kFar;
  for (std::uint32_t a = nodes_[i].first; a != kNone; a = arcs_[a].next) {
    // From the neighbour to here.
    if (!open(a ^ 1, to_sink)) continue;
    const std::uint32_t neighbour = arcs_[a].head;
    if (nodes_[neighbour].to_sink != to_sink || nodes_[neighbour].parent == kNone) continue;
    // Does it still hang on the terminal?
    std::uint32_t distance = 0;
    std::uint32_t j = neighbour;
    while (true) {
      if (nodes_[j].time == time_) {
        distance += nodes_[j].distance;
        break;
      }
      const std::uint32_t up = nodes_[j].parent;
      ++distance;
      if (up == kTerminal) {
        nodes_[j].time = time_;
        nodes_[j].distance = 1;
        break;
      }
      if (up == kOrphan || up == kNone) {
        distance = kFar;
        break;
      }
      j = arcs_[up].head;
    }
    if (distance == kFar) continue;
    if (distance < least) best = a, least = distance;
    for (j = neighbour; nodes_[j].time != time_; j = arcs_[nodes_[j].parent].head) {
      nodes_[j].time = time_;
      nodes_[j].distance = distance--;
    }
  }
  nodes_[i].parent = best;
  if (best != kNone) {
    nodes_[i].time = time_;
    nodes_[i].distance = least + 1;
    return;
  }
  for (std::uint32_t a = nodes_[i].first; a != kNone; a = arcs_[a].next) {
    const std::uint32_t j = arcs_[a].head;
    Node& other = nodes_[j];
    if (other.to_sink != to_sink || other.parent == kNone) continue;
    if (open(a ^ 1, to_sink)) activate(j);
    if (other.parent != kTerminal && other.parent != kOrphan && arcs_[other.parent].head == i) {
      other.parent = kOrphan;
      orphans_.push_back(j);
    }
  }
}

}  // namespace icefield
