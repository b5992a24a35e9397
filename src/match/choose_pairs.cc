#include "icefield/match/choose_pairs.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <numbers>
#include <numeric>
#include <utility>

#include "icefield/base/statistics.h"

namespace icefield {
namespace {

using Key = std::pair<std::uint32_t, std::uint32_t>;

Key ordered(std::size_t a, std::size_t b) {
  return {static_cast<std::uint32_t>(std::min(a, b)), static_cast<std::uint32_t>(std::max(a, b))};
}

void propose(std::map<Key, ProposedPair>& pairs, std::size_t a, std::size_t b, PairSource source) {
  if (a == b) return;
  const Key key = ordered(a, b);
  ProposedPair& pair = pairs[key];
  pair.first = PhotoIndex(key.first), pair.second = PhotoIndex(key.second);
  pair.add(source);
}

std::vector<ProposedPair> listed_of(const std::map<Key, ProposedPair>& pairs) {
  std::vector<ProposedPair> list;
  list.reserve(pairs.size());
  for (const auto& [key, pair] : pairs) list.push_back(pair);
  return list;
}

// The `count` others with the largest worth, of equals the first.
template <class Worth>
std::vector<std::size_t> best_others(std::size_t of, std::size_t photos, int count, Worth&& worth) {
  std::vector<std::pair<double, std::size_t>> all;
  for (std::size_t k = 0; k < photos; ++k)
    if (k != of)
      if (const std::optional<double> w = worth(k)) all.emplace_back(-*w, k);
  const auto end =
      all.begin() + static_cast<std::ptrdiff_t>(std::min(all.size(), static_cast<std::size_t>(std::max(count, 0))));
  std::partial_sort(all.begin(), end, all.end());
  std::vector<std::size_t> best;
  for (auto it = all.begin(); it != end; ++it) best.push_back(it->second);
  return best;
}

}  // namespace

const char* name_of(PairSource source) {
  switch (source) {
    case PairSource::all:
      return "all";
    case PairSource::near:
      return "near";
    case PairSource::alike:
      return "alike";
    case PairSource::next:
      return "next";
    case PairSource::via:
      return "via";
    case PairSource::listed:
      break;
  }
  return "listed";
}

int probe_pair(const Features& first, const Features& second) {
  DescriptorMatchOptions options;
  options.max_ratio = 0.85f;
  const std::vector<Match> matches = match_descriptors(first, second, options);
  if (matches.size() < 2) return 0;
  // Each match states a similarity by itself (Lowe 2004, section 7.3): others agree when it puts them near their
  // partners.
  float extent = 0;
  for (const Keypoint& k : second.keypoints) extent = std::max({extent, k.x, k.y});
  const float reach2 = 0.01f * extent * extent;
  constexpr float kTurn = 2 * std::numbers::pi_v<float>, kMostTurn = std::numbers::pi_v<float> / 6;
  int best = 0;
  for (const Match& m : matches) {
    const Keypoint &a = first.keypoints[m.first.value], &b = second.keypoints[m.second.value];
    const float scale = b.scale / a.scale, turn = b.angle - a.angle;
    const float c = scale * std::cos(turn), s = scale * std::sin(turn);
    int agree = 0;
    for (const Match& other : matches) {
      const Keypoint &p = first.keypoints[other.first.value], &q = second.keypoints[other.second.value];
      const float dx = p.x - a.x, dy = p.y - a.y;
      const float ratio = q.scale / p.scale / scale;
      if (ratio > 1.42f || ratio < 0.7f) continue;
      const float off = q.angle - p.angle - turn;
      if (std::abs(off - kTurn * std::nearbyint(off / kTurn)) > kMostTurn) continue;
      const float ex = b.x + c * dx - s * dy - q.x, ey = b.y + s * dx + c * dy - q.y;
      agree += ex * ex + ey * ey < reach2;
    }
    best = std::max(best, agree);
  }
  return best;
}

std::vector<std::optional<Eigen::Vector3d>> places_looked_at(std::span<const ChoicePhoto> photos) {
  std::vector<std::optional<Eigen::Vector3d>> places(photos.size());
  // Oblique lines of sight; a few hundred say enough.
  std::vector<const ChoicePhoto*> oblique;
  for (const ChoicePhoto& photo : photos)
    if (photo.position && photo.direction && photo.direction->z() < -0.1 && photo.direction->z() > -0.94)
      oblique.push_back(&photo);
  const std::size_t step = oblique.size() / 400 + 1;
  std::vector<double> heights;
  for (std::size_t a = 0; a < oblique.size(); a += step)
    for (std::size_t b = a + step; b < oblique.size(); b += step) {
      const Eigen::Vector3d &p = *oblique[a]->position, &q = *oblique[b]->position, &u = *oblique[a]->direction,
                            &v = *oblique[b]->direction;
      // Where they cross on the map: p + s u = q + t v.
      const double cross = u.x() * v.y() - u.y() * v.x();
      if (std::abs(cross) < 0.26 * u.head<2>().norm() * v.head<2>().norm()) continue;  // under 15 degrees
      const Eigen::Vector3d d = q - p;
      const double s = (d.x() * v.y() - d.y() * v.x()) / cross, t = (d.x() * u.y() - d.y() * u.x()) / cross;
      const double height_a = p.z() + s * u.z(), height_b = q.z() + t * v.z();
      if (s <= 0 || t <= 0 || std::abs(height_a - height_b) > 0.2 * std::max(p.z() - height_a, q.z() - height_b))
        continue;
      heights.push_back(0.5 * (height_a + height_b));
    }
  if (heights.size() < 5) return places;
  const double middle = median(heights);
  for (std::size_t i = 0; i < photos.size(); ++i) {
    if (!photos[i].position || !photos[i].direction) continue;
    const Eigen::Vector3d &p = *photos[i].position, &u = *photos[i].direction;
    if (u.z() > -0.1 || p.z() <= middle) continue;
    places[i] = p + (middle - p.z()) / u.z() * u;
  }
  return places;
}

PairChoice choose_pairs(std::span<const ChoicePhoto> photos, std::span<const ProposedPair> listed,
                        const PairChoiceOptions& options, const Executor& executor, Monitor& monitor) {
  const std::size_t count = photos.size();
  PairChoice choice;
  std::map<Key, ProposedPair> wanted;
  for (const ProposedPair& pair : listed) propose(wanted, pair.first.value, pair.second.value, PairSource::listed);
  if (static_cast<int>(count) <= options.all_up_to) {
    for (std::size_t i = 0; i < count; ++i)
      for (std::size_t j = i + 1; j < count; ++j) propose(wanted, i, j, PairSource::all);
    choice.pairs = listed_of(wanted);
    return choice;
  }

  std::map<Key, ProposedPair> looked;
  // Next.
  std::vector<std::size_t> order(count);
  std::iota(order.begin(), order.end(), std::size_t{0});
  std::sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
    return std::tuple(photos[a].sequence, photos[a].place, a) < std::tuple(photos[b].sequence, photos[b].place, b);
  });
  for (std::size_t i = 0; i < count; ++i)
    for (std::size_t k = 1; k <= static_cast<std::size_t>(std::max(options.next_photos, 0)) && i + k < count; ++k)
      if (photos[order[i]].sequence == photos[order[i + k]].sequence)
        propose(looked, order[i], order[i + k], PairSource::next);
  // Near.
  const std::vector<std::optional<Eigen::Vector3d>> looked_at = places_looked_at(photos);
  std::vector<std::vector<std::size_t>> near(count), alike(count);
  executor.run("choose pairs", count, monitor, [&](std::size_t i) {
    // Photos that look away from each other see nothing in common.
    const auto away = [&](std::size_t k) {
      return photos[i].direction && photos[k].direction && photos[i].direction->dot(*photos[k].direction) < -0.2;
    };
    const auto nearest = [&](const auto& place_of) {
      if (!place_of(i)) return;
      const std::vector<std::size_t> found =
          best_others(i, count, options.near_photos, [&](std::size_t k) -> std::optional<double> {
            if (!place_of(k) || away(k)) return std::nullopt;
            return -(*place_of(k) - *place_of(i)).squaredNorm();
          });
      near[i].insert(near[i].end(), found.begin(), found.end());
    };
    nearest([&](std::size_t k) { return photos[k].position; });
    nearest([&](std::size_t k) { return looked_at[k]; });
  });
  // Alike. The sample is the same share of every photo's strongest features.
  const std::size_t each = std::max<std::size_t>(1, std::min<std::size_t>(200, 60000 / count));
  std::vector<std::uint8_t> sample;
  for (const ChoicePhoto& photo : photos) {
    const std::vector<std::uint8_t> words = word_descriptors(*photo.strongest);
    const std::size_t n = words.size() / kDescriptorSize, taken = std::min(each, n);
    for (std::size_t k = 0; k < taken; ++k) {
      const std::uint8_t* d = words.data() + k * n / taken * kDescriptorSize;
      sample.insert(sample.end(), d, d + kDescriptorSize);
    }
  }
  if (options.alike_photos > 0 && !sample.empty()) {
    const Vocabulary vocabulary = train_vocabulary(sample, options.words, executor);
    std::vector<PhotoVector> vectors(count);
    executor.run("choose pairs", count, monitor,
                 [&](std::size_t i) { vectors[i] = describe_photo(*photos[i].strongest, vocabulary); });
    executor.run("choose pairs", count, monitor, [&](std::size_t i) {
      alike[i] = best_others(i, count, options.alike_photos,
                             [&](std::size_t k) -> std::optional<double> { return likeness(vectors[i], vectors[k]); });
    });
  }
  for (std::size_t i = 0; i < count; ++i) {
    for (const std::size_t k : near[i]) propose(looked, i, k, PairSource::near);
    for (const std::size_t k : alike[i]) propose(looked, i, k, PairSource::alike);
  }
  // A look at each.
  const std::vector<ProposedPair> candidates = listed_of(looked);
  std::vector<int> shown(candidates.size(), 0);
  executor.run("look at pairs", candidates.size(), monitor, [&](std::size_t c) {
    shown[c] = probe_pair(*photos[candidates[c].first.value].strongest, *photos[candidates[c].second.value].strongest);
  });
  choice.looked_at = candidates.size();
  for (std::size_t c = 0; c < candidates.size(); ++c) {
    if (shown[c] < options.min_probe_matches) continue;
    ProposedPair& pair = wanted[{candidates[c].first.value, candidates[c].second.value}];
    pair.first = candidates[c].first, pair.second = candidates[c].second;
    pair.sources |= candidates[c].sources;
  }
  choice.pairs = listed_of(wanted);
  return choice;
}

std::vector<ProposedPair> choose_via(std::size_t photos, std::span<const ProposedPair> tried,
                                     std::span<const PairMatches> verified, const PairChoiceOptions& options,
                                     const Executor& executor) {
  // By photo: (its feature, the other photo).
  std::vector<std::vector<std::pair<std::uint32_t, std::uint32_t>>> seen(photos);
  for (const PairMatches& pair : verified)
    for (const Match& m : pair.matches) {
      seen[pair.first.value].emplace_back(m.first.value, pair.second.value);
      seen[pair.second.value].emplace_back(m.second.value, pair.first.value);
    }
  std::vector<Key> known;
  for (const ProposedPair& pair : tried) known.emplace_back(pair.first.value, pair.second.value);
  std::sort(known.begin(), known.end());
  std::vector<std::vector<Key>> found(photos);
  executor.blocks(photos, 1, [&](std::size_t middle, std::size_t, std::size_t) {
    auto& list = seen[middle];
    std::sort(list.begin(), list.end());
    list.erase(std::unique(list.begin(), list.end()), list.end());
    // A table of its neighbours with each other.
    std::vector<std::uint32_t> neighbours;
    for (const auto& [feature, other] : list) neighbours.push_back(other);
    std::sort(neighbours.begin(), neighbours.end());
    neighbours.erase(std::unique(neighbours.begin(), neighbours.end()), neighbours.end());
    const std::size_t size = neighbours.size();
    std::vector<int> spots(size * size, 0);
    std::vector<std::size_t> here;
    for (std::size_t i = 0; i < list.size();) {
      here.clear();
      for (const std::uint32_t feature = list[i].first; i < list.size() && list[i].first == feature; ++i)
        here.push_back(static_cast<std::size_t>(std::lower_bound(neighbours.begin(), neighbours.end(), list[i].second) -
                                                neighbours.begin()));
      for (std::size_t a = 0; a < here.size(); ++a)
        for (std::size_t b = a + 1; b < here.size(); ++b) ++spots[here[a] * size + here[b]];
    }
    for (std::size_t a = 0; a < size; ++a)
      for (std::size_t b = a + 1; b < size; ++b)
        if (const Key key{neighbours[a], neighbours[b]};
            spots[a * size + b] >= options.min_via_spots && !std::binary_search(known.begin(), known.end(), key))
          found[middle].push_back(key);
  });
  std::map<Key, ProposedPair> pairs;
  for (const auto& list : found)
    for (const Key& key : list) propose(pairs, key.first, key.second, PairSource::via);
  return listed_of(pairs);
}

}  // namespace icefield
