#include "src/feature/spread.h"

#include <algorithm>
#include <array>
#include <tuple>

namespace icefield {

void spread(std::vector<Candidate>& candidates, int width, int height, int limit) {
  std::sort(candidates.begin(), candidates.end(), [](const Candidate& a, const Candidate& b) {
    return std::tie(b.strength, a.octave, a.y, a.x, a.layer) < std::tie(a.strength, b.octave, b.y, b.x, b.layer);
  });
  candidates.erase(std::unique(candidates.begin(), candidates.end(),
                               [](const Candidate& a, const Candidate& b) {
                                 return a.octave == b.octave && a.x == b.x && a.y == b.y && a.layer == b.layer;
                               }),
                   candidates.end());
  constexpr int kAcross = 12, kOctaves = 24;
  std::array<double, kOctaves> rarity{1};
  for (std::size_t o = 1; o < kOctaves; ++o) rarity[o] = 2.5 * rarity[o - 1];
  const float cell = static_cast<float>(std::max(width, height)) / kAcross;
  std::vector<std::uint32_t> filled(kAcross * kAcross * kOctaves, 0);
  std::vector<std::pair<double, std::size_t>> order(candidates.size());  // turn, index
  for (std::size_t i = 0; i < candidates.size(); ++i) {
    const int cx = std::clamp(static_cast<int>(candidates[i].photo_x / cell), 0, kAcross - 1);
    const int cy = std::clamp(static_cast<int>(candidates[i].photo_y / cell), 0, kAcross - 1);
    const int octave = std::min(candidates[i].octave, kOctaves - 1);
    const std::uint64_t turn = filled[static_cast<std::size_t>((cy * kAcross + cx) * kOctaves + octave)]++;
    order[i] = {static_cast<double>(turn + 1) * rarity[octave], i};
  }
  std::sort(order.begin(), order.end());
  std::vector<Candidate> kept;
  kept.reserve(std::min(candidates.size(), static_cast<std::size_t>(limit)));
  for (std::size_t i = 0; i < order.size() && static_cast<int>(i) < limit; ++i)
    kept.push_back(candidates[order[i].second]);
  candidates = std::move(kept);
}

}  // namespace icefield
