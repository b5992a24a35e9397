// The packaged Highway has no vector population count of 64-bit lanes that is one instruction here; hence intrinsics.
#include "src/match/bit_distances.h"

#include <bit>

#include "icefield/base/instructions.h"

#if defined(__x86_64__)
#include <immintrin.h>
#endif

namespace icefield {

void bit_distances_plain(const std::uint64_t* row, const std::uint64_t* groups, std::size_t group_count,
                         std::uint32_t* distances) {
  for (std::size_t g = 0; g < group_count; ++g)
    for (int k = 0; k < kBitGroup; ++k) {
      int sum = 0;
      for (int w = 0; w < kBitWords; ++w)
        sum += std::popcount(
            row[w] ^ groups[(g * kBitWords + static_cast<std::size_t>(w)) * kBitGroup + static_cast<std::size_t>(k)]);
      distances[g * kBitGroup + static_cast<std::size_t>(k)] = static_cast<std::uint32_t>(sum);
    }
}

#if defined(__x86_64__)
namespace {

__attribute__((target("avx512f,avx512vpopcntdq"))) void bit_distances_avx512(const std::uint64_t* row,
                                                                             const std::uint64_t* groups,
                                                                             std::size_t group_count,
                                                                             std::uint32_t* distances) {
  __m512i words[kBitWords];
  for (int w = 0; w < kBitWords; ++w) words[w] = _mm512_set1_epi64(static_cast<long long>(row[w]));
  for (std::size_t g = 0; g < group_count; ++g) {
    __m512i sum = _mm512_setzero_si512();
    for (int w = 0; w < kBitWords; ++w)
      sum = _mm512_add_epi64(
          sum, _mm512_popcnt_epi64(_mm512_xor_si512(
                   words[w], _mm512_loadu_si512(groups + (g * kBitWords + static_cast<std::size_t>(w)) * kBitGroup))));
    _mm256_storeu_si256(reinterpret_cast<__m256i*>(distances + g * kBitGroup), _mm512_cvtepi64_epi32(sum));
  }
}

}  // namespace
#endif

BitDistances best_bit_distances() {
#if defined(__x86_64__)
  if (instruction_level() == "avx512" && __builtin_cpu_supports("avx512vpopcntdq")) return bit_distances_avx512;
#endif
  return bit_distances_plain;
}

}  // namespace icefield
