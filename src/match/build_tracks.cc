#include <algorithm>
#include <numeric>
#include <tuple>

#include "icefield/match/match.h"

namespace icefield {
namespace {

// Components of features. Each component lists its photos, sorted, so that two can be checked for a common photo.
class Components {
 public:
  explicit Components(std::size_t count) : parent_(count), photos_(count) { std::iota(parent_.begin(), parent_.end(), 0u); }

  void set_photo(std::size_t node, PhotoIndex photo) { photos_[node] = {photo.value}; }

  std::uint32_t root(std::uint32_t node) {
    while (parent_[node] != node) node = parent_[node] = parent_[parent_[node]];
    return node;
  }

  bool join(std::uint32_t a, std::uint32_t b) {
    a = root(a), b = root(b);
    if (a == b) return true;
    if (photos_[a].size() < photos_[b].size() || (photos_[a].size() == photos_[b].size() && b < a)) std::swap(a, b);
    std::vector<std::uint32_t> both;
    both.reserve(photos_[a].size() + photos_[b].size());
    std::merge(photos_[a].begin(), photos_[a].end(), photos_[b].begin(), photos_[b].end(), std::back_inserter(both));
    if (std::adjacent_find(both.begin(), both.end()) != both.end()) return false;
    parent_[b] = a;
    photos_[a] = std::move(both);
    photos_[b] = {};
    return true;
  }

 private:
  std::vector<std::uint32_t> parent_;
  std::vector<std::vector<std::uint32_t>> photos_;
};

}  // namespace

Tracks build_tracks(std::span<const PairMatches> pairs, std::span<const std::size_t> feature_counts, const TrackOptions& options) {
  std::vector<std::uint32_t> first_node(feature_counts.size() + 1, 0);
  for (std::size_t i = 0; i < feature_counts.size(); ++i) first_node[i + 1] = first_node[i] + static_cast<std::uint32_t>(feature_counts[i]);

  struct Link {
    float ratio;
    std::uint32_t a, b;
  };
  std::vector<Link> links;
  for (const PairMatches& pair : pairs)
    for (const Match& match : pair.matches)
      links.push_back({match.ratio, first_node[pair.first.value] + match.first.value, first_node[pair.second.value] + match.second.value});
  std::sort(links.begin(), links.end(), [](const Link& x, const Link& y) { return std::tie(x.ratio, x.a, x.b) < std::tie(y.ratio, y.a, y.b); });

  Components components(first_node.back());
  for (std::size_t photo = 0; photo < feature_counts.size(); ++photo)
    for (std::uint32_t node = first_node[photo]; node < first_node[photo + 1]; ++node) components.set_photo(node, PhotoIndex(photo));
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
        const auto photo = std::upper_bound(first_node.begin(), first_node.end(), order[k].second) - first_node.begin() - 1;
        tracks.elements.push_back({PhotoIndex(static_cast<std::size_t>(photo)), FeatureIndex(order[k].second - first_node[photo])});
      }
      tracks.starts.push_back(tracks.elements.size());
    }
    i = end;
  }
  return tracks;
}

}  // namespace icefield
