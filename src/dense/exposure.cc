#include "src/dense/exposure.h"

#include <algorithm>
#include <cmath>

namespace icefield {
namespace {
constexpr int kRounds = 60;
constexpr double kOdd = 0.15;  // logarithm of a ratio beyond which a colour says less: a shadow, a glint
constexpr double kMost = 1.4;  // logarithm: four times
bool usable(std::uint8_t value) {
  return value >= 8 && value <= 247;
}
}  // namespace

std::vector<std::array<float, 3>> exposure_factors(const std::vector<std::vector<SeenColour>>& seen,
                                                   std::size_t points) {
  std::vector<std::array<float, 3>> factors(seen.size(), {1, 1, 1});
  for (std::size_t c = 0; c < 3; ++c) {
    // log colour = brightness of the point + exposure of the photo, solved in turns; odd ones weigh less.
    std::vector<double> exposure(seen.size(), 0), brightness(points, 0), sum(points), weight(points);
    for (int round = 0; round < kRounds; ++round) {
      std::fill(sum.begin(), sum.end(), 0), std::fill(weight.begin(), weight.end(), 0);
      const auto influence = [&](double off) { return round == 0 ? 1.0 : 1 / std::max(1.0, std::abs(off) / kOdd); };
      for (std::size_t i = 0; i < seen.size(); ++i)
        for (const SeenColour& s : seen[i]) {
          if (!usable(s.colour[c])) continue;
          const double value = std::log(static_cast<double>(s.colour[c])) - exposure[i],
                       w = influence(value - brightness[s.point]);
          sum[s.point] += w * value, weight[s.point] += w;
        }
      for (std::size_t p = 0; p < points; ++p)
        if (weight[p] > 0) brightness[p] = sum[p] / weight[p];
      double mean = 0, photos = 0;
      for (std::size_t i = 0; i < seen.size(); ++i) {
        double total = 0, share = 0;
        for (const SeenColour& s : seen[i]) {
          if (!usable(s.colour[c])) continue;
          const double value = std::log(static_cast<double>(s.colour[c])) - brightness[s.point],
                       w = influence(value - exposure[i]);
          total += w * value, share += w;
        }
        if (share > 0) exposure[i] = total / share, mean += exposure[i], ++photos;
      }
      for (std::size_t i = 0; i < seen.size(); ++i)
        if (!seen[i].empty() && photos > 0) exposure[i] -= mean / photos;
    }
    for (std::size_t i = 0; i < seen.size(); ++i)
      factors[i][c] = static_cast<float>(std::exp(-std::clamp(exposure[i], -kMost, kMost)));
  }
  return factors;
}

}  // namespace icefield
