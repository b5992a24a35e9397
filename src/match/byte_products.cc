// The packaged Highway has no byte dot product for 512-bit registers, so this one kernel is written in intrinsics.
#include "src/match/byte_products.h"

#include "icefield/base/instructions.h"

#if defined(__x86_64__)
#include <immintrin.h>
#endif

namespace icefield {

void group_products_plain(const std::uint8_t* row, int rows, const std::uint8_t* group, std::int32_t* products) {
  for (int r = 0; r < rows; ++r)
    for (int k = 0; k < kGroup; ++k) {
      std::int32_t sum = 0;
      for (int q = 0; q < 32; ++q)
        for (int b = 0; b < 4; ++b) sum += row[128 * r + 4 * q + b] * group[64 * q + 4 * k + b];
      products[kGroup * r + k] = sum;
    }
}

#if defined(__x86_64__)
namespace {

inline std::int32_t quadruple(const std::uint8_t* p) {
  std::int32_t v;
  __builtin_memcpy(&v, p, 4);
  return v;
}

template <int kRows>
__attribute__((target("avx512f,avx512bw,avx512vnni"))) void vnni_rows(const std::uint8_t* row, const std::uint8_t* group, std::int32_t* products) {
  __m512i sum[kRows];
  for (int r = 0; r < kRows; ++r) sum[r] = _mm512_setzero_si512();
  for (int q = 0; q < 32; ++q) {
    const __m512i g = _mm512_loadu_si512(group + 64 * q);
    for (int r = 0; r < kRows; ++r) sum[r] = _mm512_dpbusd_epi32(sum[r], _mm512_set1_epi32(quadruple(row + 128 * r + 4 * q)), g);
  }
  for (int r = 0; r < kRows; ++r) _mm512_storeu_si512(products + kGroup * r, sum[r]);
}

void group_products_vnni(const std::uint8_t* row, int rows, const std::uint8_t* group, std::int32_t* products) {
  for (; rows >= 8; rows -= 8, row += 8 * 128, products += 8 * kGroup) vnni_rows<8>(row, group, products);
  for (; rows > 0; --rows, row += 128, products += kGroup) vnni_rows<1>(row, group, products);
}

template <int kRows>
__attribute__((target("avx2"))) void avx2_rows(const std::uint8_t* row, const std::uint8_t* group, std::int32_t* products) {
  const __m256i ones = _mm256_set1_epi16(1);
  __m256i low[kRows], high[kRows];
  for (int r = 0; r < kRows; ++r) low[r] = high[r] = _mm256_setzero_si256();
  for (int q = 0; q < 32; ++q) {
    const __m256i g0 = _mm256_loadu_si256(reinterpret_cast<const __m256i*>(group + 64 * q));
    const __m256i g1 = _mm256_loadu_si256(reinterpret_cast<const __m256i*>(group + 64 * q + 32));
    for (int r = 0; r < kRows; ++r) {
      const __m256i a = _mm256_set1_epi32(quadruple(row + 128 * r + 4 * q));
      // Bytes are at most 127, so a pair of products stays within 16 bits.
      low[r] = _mm256_add_epi32(low[r], _mm256_madd_epi16(_mm256_maddubs_epi16(a, g0), ones));
      high[r] = _mm256_add_epi32(high[r], _mm256_madd_epi16(_mm256_maddubs_epi16(a, g1), ones));
    }
  }
  for (int r = 0; r < kRows; ++r) {
    _mm256_storeu_si256(reinterpret_cast<__m256i*>(products + kGroup * r), low[r]);
    _mm256_storeu_si256(reinterpret_cast<__m256i*>(products + kGroup * r + 8), high[r]);
  }
}

void group_products_avx2(const std::uint8_t* row, int rows, const std::uint8_t* group, std::int32_t* products) {
  for (; rows >= 4; rows -= 4, row += 4 * 128, products += 4 * kGroup) avx2_rows<4>(row, group, products);
  for (; rows > 0; --rows, row += 128, products += kGroup) avx2_rows<1>(row, group, products);
}

}  // namespace
#endif

GroupProducts best_group_products() {
#if defined(__x86_64__)
  if (instruction_level() == "avx512" && __builtin_cpu_supports("avx512vnni") && __builtin_cpu_supports("avx512bw")) return group_products_vnni;
  if (__builtin_cpu_supports("avx2")) return group_products_avx2;
#endif
  return group_products_plain;
}

}  // namespace icefield
