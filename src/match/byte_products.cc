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

namespace {

// The form for any products: columns undoubled.
template <GroupProducts kProducts>
void nearest_by_products(const std::uint8_t* rows, int count, const std::int32_t* row_norms, std::uint32_t first_row,
                         const std::uint8_t* groups, std::size_t group_count, const std::int32_t* column_norms,
                         RowNearest* row_nearest, ColumnNearest* column_nearest) {
  alignas(64) std::int32_t products[kRowBlock * kGroup];
  for (std::size_t g = 0; g < group_count; ++g) {
    kProducts(rows, count, groups + g * kGroupBytes, products);
    const std::int32_t* norms = column_norms + g * kGroup;
    ColumnNearest& column = column_nearest[g];
    for (int r = 0; r < count; ++r) {
      const std::int32_t* p = products + r * kGroup;
      RowNearest& row = row_nearest[r];
      const auto number = first_row + static_cast<std::uint32_t>(r);
      const std::int32_t own = row_norms[r];
      for (int k = 0; k < kGroup; ++k) {
        const std::int32_t score = 2 * p[k] - norms[k];
        const bool nearer = score > row.best[k];
        const std::int32_t less = nearer ? row.best[k] : score;
        row.second[k] = row.second[k] > less ? row.second[k] : less;
        row.group[k] = nearer ? static_cast<std::int32_t>(g) : row.group[k];
        row.best[k] = nearer ? score : row.best[k];
        const bool column_nearer = score - own > column.best[k];
        column.row[k] = column_nearer ? number : column.row[k];
        column.best[k] = column_nearer ? score - own : column.best[k];
      }
    }
  }
}

}  // namespace

NearestKernels plain_nearest_kernels() {
  return {nearest_by_products<group_products_plain>, false};
}

#if defined(__x86_64__)
namespace {

inline std::int32_t quadruple(const std::uint8_t* p) {
  std::int32_t v;
  __builtin_memcpy(&v, p, 4);
  return v;
}

template <int kRows>
__attribute__((target("avx2"))) void avx2_rows(const std::uint8_t* row, const std::uint8_t* group,
                                               std::int32_t* products) {
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

// Rows by two groups, all products in registers until they are looked at. dpbusd takes unsigned by signed bytes; with
// the groups doubled (at most 254) the sum starts at -|column|^2 and ends as the score.
template <int kRows>
__attribute__((target("avx512f,avx512bw,avx512vnni"), always_inline)) inline void vnni_tile(
    const std::uint8_t* rows, const std::int32_t* row_norms, std::uint32_t first_row, const std::uint8_t* group,
    const std::int32_t* norms, std::int32_t number, RowNearest* row_nearest, ColumnNearest* column) {
  __m512i sum[kRows][2];
  const __m512i start0 = _mm512_sub_epi32(_mm512_setzero_si512(), _mm512_loadu_si512(norms)),
                start1 = _mm512_sub_epi32(_mm512_setzero_si512(), _mm512_loadu_si512(norms + kGroup));
  for (int r = 0; r < kRows; ++r) sum[r][0] = start0, sum[r][1] = start1;
  for (int q = 0; q < 32; ++q) {
    const __m512i g0 = _mm512_loadu_si512(group + 64 * q), g1 = _mm512_loadu_si512(group + kGroupBytes + 64 * q);
    for (int r = 0; r < kRows; ++r) {
      const __m512i a = _mm512_set1_epi32(quadruple(rows + 128 * r + 4 * q));
      sum[r][0] = _mm512_dpbusd_epi32(sum[r][0], g0, a);
      sum[r][1] = _mm512_dpbusd_epi32(sum[r][1], g1, a);
    }
  }
  for (int half = 0; half < 2; ++half) {
    __m512i column_best = _mm512_load_si512(column[half].best), column_row = _mm512_load_si512(column[half].row);
    const __m512i here = _mm512_set1_epi32(number + half);
    for (int r = 0; r < kRows; ++r) {
      const __m512i score = sum[r][half];
      RowNearest& row = row_nearest[r];
      const __m512i best = _mm512_load_si512(row.best);
      const __mmask16 nearer = _mm512_cmpgt_epi32_mask(score, best);
      _mm512_store_si512(row.second, _mm512_max_epi32(_mm512_load_si512(row.second), _mm512_min_epi32(best, score)));
      _mm512_store_si512(row.best, _mm512_max_epi32(best, score));
      _mm512_mask_store_epi32(row.group, nearer, here);
      const __m512i from_column = _mm512_sub_epi32(score, _mm512_set1_epi32(row_norms[r]));
      const __mmask16 column_nearer = _mm512_cmpgt_epi32_mask(from_column, column_best);
      column_best = _mm512_max_epi32(column_best, from_column);
      column_row =
          _mm512_mask_mov_epi32(column_row, column_nearer, _mm512_set1_epi32(static_cast<std::int32_t>(first_row) + r));
    }
    _mm512_store_si512(column[half].best, column_best);
    _mm512_store_si512(column[half].row, column_row);
  }
}

// The number of groups is even.
__attribute__((target("avx512f,avx512bw,avx512vnni"))) void nearest_vnni(
    const std::uint8_t* rows, int count, const std::int32_t* row_norms, std::uint32_t first_row,
    const std::uint8_t* groups, std::size_t group_count, const std::int32_t* column_norms, RowNearest* row_nearest,
    ColumnNearest* column_nearest) {
  for (std::size_t g = 0; g + 1 < group_count; g += 2) {
    const std::uint8_t* group = groups + g * kGroupBytes;
    const std::int32_t* norms = column_norms + g * kGroup;
    const auto number = static_cast<std::int32_t>(g);
    int r = 0;
    for (; r + 8 <= count; r += 8)
      vnni_tile<8>(rows + 128 * r, row_norms + r, first_row + static_cast<std::uint32_t>(r), group, norms, number,
                   row_nearest + r, column_nearest + g);
    for (; r < count; ++r)
      vnni_tile<1>(rows + 128 * r, row_norms + r, first_row + static_cast<std::uint32_t>(r), group, norms, number,
                   row_nearest + r, column_nearest + g);
  }
}

}  // namespace
#endif

NearestKernels best_nearest_kernels() {
#if defined(__x86_64__)
  if (instruction_level() == "avx512" && __builtin_cpu_supports("avx512vnni") && __builtin_cpu_supports("avx512bw"))
    return {nearest_vnni, true};
  if (__builtin_cpu_supports("avx2")) return {nearest_by_products<group_products_avx2>, false};
#endif
  return plain_nearest_kernels();
}

}  // namespace icefield
