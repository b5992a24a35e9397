#include "src/orient/unposed.h"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

namespace icefield {

std::string reason_without_pairs(const OrientInput& input, PhotoIndex photo) {
  const std::size_t features = input.photos[photo.value].keypoints.size();
  if (features < 50) return fmt::format("{} features: blurred, plain or dark", features);
  const PairMatches* best = nullptr;
  std::size_t verified = 0;
  for (const PairMatches& pair : input.pairs) {
    if (pair.first != photo && pair.second != photo) continue;
    verified += pair.verified();
    if (!best || pair.candidates > best->candidates) best = &pair;
  }
  if (verified > 0 || !best) return {};
  const PhotoIndex other = best->first == photo ? best->second : best->first;
  return fmt::format("no verified pair: the best, with {}, has {} matches ({})", input.photos[other.value].name,
                     best->candidates, describe(best->fault));
}

std::string partners(const OrientInput& input, PhotoIndex photo, const std::vector<bool>& posed) {
  std::vector<std::pair<std::size_t, std::uint32_t>> list;  // matches, other photo
  std::size_t cut = 0;
  for (const std::uint32_t p : input.photo_pairs[photo.value]) {
    const PairMatches& pair = input.pairs[p];
    cut += input.cut[p] != 0;
    if (!input.cut[p])
      list.emplace_back(pair.matches.size(), pair.first == photo ? pair.second.value : pair.first.value);
  }
  std::sort(list.rbegin(), list.rend());
  std::string text;
  if (cut > 0) text += fmt::format("; {} of its pairs contradict the others and were cut", cut);
  if (list.empty()) return text;
  const auto told = [&](std::uint32_t other, std::size_t matches) {
    const std::size_t features = input.photos[other].keypoints.size();
    return fmt::format("{} ({} matches{}{})", input.photos[other].name, matches,
                       features < 200 ? fmt::format(", has {} features", features) : "",
                       posed[other] ? "" : ", not posed itself");
  };
  if (list.size() <= 2) {
    text += "; overlaps only with " + told(list[0].second, list[0].first);
    if (list.size() == 2) text += " and " + told(list[1].second, list[1].first);
  } else {
    text += fmt::format("; overlaps with {} photos, most with {}", list.size(), told(list[0].second, list[0].first));
  }
  return text;
}

}  // namespace icefield
