#include <algorithm>
#include <cmath>
#include <limits>

#include "icefield/match/match.h"
#include "src/match/byte_products.h"

namespace icefield {
namespace {

constexpr std::int32_t kFar = std::numeric_limits<std::int32_t>::max();
constexpr int kRowBlock = 32;

// Two nearest so far.
struct Nearest {
  std::int32_t best = kFar, second = kFar;
  std::uint32_t index = Index<void>::kNone;
};

std::vector<std::int32_t> squared_norms(const Features& features) {
  std::vector<std::int32_t> norms(features.size());
  for (std::size_t i = 0; i < features.size(); ++i) {
    const std::uint8_t* d = features.descriptors.data() + i * kDescriptorSize;
    std::int32_t sum = 0;
    for (int k = 0; k < kDescriptorSize; ++k) sum += d[k] * d[k];
    norms[i] = sum;
  }
  return norms;
}

std::vector<std::uint8_t> pack_groups(const Features& features) {
  const std::size_t groups = (features.size() + kGroup - 1) / kGroup;
  std::vector<std::uint8_t> packed(groups * kGroupBytes, 0);
  for (std::size_t i = 0; i < features.size(); ++i) {
    const std::uint8_t* d = features.descriptors.data() + i * kDescriptorSize;
    std::uint8_t* group = packed.data() + i / kGroup * kGroupBytes + 4 * (i % kGroup);
    for (int q = 0; q < 32; ++q) std::copy(d + 4 * q, d + 4 * q + 4, group + 64 * q);
  }
  return packed;
}

}  // namespace

std::vector<Match> match_descriptors(const Features& first, const Features& second, const DescriptorMatchOptions& options) {
  const std::size_t n1 = first.size(), n2 = second.size();
  if (n1 < 2 || n2 < 2) return {};
  const std::vector<std::int32_t> norm1 = squared_norms(first);
  std::vector<std::int32_t> norm2 = squared_norms(second);
  const std::vector<std::uint8_t> packed = pack_groups(second);
  const std::size_t groups = packed.size() / kGroupBytes;
  norm2.resize(groups * kGroup, kFar / 4);  // padding is never near
  const GroupProducts products_of = best_group_products();

  std::vector<Nearest> nearest(n1);
  std::vector<std::int32_t> column_best(groups * kGroup, kFar);
  std::vector<std::uint32_t> column_index(groups * kGroup, 0);
  alignas(64) std::int32_t products[kRowBlock * kGroup];
  // A block of rows (4 KB) stays in the first cache while the groups pass by.
  for (std::size_t begin = 0; begin < n1; begin += kRowBlock) {
    const int rows = static_cast<int>(std::min<std::size_t>(kRowBlock, n1 - begin));
    alignas(64) std::int32_t best[kRowBlock][kGroup], runner_up[kRowBlock][kGroup], index[kRowBlock][kGroup];
    for (int r = 0; r < rows; ++r)
      for (int k = 0; k < kGroup; ++k) best[r][k] = runner_up[r][k] = kFar, index[r][k] = 0;
    for (std::size_t g = 0; g < groups; ++g) {
      products_of(first.descriptors.data() + begin * kDescriptorSize, rows, packed.data() + g * kGroupBytes, products);
      const std::int32_t* norms = norm2.data() + g * kGroup;
      std::int32_t* cbest = column_best.data() + g * kGroup;
      std::uint32_t* cindex = column_index.data() + g * kGroup;
      for (int r = 0; r < rows; ++r) {
        const std::int32_t* p = products + r * kGroup;
        const std::int32_t own = norm1[begin + r];
        const auto row_index = static_cast<std::uint32_t>(begin + r);
        const auto group_index = static_cast<std::int32_t>(g);
        for (int k = 0; k < kGroup; ++k) {
          const std::int32_t distance = own + norms[k] - 2 * p[k];
          const bool nearer = distance < best[r][k];
          runner_up[r][k] = nearer ? best[r][k] : std::min(runner_up[r][k], distance);
          index[r][k] = nearer ? group_index : index[r][k];
          best[r][k] = nearer ? distance : best[r][k];
          const bool column_nearer = distance < cbest[k];
          cindex[k] = column_nearer ? row_index : cindex[k];
          cbest[k] = column_nearer ? distance : cbest[k];
        }
      }
    }
    for (int r = 0; r < rows; ++r) {
      Nearest& n = nearest[begin + r];
      for (int k = 0; k < kGroup; ++k) {
        const auto j = static_cast<std::uint32_t>(index[r][k] * kGroup + k);
        if (best[r][k] < n.best || (best[r][k] == n.best && j < n.index)) {
          n.second = std::min(n.best, runner_up[r][k]);
          n.best = best[r][k];
          n.index = j;
        } else {
          n.second = std::min(n.second, best[r][k]);
        }
      }
    }
  }

  std::vector<Match> matches;
  const double max_ratio2 = static_cast<double>(options.max_ratio) * options.max_ratio;
  for (std::size_t i = 0; i < n1; ++i) {
    const Nearest& n = nearest[i];
    if (n.index >= n2 || n.best >= max_ratio2 * n.second) continue;  // two at distance 0 are no match either
    if (options.mutual && column_index[n.index] != i) continue;
    const float ratio = n.second > 0 ? static_cast<float>(std::sqrt(static_cast<double>(n.best) / n.second)) : 1.0f;
    matches.push_back({FeatureIndex(i), FeatureIndex(n.index), ratio});
  }
  return matches;
}

}  // namespace icefield
