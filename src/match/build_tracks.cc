#include <algorithm>
#include <numeric>
#include <tuple>

#include "icefield/match/match.h"

namespace icefield {
namespace {

// Components of features, each a ring of its nodes. Two are joined unless they have a photo in common.
class Components {
 public:
  Components(std::size_t nodes, std::size_t photos)
      : parent_(nodes), next_(nodes), size_(nodes, 1), photo_(nodes), marked_(photos, 0) {
    std::iota(parent_.begin(), parent_.end(), 0u);
    std::iota(next_.begin(), next_.end(), 0u);
  }

  void set_photo(std::size_t node, std::size_t photo) { photo_[node] = static_cast<std::uint32_t>(photo); }

  std::uint32_t root(std::uint32_t node) {
    while (parent_[node] != node) node = parent_[node] = parent_[parent_[node]];
    return node;
  }

  bool join(std::uint32_t a, std::uint32_t b) {
    a = root(a), b = root(b);
    if (a == b) return true;
    if (size_[a] < size_[b]) std::swap(a, b);
    ++mark_;
    each(a, [&](std::uint32_t node) { marked_[photo_[node]] = mark_; });
    bool common = false;
    each(b, [&](std::uint32_t node) { common |= marked_[photo_[node]] == mark_; });
    if (common) return false;
    parent_[b] = a;
    size_[a] += size_[b];
    std::swap(next_[a], next_[b]);
    return true;
  }

 private:
  template <class Visit>
  void each(std::uint32_t of, Visit&& visit) const {
    std::uint32_t node = of;
    do visit(node), node = next_[node];
    while (node != of);
  }

  std::vector<std::uint32_t> parent_, next_, size_, photo_;
  std::vector<std::uint64_t> marked_;
  std::uint64_t mark_ = 0;
};

struct Link {
  std::uint32_t a, b;
  float ratio;
  std::uint32_t support = 0;  // features that are linked to both
};

// The nodes linked to each node, ascending.
class Neighbours {
 public:
  Neighbours(std::span<const Link> links, std::size_t nodes) : starts_(nodes + 1, 0), nodes_(2 * links.size()) {
    for (const Link& link : links) ++starts_[link.a + 1], ++starts_[link.b + 1];
    for (std::size_t i = 0; i < nodes; ++i) starts_[i + 1] += starts_[i];
    std::vector<std::uint64_t> at(starts_.begin(), starts_.end() - 1);
    for (const Link& link : links) nodes_[at[link.a]++] = link.b, nodes_[at[link.b]++] = link.a;
    for (std::size_t i = 0; i < nodes; ++i)
      std::sort(nodes_.begin() + static_cast<std::ptrdiff_t>(starts_[i]),
                nodes_.begin() + static_cast<std::ptrdiff_t>(starts_[i + 1]));
  }
  std::span<const std::uint32_t> of(std::uint32_t node) const {
    return {nodes_.data() + starts_[node], nodes_.data() + starts_[node + 1]};
  }

 private:
  std::vector<std::uint64_t> starts_;
  std::vector<std::uint32_t> nodes_;
};

std::uint32_t common(std::span<const std::uint32_t> a, std::span<const std::uint32_t> b) {
  std::uint32_t count = 0;
  for (std::size_t i = 0, j = 0; i < a.size() && j < b.size();) {
    count += a[i] == b[j];
    const bool first = a[i] <= b[j], second = b[j] <= a[i];
    i += first, j += second;
  }
  return count;
}

}  // namespace

Tracks build_tracks(std::span<const PairMatches> pairs, std::span<const std::size_t> feature_counts,
                    const TrackOptions& options) {
  std::vector<std::uint32_t> first_node(feature_counts.size() + 1, 0);
  for (std::size_t i = 0; i < feature_counts.size(); ++i)
    first_node[i + 1] = first_node[i] + static_cast<std::uint32_t>(feature_counts[i]);

  std::vector<Link> links;
  for (const PairMatches& pair : pairs)
    for (const Match& match : pair.matches)
      links.push_back({first_node[pair.first.value] + match.first.value,
                       first_node[pair.second.value] + match.second.value, match.ratio});
  {
    const Neighbours neighbours(links, first_node.back());
    for (Link& link : links) link.support = common(neighbours.of(link.a), neighbours.of(link.b));
  }
  // What a third photo confirms comes first, of equals the surest.
  std::sort(links.begin(), links.end(), [](const Link& x, const Link& y) {
    return std::tie(y.support, x.ratio, x.a, x.b) < std::tie(x.support, y.ratio, y.a, y.b);
  });

  Components components(first_node.back(), feature_counts.size());
  for (std::size_t photo = 0; photo < feature_counts.size(); ++photo)
    for (std::uint32_t node = first_node[photo]; node < first_node[photo + 1]; ++node)
      components.set_photo(node, photo);
  std::vector<bool> linked(first_node.back(), false);
  for (const Link& link : links)
    if (components.join(link.a, link.b)) linked[link.a] = linked[link.b] = true;

  // Nodes by component; a component is named by its lowest node, so that tracks come in the order of first elements.
  std::vector<std::uint32_t> lowest(first_node.back(), Index<void>::kNone);
  std::vector<std::pair<std::uint32_t, std::uint32_t>> order;  // lowest node of the component, node
  for (std::uint32_t node = 0; node < first_node.back(); ++node) {
    if (!linked[node]) continue;
    std::uint32_t& name = lowest[components.root(node)];
    if (name == Index<void>::kNone) name = node;
    order.emplace_back(name, node);
  }
  std::sort(order.begin(), order.end());
  Tracks tracks;
  for (std::size_t i = 0; i < order.size();) {
    std::size_t end = i;
    while (end < order.size() && order[end].first == order[i].first) ++end;
    if (static_cast<int>(end - i) >= std::max(2, options.min_length)) {
      for (std::size_t k = i; k < end; ++k) {
        const auto photo =
            std::upper_bound(first_node.begin(), first_node.end(), order[k].second) - first_node.begin() - 1;
        tracks.elements.push_back(
            {PhotoIndex(static_cast<std::size_t>(photo)), FeatureIndex(order[k].second - first_node[photo])});
      }
      tracks.starts.push_back(tracks.elements.size());
    }
    i = end;
  }
  return tracks;
}

}  // namespace icefield
