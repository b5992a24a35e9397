#include "src/adjust/elimination_order.h"

#include <Eigen/OrderingMethods>
#include <Eigen/SparseCore>
#include <algorithm>
#include <numeric>

namespace icefield {
namespace {

using Nodes = std::vector<std::uint32_t>;

Nodes minimum_degree(const BlockGraph& graph, const Nodes& nodes) {
  std::vector<int> at(graph.size(), -1);
  for (std::size_t i = 0; i < nodes.size(); ++i) at[nodes[i]] = static_cast<int>(i);
  std::vector<Eigen::Triplet<double>> entries;
  for (const std::uint32_t a : nodes) {
    entries.emplace_back(at[a], at[a], 1.0);
    for (const std::uint32_t b : graph.neighbours[a])
      if (at[b] >= 0) entries.emplace_back(at[a], at[b], 1.0);
  }
  const auto n = static_cast<Eigen::Index>(nodes.size());
  Eigen::SparseMatrix<double> matrix(n, n);
  matrix.setFromTriplets(entries.begin(), entries.end());
  Eigen::PermutationMatrix<Eigen::Dynamic, Eigen::Dynamic, int> permutation;
  Eigen::AMDOrdering<int>()(matrix, permutation);
  Nodes order(nodes.size());
  for (std::size_t k = 0; k < nodes.size(); ++k)
    order[k] = nodes[static_cast<std::size_t>(permutation.indices()[static_cast<Eigen::Index>(k)])];
  return order;
}

// Cuts a graph in two by a thin layer of nodes, again and again.
class Dissection {
 public:
  explicit Dissection(const BlockGraph& graph) : graph_(graph), part_(graph.size(), 0), level_(graph.size(), -1) {}

  Nodes order(const Nodes& nodes) {
    Nodes order;
    const std::uint32_t part = ++parts_;
    for (const std::uint32_t n : nodes) part_[n] = part;
    dissect(nodes, order);
    return order;
  }

 private:
  static constexpr std::size_t kSmall = 12;

  // Breadth-first layers of the part that holds `start`.
  std::vector<Nodes> layers_from(std::uint32_t start) {
    std::vector<Nodes> layers{{start}};
    const std::uint32_t part = part_[start];
    Nodes touched{start};
    level_[start] = 0;
    while (true) {
      Nodes next;
      for (const std::uint32_t a : layers.back())
        for (const std::uint32_t b : graph_.neighbours[a])
          if (part_[b] == part && level_[b] < 0) {
            level_[b] = static_cast<int>(layers.size());
            next.push_back(b);
            touched.push_back(b);
          }
      if (next.empty()) break;
      layers.push_back(std::move(next));
    }
    for (const std::uint32_t n : touched) level_[n] = -1;
    return layers;
  }

  void dissect(const Nodes& nodes, Nodes& order) {
    if (nodes.size() <= kSmall) {
      order.insert(order.end(), nodes.begin(), nodes.end());
      return;
    }
    // From a node at the rim, so that there are many thin layers.
    std::vector<Nodes> layers = layers_from(nodes.front());
    for (int i = 0; i < 4; ++i) {
      auto farther = layers_from(layers.back().front());
      const bool better = farther.size() > layers.size();
      layers = std::move(farther);
      if (!better) break;
    }
    std::size_t reached = 0;
    for (const Nodes& layer : layers) reached += layer.size();
    if (reached < nodes.size()) {  // several pieces
      Nodes piece, others;
      for (const Nodes& layer : layers) piece.insert(piece.end(), layer.begin(), layer.end());
      const std::uint32_t own = ++parts_;
      for (const std::uint32_t n : piece) part_[n] = own;
      for (const std::uint32_t n : nodes)
        if (part_[n] != own) others.push_back(n);
      std::sort(piece.begin(), piece.end());
      dissect(piece, order);
      dissect(others, order);
      return;
    }
    if (layers.size() < 3) {
      order.insert(order.end(), nodes.begin(), nodes.end());
      return;
    }
    // The thinnest layer that leaves at least a quarter on each side; the middle one where none does.
    std::size_t best = 0, before = 0, middle = 0;
    double best_size = 1e300;
    for (std::size_t k = 0; k < layers.size(); ++k) {
      const std::size_t after = nodes.size() - before - layers[k].size();
      if (2 * before <= nodes.size()) middle = k;
      if (4 * before >= nodes.size() && 4 * after >= nodes.size() &&
          static_cast<double>(layers[k].size()) < best_size) {
        best = k;
        best_size = static_cast<double>(layers[k].size());
      }
      before += layers[k].size();
    }
    if (best == 0) best = std::clamp<std::size_t>(middle, 1, layers.size() - 2);
    const std::uint32_t low = ++parts_, high = ++parts_;
    Nodes first, second, between;
    for (std::size_t k = 0; k < layers.size(); ++k)
      for (const std::uint32_t n : layers[k]) {
        part_[n] = k > best ? high : low;
        if (k < best) first.push_back(n);
        if (k > best) second.push_back(n);
      }
    // A node of the layer that has no neighbour beyond it need not divide anything.
    for (const std::uint32_t n : layers[best]) {
      const auto& around = graph_.neighbours[n];
      if (std::any_of(around.begin(), around.end(), [&](std::uint32_t b) { return part_[b] == high; }))
        between.push_back(n);
      else
        first.push_back(n);
    }
    for (const std::uint32_t n : between) part_[n] = 0;
    std::sort(first.begin(), first.end());
    std::sort(second.begin(), second.end());
    std::sort(between.begin(), between.end());
    dissect(first, order);
    dissect(second, order);
    order.insert(order.end(), between.begin(), between.end());
  }

  const BlockGraph& graph_;
  std::vector<std::uint32_t> part_;
  std::vector<int> level_;
  std::uint32_t parts_ = 0;
};

int unknowns_of(const BlockGraph& graph, const Nodes& nodes) {
  int sum = 0;
  for (const std::uint32_t n : nodes) sum += graph.sizes[n];
  return sum;
}

double stored(const Front& front) {
  return static_cast<double>(front.pivot_unknowns) * (0.5 * front.pivot_unknowns + front.rest_unknowns);
}

}  // namespace

double elimination_cost(int pivots, int rest) {
  const double p = pivots, q = rest;
  return p * p * p / 6 + 0.5 * p * p * q + 0.5 * p * q * q;
}

double elimination_cost(const std::vector<Front>& fronts) {
  double sum = 0;
  for (const Front& front : fronts) sum += elimination_cost(front.pivot_unknowns, front.rest_unknowns);
  return sum;
}

std::vector<Front> elimination_fronts(const BlockGraph& graph) {
  // The fill of each node: its own later neighbours and those of the nodes that pass theirs on to it.
  const std::size_t n = graph.size();
  std::vector<Nodes> fill(n);
  std::vector<std::vector<std::uint32_t>> children(n);
  std::vector<std::uint32_t> seen(n, 0xffffffffu);
  for (std::size_t a = 0; a < n; ++a) {
    seen[a] = static_cast<std::uint32_t>(a);
    const auto take = [&](const Nodes& nodes) {
      for (const std::uint32_t b : nodes)
        if (b > a && seen[b] != a) {
          seen[b] = static_cast<std::uint32_t>(a);
          fill[a].push_back(b);
        }
    };
    take(graph.neighbours[a]);
    for (const std::uint32_t child : children[a]) take(fill[child]);
    std::sort(fill[a].begin(), fill[a].end());
    if (!fill[a].empty()) children[fill[a].front()].push_back(static_cast<std::uint32_t>(a));
  }

  // A front for each node; then fronts are taken into their parent where that costs little. `front_of` is -1 once taken
  // in.
  std::vector<Front> fronts(n);
  for (std::size_t a = 0; a < n; ++a) {
    Front& front = fronts[a];
    front.pivots = {static_cast<std::uint32_t>(a)};
    front.parent = fill[a].empty() ? -1 : static_cast<std::int32_t>(fill[a].front());
    front.pivot_unknowns = graph.sizes[a];
    front.rest = std::move(fill[a]);
    front.rest_unknowns = unknowns_of(graph, front.rest);
  }
  std::vector<std::int32_t> taken_by(n, -1);
  for (std::size_t p = 0; p < n; ++p) {
    // The child with the most fill first: it is the one that differs least.
    auto offspring = children[p];
    std::stable_sort(offspring.begin(), offspring.end(), [&](std::uint32_t a, std::uint32_t b) {
      return fronts[a].rest_unknowns > fronts[b].rest_unknowns;
    });
    for (const std::uint32_t c : offspring) {
      Front &child = fronts[c], &parent = fronts[p];
      Front both;
      both.pivot_unknowns = child.pivot_unknowns + parent.pivot_unknowns;
      both.rest_unknowns = parent.rest_unknowns;
      const double growth = stored(both) / (stored(child) + stored(parent));
      const bool small = child.pivot_unknowns <= 64;
      if (growth > (small ? 1.6 : 1.1)) continue;
      parent.pivots.insert(parent.pivots.end(), child.pivots.begin(), child.pivots.end());
      parent.pivot_unknowns = both.pivot_unknowns;
      taken_by[c] = static_cast<std::int32_t>(p);
    }
  }
  std::vector<std::int32_t> number(n, -1);
  std::vector<Front> result;
  for (std::size_t a = 0; a < n; ++a) {
    if (taken_by[a] >= 0) continue;
    number[a] = static_cast<std::int32_t>(result.size());
    std::sort(fronts[a].pivots.begin(), fronts[a].pivots.end());
    result.push_back(std::move(fronts[a]));
  }
  for (Front& front : result) {
    if (front.parent < 0) continue;
    auto p = static_cast<std::size_t>(front.parent);
    while (taken_by[p] >= 0) p = static_cast<std::size_t>(taken_by[p]);
    front.parent = number[p];
  }
  return result;
}

std::size_t graph_depth(const BlockGraph& graph, const std::vector<bool>& left_out) {
  std::vector<std::uint32_t> met(graph.size(), 0);
  std::uint32_t walk = 0;
  std::size_t deepest = 0;
  // Walks layer by layer from a node; a second time from the end of the first walk.
  const auto walk_from = [&](std::uint32_t start, std::uint32_t& last) {
    ++walk;
    Nodes layer{start};
    met[start] = walk;
    std::size_t depth = 0;
    while (true) {
      last = layer.front();
      Nodes next;
      for (const std::uint32_t a : layer)
        for (const std::uint32_t b : graph.neighbours[a])
          if (met[b] != walk && !left_out[b]) {
            met[b] = walk;
            next.push_back(b);
          }
      if (next.empty()) return depth;
      layer = std::move(next);
      ++depth;
    }
  };
  for (std::uint32_t n = 0; n < graph.size(); ++n) {
    if (met[n] != 0 || left_out[n]) continue;
    std::uint32_t end = n, other = n;
    walk_from(n, end);
    deepest = std::max(deepest, walk_from(end, other));
  }
  return deepest;
}

BlockGraph reordered(const BlockGraph& graph, const std::vector<std::uint32_t>& order) {
  std::vector<std::uint32_t> place(order.size());
  for (std::size_t k = 0; k < order.size(); ++k) place[order[k]] = static_cast<std::uint32_t>(k);
  BlockGraph result;
  result.sizes.resize(order.size());
  result.neighbours.resize(order.size());
  for (std::size_t k = 0; k < order.size(); ++k) {
    result.sizes[k] = graph.sizes[order[k]];
    for (const std::uint32_t b : graph.neighbours[order[k]]) result.neighbours[k].push_back(place[b]);
    std::sort(result.neighbours[k].begin(), result.neighbours[k].end());
  }
  return result;
}

std::vector<std::uint32_t> elimination_order(const BlockGraph& graph, const std::vector<bool>& last) {
  Nodes nodes, end;
  for (std::size_t i = 0; i < graph.size(); ++i) (last[i] ? end : nodes).push_back(static_cast<std::uint32_t>(i));
  Nodes best;
  double best_cost = 0;
  const auto consider = [&](Nodes order) {
    order.insert(order.end(), end.begin(), end.end());
    const double cost = elimination_cost(elimination_fronts(reordered(graph, order)));
    if (best.empty() || cost < best_cost) {
      best = std::move(order);
      best_cost = cost;
    }
  };
  consider(minimum_degree(graph, nodes));
  consider(Dissection(graph).order(nodes));
  return best;
}

}  // namespace icefield
