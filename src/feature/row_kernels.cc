#include "src/feature/row_kernels.h"

#include <cmath>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "src/feature/row_kernels.cc"
#include <hwy/foreach_target.h>  // compiles the part below once for each instruction set
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace icefield {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;
using D = hn::CappedTag<float, 16>;

// Four rows and two vectors at a time: eight sums share each load and each weight.
void filter_down(const float* const* in, int radius, const float* kernel, int width, float* const* out) {
  const D d;
  const int lanes = static_cast<int>(hn::Lanes(d)), last = 2 * radius;
  for (int x = 0; x < width; x += 2 * lanes) {
    const int x2 = x + lanes < width ? x + lanes : x;
    auto a = hn::Zero(d), b = a, c = a, e = a, a2 = a, b2 = a, c2 = a, e2 = a;
    // Row i takes part in output j with the weight of |i - j - radius|.
    const auto weight = [&](int i) { return hn::Set(d, kernel[i < 0 ? -i : i]); };
    const auto partly = [&](int i) {
      const auto v = hn::LoadU(d, in[i] + x), v2 = hn::LoadU(d, in[i] + x2);
      if (i <= last) a = hn::MulAdd(weight(i - radius), v, a), a2 = hn::MulAdd(weight(i - radius), v2, a2);
      if (i >= 1 && i <= last + 1) b = hn::MulAdd(weight(i - 1 - radius), v, b), b2 = hn::MulAdd(weight(i - 1 - radius), v2, b2);
      if (i >= 2 && i <= last + 2) c = hn::MulAdd(weight(i - 2 - radius), v, c), c2 = hn::MulAdd(weight(i - 2 - radius), v2, c2);
      if (i >= 3) e = hn::MulAdd(weight(i - 3 - radius), v, e), e2 = hn::MulAdd(weight(i - 3 - radius), v2, e2);
    };
    for (int i = 0; i < 3; ++i) partly(i);
    auto wb = weight(2 - radius), wc = weight(1 - radius), we = weight(-radius);  // handed down from row to row
    for (int i = 3; i <= last; ++i) {
      const auto v = hn::LoadU(d, in[i] + x), v2 = hn::LoadU(d, in[i] + x2);
      const auto wa = weight(i - radius);
      a = hn::MulAdd(wa, v, a), a2 = hn::MulAdd(wa, v2, a2);
      b = hn::MulAdd(wb, v, b), b2 = hn::MulAdd(wb, v2, b2);
      c = hn::MulAdd(wc, v, c), c2 = hn::MulAdd(wc, v2, c2);
      e = hn::MulAdd(we, v, e), e2 = hn::MulAdd(we, v2, e2);
      we = wc, wc = wb, wb = wa;
    }
    for (int i = last + 1; i <= last + 3; ++i) partly(i);
    hn::StoreU(a, d, out[0] + x), hn::StoreU(b, d, out[1] + x), hn::StoreU(c, d, out[2] + x), hn::StoreU(e, d, out[3] + x);
    if (x2 != x) hn::StoreU(a2, d, out[0] + x2), hn::StoreU(b2, d, out[1] + x2), hn::StoreU(c2, d, out[2] + x2), hn::StoreU(e2, d, out[3] + x2);
  }
}

void filter_across(const float* in, int radius, const float* kernel, int width, float* out, const float* before, float* difference) {
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

RowKernels row_kernels_here() { return {&filter_down, &filter_across, &extrema}; }

}  // namespace HWY_NAMESPACE
}  // namespace icefield
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace icefield {

HWY_EXPORT(row_kernels_here);

RowKernels best_row_kernels() { return HWY_DYNAMIC_DISPATCH(row_kernels_here)(); }

RowKernels plain_row_kernels() {
  RowKernels kernels;
  kernels.filter_down = [](const float* const* in, int radius, const float* kernel, int width, float* const* out) {
    for (int j = 0; j < 4; ++j)
      for (int x = 0; x < width; ++x) {
        double sum = 0;
        for (int i = -radius; i <= radius; ++i) sum += static_cast<double>(kernel[std::abs(i)]) * in[j + radius + i][x];
        out[j][x] = static_cast<float>(sum);
      }
  };
  kernels.filter_across = [](const float* in, int radius, const float* kernel, int width, float* out, const float* before, float* difference) {
    for (int x = 0; x < width; ++x) {
      double sum = 0;
      for (int i = -radius; i <= radius; ++i) sum += static_cast<double>(kernel[std::abs(i)]) * in[x + i];
      out[x] = static_cast<float>(sum);
      if (difference) difference[x] = out[x] - before[x];
    }
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
