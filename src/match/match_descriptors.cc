#include <algorithm>
#include <cmath>
#include <limits>

#include "icefield/match/match.h"
#include "src/match/bit_distances.h"
#include "src/match/byte_products.h"

namespace icefield {
namespace {

constexpr std::int32_t kFar = std::numeric_limits<std::int32_t>::max();

// Squared distances to the two nearest, and which the nearest is.
struct Nearest {
  std::int32_t best, second;
  std::uint32_t index;
};

std::vector<std::int32_t> squared_norms(const Features& features) {
  std::vector<std::int32_t> norms(features.gradient_size());
  for (std::size_t i = 0; i < norms.size(); ++i) {
    const std::uint8_t* d = features.descriptors.data() + i * kDescriptorSize;
    std::int32_t sum = 0;
    for (int k = 0; k < kDescriptorSize; ++k) sum += d[k] * d[k];
    norms[i] = sum;
  }
  return norms;
}

// In an even number of groups.
std::vector<std::uint8_t> pack_groups(const Features& features, bool doubled) {
  const std::size_t count = features.gradient_size(), groups = (count + 2 * kGroup - 1) / (2 * kGroup) * 2;
  std::vector<std::uint8_t> packed(groups * kGroupBytes, 0);
  for (std::size_t i = 0; i < count; ++i) {
    const std::uint8_t* d = features.descriptors.data() + i * kDescriptorSize;
    std::uint8_t* group = packed.data() + i / kGroup * kGroupBytes + 4 * (i % kGroup);
    for (int q = 0; q < 32; ++q)
      for (int b = 0; b < 4; ++b)
        group[64 * q + b] = static_cast<std::uint8_t>(doubled ? 2 * d[4 * q + b] : d[4 * q + b]);
  }
  return packed;
}

std::vector<Match> match_gradients(const Features& first, const Features& second,
                                   const DescriptorMatchOptions& options) {
  const std::size_t n1 = first.gradient_size(), n2 = second.gradient_size();
  if (n1 < 2 || n2 < 2) return {};
  const std::vector<std::int32_t> norm1 = squared_norms(first);
  std::vector<std::int32_t> norm2 = squared_norms(second);
  const NearestKernels kernels = best_nearest_kernels();
  const std::vector<std::uint8_t> packed = pack_groups(second, kernels.doubled);
  const std::size_t groups = packed.size() / kGroupBytes;
  norm2.resize(groups * kGroup, kFar / 4);  // padding is never near

  std::vector<ColumnNearest> columns(groups);
  for (ColumnNearest& c : columns)
    for (int k = 0; k < kGroup; ++k) c.best[k] = -kFar, c.row[k] = 0;
  std::vector<Nearest> nearest(n1);
  std::vector<RowNearest> rows(kRowBlock);
  // A block of rows and what is known of them stays in the first cache while the groups pass by.
  for (std::size_t begin = 0; begin < n1; begin += kRowBlock) {
    const int count = static_cast<int>(std::min<std::size_t>(kRowBlock, n1 - begin));
    for (RowNearest& row : rows)
      for (int k = 0; k < kGroup; ++k) row.best[k] = row.second[k] = -kFar, row.group[k] = 0;
    kernels.run(first.descriptors.data() + begin * kDescriptorSize, count, norm1.data() + begin,
                static_cast<std::uint32_t>(begin), packed.data(), groups, norm2.data(), rows.data(), columns.data());
    for (int r = 0; r < count; ++r) {
      std::int32_t best = -kFar, runner_up = -kFar;
      std::uint32_t index = Index<void>::kNone;
      for (int k = 0; k < kGroup; ++k) {
        const auto j = static_cast<std::uint32_t>(rows[r].group[k] * kGroup + k);
        if (rows[r].best[k] > best || (rows[r].best[k] == best && j < index)) {
          runner_up = std::max(best, rows[r].second[k]);
          best = rows[r].best[k];
          index = j;
        } else {
          runner_up = std::max(runner_up, rows[r].best[k]);
        }
      }
      nearest[begin + r] = {norm1[begin + r] - best, norm1[begin + r] - runner_up, index};
    }
  }

  std::vector<Match> matches;
  const double max_ratio2 = static_cast<double>(options.max_ratio) * options.max_ratio;
  for (std::size_t i = 0; i < n1; ++i) {
    const Nearest& n = nearest[i];
    if (n.index >= n2 || n.best >= max_ratio2 * n.second) continue;  // two at distance 0 are no match either
    if (options.mutual && columns[n.index / kGroup].row[n.index % kGroup] != i) continue;
    const float ratio = n.second > 0 ? static_cast<float>(std::sqrt(static_cast<double>(n.best) / n.second)) : 1.0f;
    matches.push_back({FeatureIndex(i), FeatureIndex(n.index), ratio});
  }
  return matches;
}

std::vector<Match> match_bits(const Features& first, const Features& second, const DescriptorMatchOptions& options) {
  const std::size_t n1 = first.binary_size(), n2 = second.binary_size();
  if (n1 < 2 || n2 < 2) return {};
  const BitDistances distances_of = best_bit_distances();
  const std::size_t groups = (n2 + kBitGroup - 1) / kBitGroup;
  std::vector<std::uint64_t> packed(groups * kBitGroup * kBitWords, 0);
  for (std::size_t j = 0; j < n2; ++j)
    for (std::size_t w = 0; w < kBitWords; ++w)
      packed[(j / kBitGroup * kBitWords + w) * kBitGroup + j % kBitGroup] = second.bits[j * kBitWords + w];
  constexpr std::uint32_t kNone = std::numeric_limits<std::uint32_t>::max();
  std::vector<std::uint32_t> distances(groups * kBitGroup), column_best(n2, kNone), column_row(n2, 0);
  std::vector<Nearest> nearest(n1);
  for (std::size_t i = 0; i < n1; ++i) {
    distances_of(first.bits.data() + i * kBitWords, packed.data(), groups, distances.data());
    for (std::size_t j = 0; j < n2; ++j) {
      const bool nearer = distances[j] < column_best[j];
      column_best[j] = nearer ? distances[j] : column_best[j];
      column_row[j] = nearer ? static_cast<std::uint32_t>(i) : column_row[j];
    }
    std::uint32_t best = kNone, runner_up = kNone, index = 0;
    for (std::size_t j = 0; j < n2; ++j) {
      if (distances[j] >= runner_up) continue;
      if (distances[j] < best)
        runner_up = best, best = distances[j], index = static_cast<std::uint32_t>(j);
      else
        runner_up = distances[j];
    }
    nearest[i] = {static_cast<std::int32_t>(best), static_cast<std::int32_t>(runner_up), index};
  }
  std::vector<Match> matches;
  for (std::size_t i = 0; i < n1; ++i) {
    const Nearest& n = nearest[i];
    if (static_cast<float>(n.best) >= options.max_ratio * static_cast<float>(n.second)) continue;
    if (options.mutual && column_row[n.index] != i) continue;
    matches.push_back({FeatureIndex(first.gradient_size() + i), FeatureIndex(second.gradient_size() + n.index),
                       static_cast<float>(n.best) / static_cast<float>(n.second)});
  }
  return matches;
}

}  // namespace

std::vector<Match> match_descriptors(const Features& first, const Features& second,
                                     const DescriptorMatchOptions& options) {
  std::vector<Match> matches = match_gradients(first, second, options);
  const std::vector<Match> more = match_bits(first, second, options);
  matches.insert(matches.end(), more.begin(), more.end());
  return matches;
}

}  // namespace icefield
