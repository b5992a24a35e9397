#include "src/dense/patch_kernel.h"

#include <algorithm>
#include <cmath>

#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "src/dense/patch_kernel.cc"
#include <hwy/foreach_target.h>  // compiles the part below once for each instruction set
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace icefield {
namespace HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

float correlation_cost(const PatchReference& ref, const QuadImage& view, const PatchWarp& warp) {
  if (!warp_inside(warp, ref.reach, view.width, view.height)) return 2.0f;
  const hn::CappedTag<float, 16> d;
  const hn::RebindToSigned<decltype(d)> di;
  const auto half = hn::Set(d, 0.5f), magic = hn::Set(d, 8388608.0f);  // 2^23: adding it rounds to whole numbers
  const auto mantissa = hn::Set(di, 0x7fffff), byte = hn::Set(di, 255), stride = hn::Set(di, view.width);
  const auto xx = hn::Set(d, warp.xx), xy = hn::Set(d, warp.xy), yx = hn::Set(d, warp.yx), yy = hn::Set(d, warp.yy);
  const auto x0 = hn::Set(d, warp.x), y0 = hn::Set(d, warp.y);
  const auto* base = reinterpret_cast<const std::int32_t*>(view.quads.data());
  auto sum = hn::Zero(d), sum2 = hn::Zero(d), product = hn::Zero(d);
  for (int i = 0; i < ref.samples; i += static_cast<int>(hn::Lanes(d))) {
    const auto dx = hn::Load(d, ref.offset_x + i), dy = hn::Load(d, ref.offset_y + i);
    const auto x = hn::MulAdd(xx, dx, hn::MulAdd(xy, dy, x0)), y = hn::MulAdd(yx, dx, hn::MulAdd(yy, dy, y0));
    // Whole part by rounding x - 1/2; a fraction of exactly 1 may come out, which interpolates to the same value.
    const auto whole_x = hn::Add(hn::Sub(x, half), magic), whole_y = hn::Add(hn::Sub(y, half), magic);
    const auto fx = hn::Sub(x, hn::Sub(whole_x, magic)), fy = hn::Sub(y, hn::Sub(whole_y, magic));
    const auto ix = hn::And(hn::BitCast(di, whole_x), mantissa), iy = hn::And(hn::BitCast(di, whole_y), mantissa);
    const auto quad = hn::GatherIndex(di, base, hn::Add(hn::Mul(iy, stride), ix));
    const auto a = hn::ConvertTo(d, hn::And(quad, byte));
    const auto b = hn::ConvertTo(d, hn::And(hn::ShiftRight<8>(quad), byte));
    const auto c = hn::ConvertTo(d, hn::And(hn::ShiftRight<16>(quad), byte));
    const auto e = hn::ConvertTo(d, hn::And(hn::ShiftRight<24>(quad), byte));
    const auto top = hn::MulAdd(fx, hn::Sub(b, a), a), bottom = hn::MulAdd(fx, hn::Sub(e, c), c);
    const auto value = hn::MulAdd(fy, hn::Sub(bottom, top), top);
    const auto weighted = hn::Mul(hn::Load(d, ref.weight + i), value);
    sum = hn::Add(sum, weighted);
    sum2 = hn::MulAdd(weighted, value, sum2);
    product = hn::MulAdd(hn::Load(d, ref.centred + i), value, product);
  }
  const float mean = hn::GetLane(hn::SumOfLanes(d, sum));
  const float variance = hn::GetLane(hn::SumOfLanes(d, sum2)) - mean * mean;
  const float covariance = hn::GetLane(hn::SumOfLanes(d, product));
  if (!(variance > 1.0f && ref.variance > 1.0f)) return 2.0f;
  return 1.0f - covariance / std::sqrt(variance * ref.variance);
}

PatchCost patch_cost_here() { return &correlation_cost; }

}  // namespace HWY_NAMESPACE
}  // namespace icefield
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace icefield {

HWY_EXPORT(patch_cost_here);

PatchCost best_patch_cost() { return HWY_DYNAMIC_DISPATCH(patch_cost_here)(); }

QuadImage::QuadImage(const ImageU8& grey) : width(grey.width()), height(grey.height()), quads(grey.pixels()) {
  for (int y = 0; y < height; ++y) {
    const std::uint8_t *row = grey.row(y), *next = grey.row(std::min(y + 1, height - 1));
    for (int x = 0; x < width; ++x) {
      const int x1 = std::min(x + 1, width - 1);
      quads[static_cast<std::size_t>(y) * width + x] = static_cast<std::uint32_t>(row[x]) | static_cast<std::uint32_t>(row[x1]) << 8 |
                                                       static_cast<std::uint32_t>(next[x]) << 16 | static_cast<std::uint32_t>(next[x1]) << 24;
    }
  }
}

float patch_cost_plain(const PatchReference& ref, const QuadImage& view, const PatchWarp& warp) {
  if (!warp_inside(warp, ref.reach, view.width, view.height)) return 2;
  double sum = 0, sum2 = 0, product = 0;
  for (int i = 0; i < ref.samples; ++i) {
    const float x = warp.xx * ref.offset_x[i] + warp.xy * ref.offset_y[i] + warp.x, y = warp.yx * ref.offset_x[i] + warp.yy * ref.offset_y[i] + warp.y;
    const int ix = static_cast<int>(x), iy = static_cast<int>(y);
    const float fx = x - static_cast<float>(ix), fy = y - static_cast<float>(iy);
    const std::uint32_t q = view.quads[static_cast<std::size_t>(iy) * view.width + ix];
    const float top = static_cast<float>(q & 255) * (1 - fx) + static_cast<float>(q >> 8 & 255) * fx;
    const float bottom = static_cast<float>(q >> 16 & 255) * (1 - fx) + static_cast<float>(q >> 24) * fx;
    const double value = top * (1 - fy) + bottom * fy;
    sum += ref.weight[i] * value;
    sum2 += ref.weight[i] * value * value;
    product += ref.centred[i] * value;
  }
  const double variance = sum2 - sum * sum;
  return variance > 1 && ref.variance > 1 ? static_cast<float>(1 - product / std::sqrt(variance * ref.variance)) : 2.0f;
}

}  // namespace icefield
#endif
