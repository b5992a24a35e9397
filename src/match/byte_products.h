// Products of byte vectors, sixteen descriptors at a time.
#pragma once
#include <cstddef>
#include <cstdint>

namespace icefield {

// Descriptors in groups of 16: for each of the 32 quadruples of bins the quadruples of the 16 descriptors in turn, so
// that a vector register holds one quadruple of each.
inline constexpr int kGroup = 16;
inline constexpr int kGroupBytes = kGroup * 128;

// products[r * 16 + k] = row r . descriptor k of the group, for `rows` consecutive 128-byte rows; bytes 0 to 127.
// All forms give the same integers.
using GroupProducts = void (*)(const std::uint8_t* row, int rows, const std::uint8_t* group, std::int32_t* products);

// What is known so far of the nearest columns of a row, lane by lane (lane k sees the columns 16 g + k), and of the
// nearest row of each column. Scores instead of distances: 2 row . column - |column|^2, larger is nearer.
struct RowNearest {
  alignas(64) std::int32_t best[kGroup], second[kGroup], group[kGroup];
};
struct ColumnNearest {
  alignas(64) std::int32_t best[kGroup];  // score less |row|^2
  alignas(64) std::uint32_t row[kGroup];
};

// Takes the columns of all groups in for some consecutive rows (at most kRowBlock), the first of which has number
// `first_row`. Of equals the first seen stays. All forms give the same integers.
inline constexpr int kRowBlock = 32;
using NearestKernel = void (*)(const std::uint8_t* rows, int count, const std::int32_t* row_norms,
                               std::uint32_t first_row, const std::uint8_t* groups, std::size_t group_count,
                               const std::int32_t* column_norms, RowNearest* row_nearest,
                               ColumnNearest* column_nearest);
struct NearestKernels {
  NearestKernel run;
  bool doubled;  // takes the bytes of the groups doubled
};
NearestKernels best_nearest_kernels();  // AVX-512 VNNI, AVX2 or plain, by CPUID and the pinned level
NearestKernels plain_nearest_kernels();

void group_products_plain(const std::uint8_t* row, int rows, const std::uint8_t* group, std::int32_t* products);

}  // namespace icefield
