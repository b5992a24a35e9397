// Choices among labels for many places, where neighbours of unlike labels cost something.
#pragma once
#include <algorithm>
#include <cstdint>
#include <vector>

#include "icefield/base/monitor.h"
#include "src/surface/max_flow.h"

namespace icefield {

inline constexpr std::uint32_t kNoNode = 0xffffffffu;

// The best choice among those that change some of the places to `label` (Boykov, Veksler and Zabih, "Fast approximate
// energy minimization via graph cuts", 2001). `seen`: places that may take it. `node`: kNoNode for all places, and
// again when it returns. A problem has
//   std::vector<std::uint32_t>& choice()             by place
//   std::int64_t loss(place, label)                  not below 0
//   void around(place, visit(neighbour, weight))     each pair from both sides
//   std::int64_t seam(place, neighbour, weight, of_place, of_neighbour)   a metric of the labels
template <class Problem>
bool expand_label(Problem& problem, std::uint32_t label, const std::vector<std::uint32_t>& seen,
                  std::vector<std::uint32_t>& node) {
  std::vector<std::uint32_t>& choice = problem.choice();
  std::vector<std::uint32_t> places;
  for (const std::uint32_t f : seen)
    if (choice[f] != label) node[f] = static_cast<std::uint32_t>(places.size()), places.push_back(f);
  if (places.empty()) return false;
  std::vector<std::int64_t> keep(places.size()), take(places.size());
  for (std::uint32_t i = 0; i < places.size(); ++i) {
    keep[i] = problem.loss(places[i], choice[places[i]]);
    take[i] = problem.loss(places[i], label);
  }
  MaxFlow flow(places.size(), 2 * places.size());
  const auto add = [&](std::uint32_t i, std::int64_t cost_of_taking) {
    if (cost_of_taking > 0)
      take[i] += cost_of_taking;
    else
      keep[i] -= cost_of_taking;
  };
  for (std::uint32_t i = 0; i < places.size(); ++i) {
    const std::uint32_t f = places[i];
    problem.around(f, [&](std::uint32_t g, float weight) {
      const std::uint32_t j = node[g];
      if (j == kNoNode) {
        keep[i] += problem.seam(f, g, weight, choice[f], choice[g]);
        take[i] += problem.seam(f, g, weight, label, choice[g]);
      } else if (i < j) {
        const std::int64_t both_keep = problem.seam(f, g, weight, choice[f], choice[g]),
                           second_takes = problem.seam(f, g, weight, choice[f], label),
                           first_takes = problem.seam(f, g, weight, label, choice[g]);
        add(i, first_takes - both_keep);
        add(j, -first_takes);
        flow.add_edge(i, j, std::max<std::int64_t>(0, second_takes + first_takes - both_keep), 0);
      }
    });
  }
  for (std::uint32_t i = 0; i < places.size(); ++i) flow.add_terminals(i, take[i], keep[i]);
  flow.solve();
  bool changed = false;
  for (std::uint32_t i = 0; i < places.size(); ++i) {
    node[places[i]] = kNoNode;
    if (!flow.with_sink(i)) continue;
    choice[places[i]] = label;
    changed = true;
  }
  return changed;
}

// Sweeps over all labels, until nothing changes or there were so many. `seen_by`: by label the places that may take it.
template <class Problem>
void expand_labels(Problem& problem, const std::vector<std::vector<std::uint32_t>>& seen_by, std::size_t sweeps,
                   Monitor& monitor) {
  const std::size_t labels = seen_by.size();
  std::vector<std::uint32_t> node(problem.choice().size(), kNoNode);
  for (std::size_t sweep = 0; sweep < sweeps; ++sweep) {
    bool changed = false;
    for (std::uint32_t label = 0; label < labels; ++label) {
      monitor.progress("choose photos", sweep * labels + label, sweeps * labels);
      monitor.check();
      if (expand_label(problem, label, seen_by[label], node)) changed = true;
    }
    if (!changed) break;
  }
  monitor.progress("choose photos", sweeps * labels, sweeps * labels);
}

}  // namespace icefield
