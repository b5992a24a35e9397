#include "src/feature/row_kernels.h"

#include <algorithm>
#include <cmath>
#include <utility>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "src/feature/row_kernels.cc"
#include <hwy/foreach_target.h>  // compiles the part below once for each instruction set
#include <hwy/cache_control.h>
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace icefield {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;
using D = hn::CappedTag<float, 16>;

// Adds row i of the input to the outputs kFirst to kLast, each with its own weight.
template <int kFirst, int kLast>
HWY_INLINE void add_row(const float* row, const float* kernel, hn::Vec<D>* sums) {
  const D d;
  hwy::Prefetch(row + 96);
  const auto v = hn::LoadU(d, row);
#pragma GCC unroll 8
  for (int j = kFirst; j <= kLast; ++j) sums[j] = hn::MulAdd(hn::Set(d, kernel[-j]), v, sums[j]);
}

// The rows that only some of the outputs take part in: at the top (kTop) outputs 0 to i, at the bottom i + 1 to the
// last.
template <bool kTop, int... kRows>
HWY_INLINE void add_edge(const float* const* in, int x, const float* kernel, hn::Vec<D>* sums,
                         std::integer_sequence<int, kRows...>) {
  if constexpr (kTop)
    (add_row<0, kRows>(in[kRows] + x, kernel + kRows, sums), ...);
  else
    (add_row<kRows + 1, kFilterRows - 1>(in[kRows] + x, kernel + kRows, sums), ...);
}

// Eight sums share each load.
void filter_down(const float* const* in, int radius, const float* kernel, int width, float* const* out) {
  const D d;
  const int lanes = static_cast<int>(hn::Lanes(d));
  constexpr auto edge = std::make_integer_sequence<int, kFilterRows - 1>();
  const float* first = kernel - radius;  // row i takes part in output j with weight first[i - j]
  for (int x = 0; x < width; x += lanes) {
    hn::Vec<D> sums[kFilterRows];
#pragma GCC unroll 8
    for (auto& sum : sums) sum = hn::Zero(d);
    const int whole = 2 * radius + 1;
    if (whole >= kFilterRows) {
      add_edge<true>(in, x, first, sums, edge);
      for (int i = kFilterRows - 1; i < whole; ++i) add_row<0, kFilterRows - 1>(in[i] + x, first + i, sums);
      add_edge<false>(in + whole, x, first + whole, sums, edge);
    } else {
      for (int j = 0; j < kFilterRows; ++j)
        for (int i = j; i < j + whole; ++i)
          sums[j] = hn::MulAdd(hn::Set(d, first[i - j]), hn::LoadU(d, in[i] + x), sums[j]);
    }
#pragma GCC unroll 8
    for (int j = 0; j < kFilterRows; ++j) hn::StoreU(sums[j], d, out[j] + x);
  }
}

void filter_across(const float* in, int radius, const float* kernel, int width, float* out, const float* before,
                   float* difference) {
  const D d;
  const int lanes = static_cast<int>(hn::Lanes(d));
  // Two vectors at once hide the latency of the sums.
  for (int x = 0; x < width; x += 2 * lanes) {
    const int x2 = x + lanes < width ? x + lanes : x;
    const float *p = in + x, *q = in + x2;
    auto a = hn::Mul(hn::Set(d, kernel[0]), hn::LoadU(d, p)), b = hn::Mul(hn::Set(d, kernel[0]), hn::LoadU(d, q));
    for (int i = 1; i <= radius; ++i) {
      const auto weight = hn::Set(d, kernel[i]);
      a = hn::MulAdd(weight, hn::Add(hn::LoadU(d, p - i), hn::LoadU(d, p + i)), a);
      b = hn::MulAdd(weight, hn::Add(hn::LoadU(d, q - i), hn::LoadU(d, q + i)), b);
    }
    hn::StoreU(a, d, out + x);
    if (x2 != x) hn::StoreU(b, d, out + x2);
    if (!difference) continue;
    hn::StoreU(hn::Sub(a, hn::LoadU(d, before + x)), d, difference + x);
    if (x2 != x) hn::StoreU(hn::Sub(b, hn::LoadU(d, before + x2)), d, difference + x2);
  }
}

void twice(const float* above, const float* below, float part, int width, float* out) {
  const D d;
  const int lanes = static_cast<int>(hn::Lanes(d));
  const auto f = hn::Set(d, part), near = hn::Set(d, 0.75f), far = hn::Set(d, 0.25f);
  const auto blend = [&](int x) HWY_ATTR {
    const auto a = hn::LoadU(d, above + x), b = hn::LoadU(d, below + x);
    return hn::Add(a, hn::Mul(f, hn::Sub(b, a)));
  };
  const auto alone = [&](int x) { return above[x] + part * (below[x] - above[x]); };
  out[0] = alone(0);
  int x = 1;
  for (; x + lanes <= width; x += lanes) {
    const auto before = blend(x - 1), now = blend(x);
    hn::StoreInterleaved2(hn::Add(hn::Mul(near, before), hn::Mul(far, now)),
                          hn::Add(hn::Mul(far, before), hn::Mul(near, now)), d, out + 2 * x - 1);
  }
  for (; x < width; ++x) {
    const float before = alone(x - 1), now = alone(x);
    out[2 * x - 1] = 0.75f * before + 0.25f * now;
    out[2 * x] = 0.25f * before + 0.75f * now;
  }
  out[2 * width - 1] = alone(width - 1);
}

void halve(const float* in, int width, float* out) {
  const D d;
  const int lanes = static_cast<int>(hn::Lanes(d));
  int x = 0;
  for (; x + lanes <= width; x += lanes) {
    hn::Vec<D> even, odd;
    hn::LoadInterleaved2(d, in + 2 * x, even, odd);
    hn::StoreU(even, d, out + x);
  }
  for (; x < width; ++x) out[x] = in[2 * x];
}

void quantise(const float* in, int width, std::uint16_t* out) {
  const D d;
  const hn::Rebind<std::uint16_t, D> du;
  const int lanes = static_cast<int>(hn::Lanes(d));
  const auto scale = hn::Set(d, 65535.0f);
  for (int x = 0; x < width; x += lanes)
    hn::StoreU(hn::DemoteTo(du, hn::NearestInt(hn::Mul(hn::LoadU(d, in + x), scale))), du, out + x);
}

int extrema(const float* const* rows, int width, float threshold, std::int32_t* found) {
  const D d;
  const int lanes = static_cast<int>(hn::Lanes(d));
  const float* middle = rows[4];
  const auto limit = hn::Set(d, threshold);
  int count = 0;
  // The order of the looks: what rules out most comes first.
  static constexpr int kRest[8] = {0, 1, 2, 3, 5, 6, 7, 8};
  for (int x = 2; x < width - 2; x += lanes) {
    const auto v = hn::LoadU(d, middle + x);
    auto high = hn::Gt(v, limit), low = hn::Lt(v, hn::Neg(limit));
    const auto look = [&](const float* p) {
      const auto other = hn::LoadU(d, p);
      high = hn::And(high, hn::Gt(v, other));
      low = hn::And(low, hn::Lt(v, other));
    };
    look(middle + x - 1);
    look(middle + x + 1);
    look(rows[1] + x);
    look(rows[7] + x);
    if (hn::AllFalse(d, hn::Or(high, low))) continue;
    look(rows[3] + x);
    look(rows[5] + x);
    if (hn::AllFalse(d, hn::Or(high, low))) continue;
    for (const int r : kRest) {
      look(rows[r] + x - 1);
      look(rows[r] + x);
      look(rows[r] + x + 1);
    }
    std::uint8_t bits[8] = {};
    hn::StoreMaskBits(d, hn::Or(high, low), bits);
    const unsigned mask = static_cast<unsigned>(bits[0]) | static_cast<unsigned>(bits[1]) << 8;
    for (int k = 0; k < lanes && x + k < width - 2; ++k)
      if (mask >> k & 1) found[count++] = x + k;
  }
  return count;
}

RowKernels row_kernels_here() {
  return {&filter_down, &filter_across, &twice, &halve, &quantise, &extrema};
}

}  // namespace HWY_NAMESPACE
}  // namespace icefield
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace icefield {

HWY_EXPORT(row_kernels_here);

RowKernels best_row_kernels() {
  return HWY_DYNAMIC_DISPATCH(row_kernels_here)();
}

RowKernels plain_row_kernels() {
  RowKernels kernels;
  kernels.filter_down = [](const float* const* in, int radius, const float* kernel, int width, float* const* out) {
    for (int j = 0; j < kFilterRows; ++j)
      for (int x = 0; x < width; ++x) {
        double sum = 0;
        for (int i = -radius; i <= radius; ++i) sum += static_cast<double>(kernel[i]) * in[j + radius + i][x];
        out[j][x] = static_cast<float>(sum);
      }
  };
  kernels.filter_across = [](const float* in, int radius, const float* kernel, int width, float* out,
                             const float* before, float* difference) {
    for (int x = 0; x < width; ++x) {
      double sum = 0;
      for (int i = -radius; i <= radius; ++i) sum += static_cast<double>(kernel[i]) * in[x + i];
      out[x] = static_cast<float>(sum);
      if (difference) difference[x] = out[x] - before[x];
    }
  };
  kernels.twice = [](const float* above, const float* below, float part, int width, float* out) {
    const auto at = [&](int x) { return above[x] + part * (below[x] - above[x]); };
    for (int x = 0; x < 2 * width; ++x) {
      const int a = std::max(0, (x - 1) / 2), b = std::min(width - 1, (x + 1) / 2);
      out[x] = a == b || x == 0 ? at(x / 2)
               : x % 2 == 1     ? 0.75f * at(a) + 0.25f * at(b)
                                : 0.25f * at(a) + 0.75f * at(b);
    }
  };
  kernels.halve = [](const float* in, int width, float* out) {
    for (int x = 0; x < width; ++x) out[x] = in[2 * x];
  };
  kernels.quantise = [](const float* in, int width, std::uint16_t* out) {
    for (int x = 0; x < width; ++x)
      out[x] = static_cast<std::uint16_t>(std::nearbyint(std::clamp(in[x] * 65535.0f, 0.0f, 65535.0f)));
  };
  kernels.extrema = [](const float* const* d, int width, float threshold, std::int32_t* found) {
    int count = 0;
    for (int x = 2; x < width - 2; ++x) {
      const float v = d[4][x];
      bool high = v > threshold, low = v < -threshold;
      for (int r = 0; r < 9; ++r)
        for (int dx = -1; dx <= 1; ++dx) {
          if (r == 4 && dx == 0) continue;
          high = high && v > d[r][x + dx];
          low = low && v < d[r][x + dx];
        }
      if (high || low) found[count++] = x;
    }
    return count;
  };
  return kernels;
}

}  // namespace icefield
#endif
