// Numbers of differing bits.
#pragma once
#include <cstddef>
#include <cstdint>

#include "icefield/feature/feature.h"

namespace icefield {

// Binary descriptors in groups of 8: for each of the words those of the 8 descriptors in turn.
inline constexpr int kBitGroup = 8;

// distances[8 g + k] = bits in which `row` differs from descriptor k of group g. All forms give the same integers.
using BitDistances = void (*)(const std::uint64_t* row, const std::uint64_t* groups, std::size_t group_count,
                              std::uint32_t* distances);
BitDistances best_bit_distances();  // AVX-512 VPOPCNTDQ or plain, by CPUID and the pinned level
void bit_distances_plain(const std::uint64_t* row, const std::uint64_t* groups, std::size_t group_count,
                         std::uint32_t* distances);

}  // namespace icefield
