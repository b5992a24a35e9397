// What the scale space does to rows of pixels, in vector registers. Each has a plain twin that tests hold it to.
#pragma once
#include <cstddef>
#include <cstdint>

namespace icefield {

// Rows may be read and written up to this many floats beyond their width.
inline constexpr int kRowSlack = 16;

inline constexpr int kFilterRows = 8;  // made at once

// A symmetric filter is given by a pointer to its middle: kernel[-radius] to kernel[radius].
struct RowKernels {
  // Vertical pass, kFilterRows output rows at once: out[j][x] = sum over i in [-radius, radius] of
  // kernel[i] in[j + radius + i][x]. `in` holds 2 radius + kFilterRows rows.
  void (*filter_down)(const float* const* in, int radius, const float* kernel, int width, float* const* out);
  // Horizontal pass: out[x] = sum of kernel[i] in[x + i]; `in` can be read from -radius to width + radius (and the
  // slack). With `difference`, also out - before.
  void (*filter_across)(const float* in, int radius, const float* kernel, int width, float* out, const float* before,
                        float* difference);
  // A row of an image of twice the size, bilinear (pixel middles at a quarter and three quarters of a pixel): `width`
  // columns of above + part (below - above) become 2 width.
  void (*twice)(const float* above, const float* below, float part, int width, float* out);
  // Every second pixel of a row, `width` of them.
  void (*halve)(const float* in, int width, float* out);
  // Values 0 to 1 as 0 to 65,535, rounded; beyond, clamped.
  void (*quantise)(const float* in, int width, std::uint16_t* out);
  // Columns in [2, width - 2) of the middle row of three layers of three rows (d[3 * layer + row]) whose value is
  // beyond `threshold` in size and above, or below, all 26 around it. Ascending; returns their number; `found` holds
  // `width`.
  int (*extrema)(const float* const* d, int width, float threshold, std::int32_t* found);
};

RowKernels best_row_kernels();  // by CPUID and the pinned instruction level
RowKernels plain_row_kernels();

}  // namespace icefield
