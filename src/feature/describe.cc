#include "src/feature/describe.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "src/feature/describe.cc"
#include <hwy/foreach_target.h>  // compiles the part below once for each instruction set
#include <hwy/highway.h>

#ifndef ICEFIELD_DESCRIBE_SHARED
#define ICEFIELD_DESCRIBE_SHARED
namespace icefield::describing {

constexpr float kTwoPi = 2 * std::numbers::pi_v<float>;
constexpr int kBins = 36;  // of the orientation histogram
constexpr int kCells = 4, kDirections = 8;
constexpr float kCellSize = 3;                // sigmas
constexpr int kSide = 16, kGrid = kSide + 2;  // samples along a side that count, and with the ring around them
constexpr int kSamples = kGrid * kGrid, kPadded = (kSamples + 15) / 16 * 16;
// Between samples, in sigmas. The blur leaves less than half a percent above the frequency that a grid of this spacing
// can hold.
constexpr float kSpacing = (kCells + 1) * kCellSize / kSide;
// For directions: a window with a standard deviation of 1.5 sigmas (Lowe 2004), cut at 3 of them.
constexpr float kOrientationWindow = 1.5f, kOrientationSpacing = 2 * 3 * kOrientationWindow / kSide;

// What is the same for all keypoints.
struct Tables {
  alignas(64) float u[kPadded] = {}, v[kPadded] = {};  // places of the samples from the middle, in spacings
  alignas(64) float columns[kCells][kSide] = {};       // weight of a column of samples in a column of cells
  float rows[kSide][kCells] = {};                      // and of a row, with the Gaussian window in both
  alignas(64) float window[kSide][kSide] = {};         // weight of a sample for the direction
  int first[kSide] = {};  // the first sample of a row within the window; the last is opposite
  Tables() {
    for (int i = 0; i < kSamples; ++i) {
      u[i] = static_cast<float>(i % kGrid) - 0.5f * (kGrid - 1);
      v[i] = static_cast<float>(i / kGrid) - 0.5f * (kGrid - 1);
    }
    const auto from_middle = [](int i) { return i - 0.5 * (kSide - 1); };
    for (int i = 0; i < kSide; ++i) {
      const double at = from_middle(i) * kSpacing / kCellSize;      // in cells
      const double share_of_window = std::exp(-0.5 * at * at / 4);  // a standard deviation of two cells
      for (int c = 0; c < kCells; ++c)
        columns[c][i] = rows[i][c] = static_cast<float>(std::max(0.0, 1 - std::abs(at + 1.5 - c)) * share_of_window);
    }
    for (int r = 0; r < kSide; ++r)
      for (int c = kSide - 1; c >= 0; --c) {
        const double square = from_middle(r) * from_middle(r) + from_middle(c) * from_middle(c),
                     deviation = kOrientationWindow / kOrientationSpacing;
        if (square > 0.25 * kSide * kSide) continue;
        window[r][c] = static_cast<float>(std::exp(-0.5 * square / (deviation * deviation)));
        first[r] = c;
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
constexpr float kCap = 0.2f, kAlmostNothing = 1e-12f, kByteScale = 420.0f;
inline void to_bytes(float* values, std::uint8_t* out) {
  float norm2 = 0;
  for (int k = 0; k < kDescriptorSize; ++k) norm2 += values[k] * values[k];
  const float cap = kCap * std::sqrt(norm2);
  float sum = kAlmostNothing;
  for (int k = 0; k < kDescriptorSize; ++k) {
    values[k] = std::min(values[k], cap);
    sum += values[k];
  }
  const float scale = 1 / sum;
  for (int k = 0; k < kDescriptorSize; ++k)
    out[k] = static_cast<std::uint8_t>(std::min(127.0f, kByteScale * std::sqrt(values[k] * scale) + 0.5f));
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

// Angle of (x, y) in turns times `turn`, in [0, turn): a polynomial of the smaller over the larger, off by 3e-4 radians
// at most.
HWY_INLINE V angle_of(V y, V x, float turn) {
  const D d;
  const auto ax = hn::Abs(x), ay = hn::Abs(y);
  const auto large = hn::Max(hn::Max(ax, ay), hn::Set(d, 1e-30f)), small = hn::Min(ax, ay);
  const auto a = hn::Div(small, large), s = hn::Mul(a, a);
  auto r = hn::MulAdd(
      hn::MulAdd(hn::MulAdd(hn::Set(d, -0.0464964749f), s, hn::Set(d, 0.15931422f)), s, hn::Set(d, -0.327622764f)),
      hn::Mul(s, a), a);
  const float pi = std::numbers::pi_v<float>;
  r = hn::IfThenElse(hn::Gt(ay, ax), hn::Sub(hn::Set(d, pi / 2), r), r);
  r = hn::IfThenElse(hn::Lt(x, hn::Zero(d)), hn::Sub(hn::Set(d, pi), r), r);
  r = hn::IfThenElse(hn::Lt(y, hn::Zero(d)), hn::Sub(hn::Set(d, kTwoPi), r), r);
  return hn::Mul(r, hn::Set(d, turn / kTwoPi));
}

// The layer on a grid of kGrid x kGrid places, `step` px apart and turned.
HWY_INLINE void sample_grid(const LayerView& layer, float x, float y, float step_cos, float step_sin, float* samples) {
  const D d;
  const hn::RebindToSigned<D> di;
  const hn::RebindToUnsigned<D> du;
  const Tables& t = tables();
  const int lanes = static_cast<int>(hn::Lanes(d));
  const auto c = hn::Set(d, step_cos), s = hn::Set(d, step_sin);
  const auto x0 = hn::Set(d, x), y0 = hn::Set(d, y), zero = hn::Zero(d);
  const auto x_most = hn::Set(d, static_cast<float>(layer.width) - 1.001f),
             y_most = hn::Set(d, static_cast<float>(layer.height) - 1.001f);
  const auto stride = hn::Set(di, layer.stride), mask = hn::Set(di, layer.mask), one = hn::Set(di, 1);
  const auto low = hn::Set(du, 0xffffu);
  const auto* base = reinterpret_cast<const std::int32_t*>(layer.base);
  for (int i = 0; i < kPadded; i += lanes) {
    const auto u = hn::Load(d, t.u + i), v = hn::Load(d, t.v + i);
    const auto px = hn::Min(hn::Max(hn::MulAdd(c, u, hn::NegMulAdd(s, v, x0)), zero), x_most);
    const auto py = hn::Min(hn::Max(hn::MulAdd(s, u, hn::MulAdd(c, v, y0)), zero), y_most);
    const auto ix = hn::ConvertTo(di, px), iy = hn::ConvertTo(di, py);
    const auto fx = hn::Sub(px, hn::ConvertTo(d, ix)), fy = hn::Sub(py, hn::ConvertTo(d, iy));
    // One load of 32 bits takes a pixel and its neighbour to the right.
    const auto row = [&](hn::Vec<decltype(di)> r) {
      const auto offset = hn::ShiftLeft<1>(hn::Add(hn::Mul(hn::And(r, mask), stride), ix));
      const auto pair = hn::BitCast(du, hn::GatherOffset(di, base, offset));
      const auto left = hn::ConvertTo(d, hn::BitCast(di, hn::And(pair, low))),
                 right = hn::ConvertTo(d, hn::BitCast(di, hn::ShiftRight<16>(pair)));
      return hn::MulAdd(fx, hn::Sub(right, left), left);
    };
    const auto upper = row(iy), lower = row(hn::Add(iy, one));
    hn::Store(hn::MulAdd(fy, hn::Sub(lower, upper), upper), d, samples + i);
  }
}

// Size of the gradients of a row of samples from `at` on, and their directions in parts of a turn.
HWY_INLINE void gradients(const float* at, int parts, V& magnitude, V& direction) {
  const D d;
  const auto gx = hn::Sub(hn::LoadU(d, at + 1), hn::LoadU(d, at - 1)),
             gy = hn::Sub(hn::LoadU(d, at + kGrid), hn::LoadU(d, at - kGrid));
  magnitude = hn::Sqrt(hn::MulAdd(gx, gx, hn::Mul(gy, gy)));
  direction = angle_of(gy, gx, static_cast<float>(parts));
}

int orientations(const LayerView& layer, float x, float y, float sigma, float* angles) {
  const D d;
  const Tables& t = tables();
  const int lanes = static_cast<int>(hn::Lanes(d));
  alignas(64) float samples[kPadded];
  sample_grid(layer, x, y, sigma * kOrientationSpacing, 0, samples);
  // Two histograms in turns: neighbours often fall into the same bin, and would wait for each other.
  float histogram[2][kBins + 2] = {};
  for (int r = 0; r < kSide; ++r) {
    alignas(64) float weight[kSide], bin[kSide];
    for (int i = 0; i < kSide; i += lanes) {
      V magnitude, direction;
      gradients(samples + (r + 1) * kGrid + i + 1, kBins, magnitude, direction);
      hn::Store(hn::Mul(magnitude, hn::Load(d, t.window[r] + i)), d, weight + i);
      hn::Store(direction, d, bin + i);
    }
    for (int i = t.first[r]; i < kSide - t.first[r]; ++i) {
      const int b = static_cast<int>(bin[i]);
      const float share = weight[i] * (bin[i] - static_cast<float>(b));
      histogram[i % 2][b] += weight[i] - share;
      histogram[i % 2][b + 1] += share;
    }
  }
  for (int b = 0; b < kBins + 2; ++b) histogram[0][b] += histogram[1][b];
  histogram[0][0] += histogram[0][kBins];
  histogram[0][1] += histogram[0][kBins + 1];
  return peaks(histogram[0], angles);
}

// Sums of the lanes of four vectors, in the lanes of one of four.
HWY_INLINE hn::Vec<hn::CappedTag<float, 4>> sums_of_lanes(V a, V b, V c, V e) {
  const D d;
  const hn::RepartitionToWide<D> d2;
  const auto halves = [&](V p, V q) {
    return hn::Add(hn::InterleaveLower(d, p, q), hn::InterleaveUpper(d, p, q));
  };  // p q p q within 128 bits
  const auto ab = hn::BitCast(d2, halves(a, b)), ce = hn::BitCast(d2, halves(c, e));
  const auto all =
      hn::Add(hn::BitCast(d, hn::InterleaveLower(d2, ab, ce)), hn::BitCast(d, hn::InterleaveUpper(d2, ab, ce)));
  alignas(64) float parts[16];
  hn::Store(all, d, parts);
  const hn::CappedTag<float, 4> d4;
  auto sum = hn::Load(d4, parts);
  for (int i = 4; i < static_cast<int>(hn::Lanes(d)); i += 4) sum = hn::Add(sum, hn::Load(d4, parts + i));
  return sum;
}

void describe(const LayerView& layer, float x, float y, float sigma, float angle, std::uint8_t* out) {
  const D d;
  const hn::CappedTag<float, 4> d4;
  const Tables& t = tables();
  const int lanes = static_cast<int>(hn::Lanes(d));
  const auto zero = hn::Zero(d);
  alignas(64) float samples[kPadded];
  sample_grid(layer, x, y, sigma * kSpacing * std::cos(angle), sigma * kSpacing * std::sin(angle), samples);
  // Cells of a row at a time: gradients in the keypoint's own frame, shared between the two nearest directions.
  alignas(64) float sums[kCells][kDirections][kSide] = {};
  for (int r = 0; r < kSide; ++r) {
    int first = 0;
    while (t.rows[r][first] == 0) ++first;
    const bool two = first + 1 < kCells && t.rows[r][first + 1] > 0;
    const auto weight0 = hn::Set(d, t.rows[r][first]), weight1 = hn::Set(d, two ? t.rows[r][first + 1] : 0.0f);
    for (int i = 0; i < kSide; i += lanes) {
      V magnitude, direction;
      gradients(samples + (r + 1) * kGrid + i + 1, kDirections, magnitude, direction);
      const auto half_turn = hn::Set(d, 0.5f * kDirections), near = hn::Set(d, 0.5f * kDirections - 1);
      const auto m0 = hn::Mul(magnitude, weight0), m1 = hn::Mul(magnitude, weight1);
      for (int k = 0; k < kDirections; ++k) {
        // One minus the distance around the circle.
        const auto share = hn::Max(
            hn::Sub(hn::Abs(hn::Sub(hn::Abs(hn::Sub(direction, hn::Set(d, static_cast<float>(k)))), half_turn)), near),
            zero);
        float* to = sums[first][k] + i;
        hn::Store(hn::MulAdd(share, m0, hn::Load(d, to)), d, to);
        if (two) {
          float* other = sums[first + 1][k] + i;
          hn::Store(hn::MulAdd(share, m1, hn::Load(d, other)), d, other);
        }
      }
    }
  }
  alignas(64) float values[kDescriptorSize];
  for (int r = 0; r < kCells; ++r)
    for (int q = 0; q < kCells; ++q)
      for (int k = 0; k < kDirections; k += 4) {
        V part[4];
        for (int j = 0; j < 4; ++j) {
          part[j] = zero;
          for (int i = 0; i < kSide; i += lanes)
            part[j] = hn::MulAdd(hn::Load(d, t.columns[q] + i), hn::Load(d, sums[r][k + j] + i), part[j]);
        }
        hn::Store(sums_of_lanes(part[0], part[1], part[2], part[3]), d4, values + (r * kCells + q) * kDirections + k);
      }
  // As to_bytes, in vectors.
  auto squares = zero;
  for (int i = 0; i < kDescriptorSize; i += lanes)
    squares = hn::MulAdd(hn::Load(d, values + i), hn::Load(d, values + i), squares);
  const auto cap = hn::Set(d, kCap * std::sqrt(hn::GetLane(hn::SumOfLanes(d, squares))));
  auto total = zero;
  for (int i = 0; i < kDescriptorSize; i += lanes) {
    const auto capped = hn::Min(hn::Load(d, values + i), cap);
    hn::Store(capped, d, values + i);
    total = hn::Add(total, capped);
  }
  const auto scale = hn::Set(d, 1 / (kAlmostNothing + hn::GetLane(hn::SumOfLanes(d, total))));
  const hn::Rebind<std::uint8_t, D> d8;
  for (int i = 0; i < kDescriptorSize; i += lanes) {
    const auto root =
        hn::MulAdd(hn::Set(d, kByteScale), hn::Sqrt(hn::Mul(hn::Load(d, values + i), scale)), hn::Set(d, 0.5f));
    hn::StoreU(hn::DemoteTo(d8, hn::ConvertTo(hn::RebindToSigned<D>(), hn::Min(root, hn::Set(d, 127.0f)))), d8,
               out + i);
  }
}

DescribeKernels describe_kernels_here() {
  return {&orientations, &describe};
}

}  // namespace HWY_NAMESPACE
}  // namespace icefield
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace icefield {

HWY_EXPORT(describe_kernels_here);

DescribeKernels best_describe_kernels() {
  return HWY_DYNAMIC_DISPATCH(describe_kernels_here)();
}

DescribeKernels plain_describe_kernels() {
  using namespace describing;
  // The value at a place of a grid turned by an angle.
  static const auto value = [](const LayerView& l, float x, float y, double step, double angle, int column, int row) {
    const auto pixel = [&](int px, int py) {
      return static_cast<double>(l.base[static_cast<std::size_t>(py & l.mask) * static_cast<std::size_t>(l.stride) +
                                        static_cast<std::size_t>(px)]);
    };
    const double u = (column - 0.5 * (kSide - 1)) * step, v = (row - 0.5 * (kSide - 1)) * step;
    const double px = std::clamp(std::cos(angle) * u - std::sin(angle) * v + x, 0.0, l.width - 1.001),
                 py = std::clamp(std::sin(angle) * u + std::cos(angle) * v + y, 0.0, l.height - 1.001);
    const int ix = static_cast<int>(px), iy = static_cast<int>(py);
    const double fx = px - ix, fy = py - iy;
    return (1 - fy) * ((1 - fx) * pixel(ix, iy) + fx * pixel(ix + 1, iy)) +
           fy * ((1 - fx) * pixel(ix, iy + 1) + fx * pixel(ix + 1, iy + 1));
  };
  // Calls visit(row, column, size, direction in parts of a turn) for the gradients of the grid.
  static const auto each_gradient = [](const LayerView& l, float x, float y, double step, double angle, int parts,
                                       const auto& visit) {
    for (int r = 0; r < kSide; ++r)
      for (int c = 0; c < kSide; ++c) {
        const double gx = value(l, x, y, step, angle, c + 1, r) - value(l, x, y, step, angle, c - 1, r),
                     gy = value(l, x, y, step, angle, c, r + 1) - value(l, x, y, step, angle, c, r - 1);
        const double direction = std::atan2(gy, gx) * parts / (2 * std::numbers::pi);
        visit(r, c, std::hypot(gx, gy), direction < 0 ? direction + parts : direction);
      }
  };
  DescribeKernels kernels;
  kernels.orientations = [](const LayerView& l, float x, float y, float sigma, float* angles) {
    float histogram[kBins] = {};
    each_gradient(l, x, y, sigma * kOrientationSpacing, 0, kBins, [&](int r, int c, double magnitude, double bin) {
      const int b = static_cast<int>(bin);
      const double weight = magnitude * tables().window[r][c];
      histogram[b % kBins] += static_cast<float>(weight * (1 - (bin - b)));
      histogram[(b + 1) % kBins] += static_cast<float>(weight * (bin - b));
    });
    return peaks(histogram, angles);
  };
  kernels.describe = [](const LayerView& l, float x, float y, float sigma, float angle, std::uint8_t* out) {
    float values[kDescriptorSize] = {};
    each_gradient(l, x, y, sigma * kSpacing, angle, kDirections, [&](int r, int c, double magnitude, double direction) {
      const int d0 = static_cast<int>(direction);
      const double share = direction - d0;
      for (int cy = 0; cy < kCells; ++cy)
        for (int cx = 0; cx < kCells; ++cx) {
          const double w = static_cast<double>(tables().rows[r][cy]) * tables().columns[cx][c] * magnitude;
          values[(cy * kCells + cx) * kDirections + d0 % kDirections] += static_cast<float>(w * (1 - share));
          values[(cy * kCells + cx) * kDirections + (d0 + 1) % kDirections] += static_cast<float>(w * share);
        }
    });
    to_bytes(values, out);
  };
  return kernels;
}

}  // namespace icefield
#endif
