#include "src/adjust/dense_kernels.h"

#include <algorithm>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "src/adjust/dense_kernels.cc"
#include <hwy/foreach_target.h>  // compiles the part below once for each instruction set
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace icefield {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;
using D = hn::CappedTag<double, 8>;

// 24 accumulators of 8 doubles with 32 registers, 12 of 4 with 16.
constexpr int kVectors = 3;
constexpr int kColumns = HWY_TARGET <= HWY_AVX3 ? 8 : 4;
constexpr int kLanes = static_cast<int>(HWY_LANES(double)) < 8 ? static_cast<int>(HWY_LANES(double)) : 8;
constexpr int kRows = kVectors * kLanes;

// One strip of rows by one of columns.
HWY_INLINE void strip_product(const double* HWY_RESTRICT a, const double* HWY_RESTRICT b, int depth, double* c,
                              std::ptrdiff_t stride) {
  const D d;
  hn::Vec<D> sums[kColumns][kVectors];
#pragma GCC unroll 8
  for (auto& column : sums)
#pragma GCC unroll 3
    for (auto& sum : column) sum = hn::Zero(d);
  for (int k = 0; k < depth; ++k, a += kRows, b += kColumns) {
    const auto a0 = hn::LoadU(d, a), a1 = hn::LoadU(d, a + kLanes), a2 = hn::LoadU(d, a + 2 * kLanes);
#pragma GCC unroll 8
    for (int j = 0; j < kColumns; ++j) {
      const auto v = hn::Set(d, b[j]);
      sums[j][0] = hn::MulAdd(a0, v, sums[j][0]);
      sums[j][1] = hn::MulAdd(a1, v, sums[j][1]);
      sums[j][2] = hn::MulAdd(a2, v, sums[j][2]);
    }
  }
#pragma GCC unroll 8
  for (int j = 0; j < kColumns; ++j)
#pragma GCC unroll 3
    for (int v = 0; v < kVectors; ++v) {
      double* const at = c + j * stride + v * kLanes;
      hn::StoreU(hn::Sub(hn::LoadU(d, at), sums[j][v]), d, at);
    }
}

void subtract_product(const double* a, const double* b, int depth, int rows, int columns, bool lower, double* c,
                      std::ptrdiff_t stride) {
  alignas(64) double rim[kRows * kColumns];
  for (int j = 0; j < columns; j += kColumns) {
    const int width = std::min(kColumns, columns - j);
    const double* const right = b + static_cast<std::ptrdiff_t>(j) * depth;
    for (int i = lower ? j / kRows * kRows : 0; i < rows; i += kRows) {
      const int height = std::min(kRows, rows - i);
      const double* const left = a + static_cast<std::ptrdiff_t>(i) * depth;
      double* const at = c + i + j * stride;
      if (height == kRows && width == kColumns) {
        strip_product(left, right, depth, at, stride);
        continue;
      }
      std::fill(rim, rim + kRows * kColumns, 0.0);
      strip_product(left, right, depth, rim, kRows);
      for (int q = 0; q < width; ++q)
        for (int p = 0; p < height; ++p) at[p + q * stride] += rim[p + q * kRows];
    }
  }
}

DenseKernels dense_kernels() {
  return {kRows, kColumns, subtract_product};
}

}  // namespace HWY_NAMESPACE
}  // namespace icefield
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace icefield {

HWY_EXPORT(dense_kernels);
DenseKernels best_dense_kernels() {
  return HWY_DYNAMIC_DISPATCH(dense_kernels)();
}

DenseKernels plain_dense_kernels() {
  return {6, 4,
          [](const double* a, const double* b, int depth, int rows, int columns, bool lower, double* c,
             std::ptrdiff_t stride) {
            for (int j = 0; j < columns; ++j)
              for (int i = lower ? j : 0; i < rows; ++i) {
                double sum = 0;
                for (int k = 0; k < depth; ++k)
                  sum += a[i / 6 * 6 * depth + k * 6 + i % 6] * b[j / 4 * 4 * depth + k * 4 + j % 4];
                c[i + j * stride] -= sum;
              }
          }};
}

void pack_strips(const double* from, std::ptrdiff_t stride, int rows, int depth, int strip, double* to) {
  for (int i = 0; i < rows; i += strip) {
    const int height = std::min(strip, rows - i);
    for (int k = 0; k < depth; ++k, to += strip) {
      const double* const column = from + i + k * stride;
      int p = 0;
      for (; p < height; ++p) to[p] = column[p];
      for (; p < strip; ++p) to[p] = 0;
    }
  }
}

}  // namespace icefield
#endif
