// Products of byte vectors, sixteen descriptors at a time.
#pragma once
#include <cstdint>

namespace icefield {

// Descriptors in groups of 16: for each of the 32 quadruples of bins the quadruples of the 16 descriptors in turn, so
// that a vector register holds one quadruple of each.
inline constexpr int kGroup = 16;
inline constexpr int kGroupBytes = kGroup * 128;

// products[r * 16 + k] = row r . descriptor k of the group, for `rows` consecutive 128-byte rows; bytes 0 to 127.
// All forms give the same integers.
using GroupProducts = void (*)(const std::uint8_t* row, int rows, const std::uint8_t* group, std::int32_t* products);

void group_products_plain(const std::uint8_t* row, int rows, const std::uint8_t* group, std::int32_t* products);
GroupProducts best_group_products();  // AVX-512 VNNI, AVX2 or plain, by CPUID and the pinned level

}  // namespace icefield
