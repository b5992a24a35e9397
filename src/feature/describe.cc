#include "src/feature/describe.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "src/feature/describe.cc"
#include <hwy/foreach_target.h>  // compiles the part below once for each instruction set
#include <hwy/highway.h>
#include <hwy/contrib/math/math-inl.h>

#ifndef ICEFIELD_DESCRIBE_SHARED
#define ICEFIELD_DESCRIBE_SHARED
namespace icefield::describing {

constexpr float kTwoPi = 2 * std::numbers::pi_v<float>;
constexpr int kBins = 36;                        // of the orientation histogram
constexpr float kOrientationWindow = 1.5f;       // standard deviation of its window, in sigmas
constexpr int kCells = 4, kDirections = 8;
constexpr float kCellSize = 3;                   // sigmas
constexpr int kSide = 24, kGrid = kSide + 2;     // samples along a side that count, and with the ring around them
constexpr float kSpacing = (kCells + 1) * kCellSize / kSide;   // sigmas: 0.625, finer than the blur
constexpr int kRow = 32;                         // a row of the grid rounded up to whole vectors
constexpr int kSamples = kGrid * kGrid, kPadded = (kSamples + 15) / 16 * 16;

// What is the same for all keypoints.
struct Tables {
  alignas(64) float u[kPadded] = {}, v[kPadded] = {};   // places of the samples, sigmas
  alignas(64) float columns[kCells][kRow] = {};         // weight of a column of samples in a column of cells
  float rows[kGrid][kCells] = {};                       // and of a row, with the Gaussian window in both
  Tables() {
    for (int i = 0; i < kSamples; ++i) {
      u[i] = (static_cast<float>(i % kGrid) - 0.5f * (kGrid - 1)) * kSpacing;
      v[i] = (static_cast<float>(i / kGrid) - 0.5f * (kGrid - 1)) * kSpacing;
    }
    for (int i = 1; i <= kSide; ++i) {
      const double at = (i - 0.5 * (kGrid - 1)) * kSpacing / kCellSize;  // in cells from the middle
      const double window = std::exp(-0.5 * at * at / 4);               // a standard deviation of two cells
      for (int c = 0; c < kCells; ++c) {
        const double share = std::max(0.0, 1 - std::abs(at + 1.5 - c));
        columns[c][i] = rows[i][c] = static_cast<float>(share * window);
      }
    }
  }
};
inline const Tables& tables() {
  static const Tables made;
  return made;
}

// Peaks of the smoothed histogram, within 80 percent of the highest.
inline int peaks(float* histogram, float* angles) {
  for (int pass = 0; pass < 2; ++pass) {
    float smooth[kBins];
    for (int i = 0; i < kBins; ++i)
      smooth[i] = 0.25f * histogram[(i + kBins - 1) % kBins] + 0.5f * histogram[i] + 0.25f * histogram[(i + 1) % kBins];
    std::copy(smooth, smooth + kBins, histogram);
  }
  const float highest = *std::max_element(histogram, histogram + kBins);
  int count = 0;
  if (!(highest > 0)) return 0;
  for (int i = 0; i < kBins && count < kMaxAngles; ++i) {
    const float left = histogram[(i + kBins - 1) % kBins], here = histogram[i], right = histogram[(i + 1) % kBins];
    if (here < 0.8f * highest || here <= left || here < right) continue;
    const float shift = 0.5f * (left - right) / (left - 2 * here + right);
    angles[count++] = (static_cast<float>(i) + shift) * (kTwoPi / kBins);
  }
  return count;
}

// Large gradients are capped against changes of light, then the root of the shares is taken: its Euclidean distance is
// the Hellinger distance of the histograms (Arandjelovic and Zisserman 2012).
inline void to_bytes(float* values, std::uint8_t* out) {
  float norm2 = 0;
  for (int k = 0; k < kDescriptorSize; ++k) norm2 += values[k] * values[k];
  const float cap = 0.2f * std::sqrt(norm2);
  float sum = 1e-12f;
  for (int k = 0; k < kDescriptorSize; ++k) {
    values[k] = std::min(values[k], cap);
    sum += values[k];
  }
  const float scale = 1 / sum;
  for (int k = 0; k < kDescriptorSize; ++k) out[k] = static_cast<std::uint8_t>(std::min(127.0f, 420.0f * std::sqrt(values[k] * scale) + 0.5f));
}

}  // namespace icefield::describing
#endif

HWY_BEFORE_NAMESPACE();
namespace icefield {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;
using namespace describing;
using D = hn::CappedTag<float, 16>;
using V = hn::Vec<D>;

// Angle of (x, y) in turns times `turn`, in [0, turn): a polynomial of the smaller over the larger, off by 3e-4 radians at most.
HWY_INLINE V angle_of(V y, V x, float turn) {
  const D d;
  const auto ax = hn::Abs(x), ay = hn::Abs(y);
  const auto large = hn::Max(hn::Max(ax, ay), hn::Set(d, 1e-30f)), small = hn::Min(ax, ay);
  const auto a = hn::Div(small, large), s = hn::Mul(a, a);
  auto r = hn::MulAdd(hn::MulAdd(hn::MulAdd(hn::Set(d, -0.0464964749f), s, hn::Set(d, 0.15931422f)), s, hn::Set(d, -0.327622764f)), hn::Mul(s, a), a);
  const float pi = std::numbers::pi_v<float>;
  r = hn::IfThenElse(hn::Gt(ay, ax), hn::Sub(hn::Set(d, pi / 2), r), r);
  r = hn::IfThenElse(hn::Lt(x, hn::Zero(d)), hn::Sub(hn::Set(d, pi), r), r);
  r = hn::IfThenElse(hn::Lt(y, hn::Zero(d)), hn::Sub(hn::Set(d, kTwoPi), r), r);
  return hn::Mul(r, hn::Set(d, turn / kTwoPi));
}

int orientations(const LayerView& layer, float x, float y, float sigma, float* angles) {
  const D d;
  constexpr int kMost = 64;
  const float window = kOrientationWindow * sigma;
  const int radius = std::min(static_cast<int>(std::lround(3 * window)), kMost / 2 - 9);
  const int cx = static_cast<int>(std::lround(x)), cy = static_cast<int>(std::lround(y));
  const int left = std::max(1, cx - radius), right = std::min(layer.width - 2, cx + radius);
  const int top = std::max(1, cy - radius), bottom = std::min(layer.height - 2, cy + radius);
  alignas(64) float column[kMost] = {}, column_weight[kMost], bin[kMost], weight[kMost];
  const auto lanes = static_cast<int>(hn::Lanes(d));
  const auto scale = hn::Set(d, -0.5f / (window * window));
  for (int i = 0; i < right - left + 1; i += lanes) {
    const auto dx = hn::Sub(hn::Iota(d, static_cast<float>(left + i)), hn::Set(d, x));
    const auto dx2 = hn::Mul(dx, dx);
    hn::Store(dx2, d, column + i);
    hn::Store(hn::Exp(d, hn::Mul(dx2, scale)), d, column_weight + i);
  }
  const auto limit = hn::Set(d, static_cast<float>(radius * radius));
  float histogram[kBins + 2] = {};
  for (int py = top; py <= bottom; ++py) {
    const float* row = layer.base + static_cast<std::size_t>(py & layer.mask) * static_cast<std::size_t>(layer.stride);
    const float* above = layer.base + static_cast<std::size_t>((py - 1) & layer.mask) * static_cast<std::size_t>(layer.stride);
    const float* below = layer.base + static_cast<std::size_t>((py + 1) & layer.mask) * static_cast<std::size_t>(layer.stride);
    const float dy = static_cast<float>(py) - y;
    const int count = right - left + 1;
    const auto row_weight = hn::Set(d, std::exp(dy * dy * -0.5f / (window * window)));
    for (int i = 0; i < count; i += lanes) {
      const auto r2 = hn::Add(hn::Load(d, column + i), hn::Set(d, dy * dy));
      const auto gx = hn::Sub(hn::LoadU(d, row + left + i + 1), hn::LoadU(d, row + left + i - 1)), gy = hn::Sub(hn::LoadU(d, below + left + i), hn::LoadU(d, above + left + i));
      const auto magnitude = hn::Sqrt(hn::MulAdd(gx, gx, hn::Mul(gy, gy)));
      const auto w = hn::Mul(hn::Mul(magnitude, row_weight), hn::Load(d, column_weight + i));
      hn::Store(hn::IfThenElseZero(hn::Le(r2, limit), w), d, weight + i);
      hn::Store(angle_of(gy, gx, static_cast<float>(kBins)), d, bin + i);
    }
    for (int i = 0; i < count; ++i) {
      const int b = static_cast<int>(bin[i]);
      const float share = bin[i] - static_cast<float>(b);
      histogram[b] += weight[i] * (1 - share);
      histogram[b + 1] += weight[i] * share;
    }
  }
  histogram[0] += histogram[kBins];
  histogram[1] += histogram[kBins + 1];
  return peaks(histogram, angles);
}

void describe(const LayerView& layer, float x, float y, float sigma, float angle, std::uint8_t* out) {
  const D d;
  const hn::RebindToSigned<D> di;
  const Tables& t = tables();
  const int lanes = static_cast<int>(hn::Lanes(d));
  alignas(64) float sample[kPadded + 2 * kRow] = {};
  const auto c = hn::Set(d, sigma * std::cos(angle)), s = hn::Set(d, sigma * std::sin(angle));
  const auto x0 = hn::Set(d, x), y0 = hn::Set(d, y), zero = hn::Zero(d);
  const auto x_most = hn::Set(d, static_cast<float>(layer.width) - 1.001f), y_most = hn::Set(d, static_cast<float>(layer.height) - 1.001f);
  const auto stride = hn::Set(di, layer.stride), mask = hn::Set(di, layer.mask), one = hn::Set(di, 1);
  for (int i = 0; i < kPadded; i += lanes) {
    const auto u = hn::Load(d, t.u + i), v = hn::Load(d, t.v + i);
    const auto px = hn::Min(hn::Max(hn::MulAdd(c, u, hn::NegMulAdd(s, v, x0)), zero), x_most);
    const auto py = hn::Min(hn::Max(hn::MulAdd(s, u, hn::MulAdd(c, v, y0)), zero), y_most);
    const auto ix = hn::ConvertTo(di, px), iy = hn::ConvertTo(di, py);
    const auto fx = hn::Sub(px, hn::ConvertTo(d, ix)), fy = hn::Sub(py, hn::ConvertTo(d, iy));
    const auto first = hn::Add(hn::Mul(hn::And(iy, mask), stride), ix), second = hn::Add(hn::Mul(hn::And(hn::Add(iy, one), mask), stride), ix);
    const auto a = hn::GatherIndex(d, layer.base, first), b = hn::GatherIndex(d, layer.base + 1, first);
    const auto e = hn::GatherIndex(d, layer.base, second), f = hn::GatherIndex(d, layer.base + 1, second);
    const auto upper = hn::MulAdd(fx, hn::Sub(b, a), a), lower = hn::MulAdd(fx, hn::Sub(f, e), e);
    hn::Store(hn::MulAdd(fy, hn::Sub(lower, upper), upper), d, sample + i);
  }
  // Cells of a row at a time: gradients in the keypoint's own frame, shared between the two nearest directions.
  alignas(64) float sums[kCells][kDirections][kRow] = {};
  for (int r = 1; r <= kSide; ++r) {
    const float* row = sample + r * kGrid;
    int first = 0;
    while (t.rows[r][first] == 0) ++first;
    const bool two = first + 1 < kCells && t.rows[r][first + 1] > 0;
    const auto weight0 = hn::Set(d, t.rows[r][first]), weight1 = hn::Set(d, two ? t.rows[r][first + 1] : 0.0f);
    for (int i = 0; i < kRow; i += lanes) {
      const auto gx = hn::Sub(hn::LoadU(d, row + i + 1), hn::LoadU(d, row + i - 1)), gy = hn::Sub(hn::LoadU(d, row + i + kGrid), hn::LoadU(d, row + i - kGrid));
      const auto magnitude = hn::Sqrt(hn::MulAdd(gx, gx, hn::Mul(gy, gy)));
      const auto direction = angle_of(gy, gx, static_cast<float>(kDirections));
      const auto one_f = hn::Set(d, 1.0f), half_turn = hn::Set(d, 0.5f * kDirections);
      const auto m0 = hn::Mul(magnitude, weight0), m1 = hn::Mul(magnitude, weight1);
      for (int k = 0; k < kDirections; ++k) {
        // Distance around the circle.
        const auto off = hn::Sub(half_turn, hn::Abs(hn::Sub(hn::Abs(hn::Sub(direction, hn::Set(d, static_cast<float>(k)))), half_turn)));
        const auto share = hn::Max(hn::Sub(one_f, off), zero);
        float* to = sums[first][k] + i;
        hn::Store(hn::MulAdd(share, m0, hn::Load(d, to)), d, to);
        if (two) {
          float* other = sums[first + 1][k] + i;
          hn::Store(hn::MulAdd(share, m1, hn::Load(d, other)), d, other);
        }
      }
    }
  }
  float values[kDescriptorSize];
  for (int r = 0; r < kCells; ++r)
    for (int q = 0; q < kCells; ++q)
      for (int k = 0; k < kDirections; ++k) {
        auto sum = hn::Zero(d);
        for (int i = 0; i < kRow; i += lanes) sum = hn::MulAdd(hn::Load(d, t.columns[q] + i), hn::Load(d, sums[r][k] + i), sum);
        values[(r * kCells + q) * kDirections + k] = hn::GetLane(hn::SumOfLanes(d, sum));
      }
  to_bytes(values, out);
}

DescribeKernels describe_kernels_here() { return {&orientations, &describe}; }

}  // namespace HWY_NAMESPACE
}  // namespace icefield
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace icefield {

HWY_EXPORT(describe_kernels_here);

DescribeKernels best_describe_kernels() { return HWY_DYNAMIC_DISPATCH(describe_kernels_here)(); }

DescribeKernels plain_describe_kernels() {
  using namespace describing;
  static const auto pixel = [](const LayerView& l, int x, int y) { return static_cast<double>(l.base[static_cast<std::size_t>(y & l.mask) * static_cast<std::size_t>(l.stride) + static_cast<std::size_t>(x)]); };
  DescribeKernels kernels;
  kernels.orientations = [](const LayerView& l, float x, float y, float sigma, float* angles) {
    const float window = kOrientationWindow * sigma;
    const int radius = static_cast<int>(std::lround(3 * window)), cx = static_cast<int>(std::lround(x)), cy = static_cast<int>(std::lround(y));
    float histogram[kBins] = {};
    for (int py = std::max(1, cy - radius); py <= std::min(l.height - 2, cy + radius); ++py)
      for (int px = std::max(1, cx - radius); px <= std::min(l.width - 2, cx + radius); ++px) {
        const double dx = px - static_cast<double>(x), dy = py - static_cast<double>(y), r2 = dx * dx + dy * dy;
        if (r2 > radius * radius) continue;
        const double gx = pixel(l, px + 1, py) - pixel(l, px - 1, py), gy = pixel(l, px, py + 1) - pixel(l, px, py - 1);
        double bin = std::atan2(gy, gx) * kBins / (2 * std::numbers::pi);
        if (bin < 0) bin += kBins;
        const int b = static_cast<int>(bin);
        const double weight = std::hypot(gx, gy) * std::exp(-0.5 * r2 / (window * window));
        histogram[b % kBins] += static_cast<float>(weight * (1 - (bin - b)));
        histogram[(b + 1) % kBins] += static_cast<float>(weight * (bin - b));
      }
    return peaks(histogram, angles);
  };
  kernels.describe = [](const LayerView& l, float x, float y, float sigma, float angle, std::uint8_t* out) {
    const auto value = [&](int column, int row) {
      const double u = (column - 0.5 * (kGrid - 1)) * kSpacing * sigma, v = (row - 0.5 * (kGrid - 1)) * kSpacing * sigma;
      const double px = std::clamp(std::cos(angle) * u - std::sin(angle) * v + x, 0.0, l.width - 1.001), py = std::clamp(std::sin(angle) * u + std::cos(angle) * v + y, 0.0, l.height - 1.001);
      const int ix = static_cast<int>(px), iy = static_cast<int>(py);
      const double fx = px - ix, fy = py - iy;
      return (1 - fy) * ((1 - fx) * pixel(l, ix, iy) + fx * pixel(l, ix + 1, iy)) + fy * ((1 - fx) * pixel(l, ix, iy + 1) + fx * pixel(l, ix + 1, iy + 1));
    };
    float values[kDescriptorSize] = {};
    const Tables& t = tables();
    for (int r = 1; r <= kSide; ++r)
      for (int q = 1; q <= kSide; ++q) {
        const double gx = value(q + 1, r) - value(q - 1, r), gy = value(q, r + 1) - value(q, r - 1);
        double direction = std::atan2(gy, gx) * kDirections / (2 * std::numbers::pi);
        if (direction < 0) direction += kDirections;
        const int d0 = static_cast<int>(direction);
        const double share = direction - d0, magnitude = std::hypot(gx, gy);
        for (int cy = 0; cy < kCells; ++cy)
          for (int cx = 0; cx < kCells; ++cx) {
            const double w = static_cast<double>(t.rows[r][cy]) * t.columns[cx][q] * magnitude;
            values[(cy * kCells + cx) * kDirections + d0 % kDirections] += static_cast<float>(w * (1 - share));
            values[(cy * kCells + cx) * kDirections + (d0 + 1) % kDirections] += static_cast<float>(w * share);
          }
      }
    to_bytes(values, out);
  };
  return kernels;
}

}  // namespace icefield
#endif
