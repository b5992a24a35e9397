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

using F = hn::CappedTag<float, 16>;
using I = hn::RebindToSigned<F>;

void reference_patch(const PatchShape& shape, const QuadImage& image, int x, int y, PatchReference& patch) {
  const F d;
  const I di;
  const auto byte = hn::Set(di, 255);
  const auto* base = reinterpret_cast<const std::int32_t*>(image.quads.data()) + static_cast<std::ptrdiff_t>(y) * image.width + x;
  const bool whole = x >= shape.radius && y >= shape.radius && x + shape.radius < image.width && y + shape.radius < image.height;
  alignas(64) std::int32_t border[kMaxPatchSamples];
  if (!whole)
    for (int i = 0; i < shape.padded; ++i)
      border[i] = (std::clamp(y + shape.dy[i], 0, image.height - 1) - y) * image.width + std::clamp(x + shape.dx[i], 0, image.width - 1) - x;
  const std::int32_t* const steps = whole ? shape.step : border;
  const auto middle = hn::Set(di, *base & 255);
  alignas(64) float value[kMaxPatchSamples];
  auto sum = hn::Zero(d), mean = hn::Zero(d);
  for (int i = 0; i < shape.padded; i += static_cast<int>(hn::Lanes(d))) {
    const auto grey = hn::And(hn::GatherIndex(di, base, hn::Load(di, steps + i)), byte);
    const auto like = hn::GatherIndex(d, shape.likeness, hn::Abs(hn::Sub(grey, middle)));
    const auto weight = hn::Mul(hn::Load(d, shape.nearness + i), like), v = hn::ConvertTo(d, grey);
    hn::Store(weight, d, patch.weight + i);
    hn::Store(v, d, value + i);
    sum = hn::Add(sum, weight);
    mean = hn::MulAdd(weight, v, mean);
  }
  const float scale = 1 / hn::GetLane(hn::SumOfLanes(d, sum));
  const auto factor = hn::Set(d, scale), centre = hn::Set(d, hn::GetLane(hn::SumOfLanes(d, mean)) * scale);
  auto variance = hn::Zero(d);
  for (int i = 0; i < shape.padded; i += static_cast<int>(hn::Lanes(d))) {
    const auto weight = hn::Mul(hn::Load(d, patch.weight + i), factor), off = hn::Sub(hn::Load(d, value + i), centre), centred = hn::Mul(weight, off);
    hn::Store(weight, d, patch.weight + i);
    hn::Store(centred, d, patch.centred + i);
    variance = hn::MulAdd(centred, off, variance);
  }
  patch.variance = hn::GetLane(hn::SumOfLanes(d, variance));
}

void turn_pixel(const ViewRow& views, float direction_x, float direction_y, PlaneWarps& warps) {
  const F d;
  const auto x = hn::Set(d, direction_x), y = hn::Set(d, direction_y);
  for (int v = 0; v < views.count; v += static_cast<int>(hn::Lanes(d)))
    for (int r = 0; r < 3; ++r)
      hn::Store(hn::MulAdd(hn::Load(d, views.turn[3 * r] + v), x, hn::MulAdd(hn::Load(d, views.turn[3 * r + 1] + v), y, hn::Load(d, views.turn[3 * r + 2] + v))), d, warps.turned[r] + v);
}

// The plane's homography, H = K (R + t n^T / d) K_ref^-1, at the middle of the patch, and its derivatives.
void warp_plane(const ViewRow& views, float inverse, float slant_x, float slant_y, float reach, PlaneWarps& warps) {
  const F d;
  const I di;
  const auto depth = hn::Set(d, inverse), sx = hn::Set(d, slant_x), sy = hn::Set(d, slant_y), far = hn::Set(d, reach), least = hn::Set(d, 0.5f);
  for (int v = 0; v < views.count; v += static_cast<int>(hn::Lanes(d))) {
    const auto shift_x = hn::Load(d, views.shift[0] + v), shift_y = hn::Load(d, views.shift[1] + v), shift_z = hn::Load(d, views.shift[2] + v);
    const auto pz = hn::MulAdd(shift_z, depth, hn::Load(d, warps.turned[2] + v));
    const auto inv = hn::Div(hn::Set(d, 1.0f), pz);
    const auto x = hn::Mul(hn::MulAdd(shift_x, depth, hn::Load(d, warps.turned[0] + v)), inv);
    const auto y = hn::Mul(hn::MulAdd(shift_y, depth, hn::Load(d, warps.turned[1] + v)), inv);
    const auto zx = hn::MulAdd(shift_z, sx, hn::Load(d, views.turn_x[2] + v)), zy = hn::MulAdd(shift_z, sy, hn::Load(d, views.turn_y[2] + v));
    const auto xx = hn::Mul(hn::NegMulAdd(x, zx, hn::MulAdd(shift_x, sx, hn::Load(d, views.turn_x[0] + v))), inv);
    const auto xy = hn::Mul(hn::NegMulAdd(x, zy, hn::MulAdd(shift_x, sy, hn::Load(d, views.turn_y[0] + v))), inv);
    const auto yx = hn::Mul(hn::NegMulAdd(y, zx, hn::MulAdd(shift_y, sx, hn::Load(d, views.turn_x[1] + v))), inv);
    const auto yy = hn::Mul(hn::NegMulAdd(y, zy, hn::MulAdd(shift_y, sy, hn::Load(d, views.turn_y[1] + v))), inv);
    hn::StoreU(x, d, warps.x + v), hn::StoreU(y, d, warps.y + v);
    hn::StoreU(xx, d, warps.xx + v), hn::StoreU(xy, d, warps.xy + v), hn::StoreU(yx, d, warps.yx + v), hn::StoreU(yy, d, warps.yy + v);
    const auto rx = hn::Mul(far, hn::Add(hn::Abs(xx), hn::Abs(xy))), ry = hn::Mul(far, hn::Add(hn::Abs(yx), hn::Abs(yy)));
    const auto inside = hn::And(hn::And(hn::And(hn::Ge(hn::Sub(x, rx), least), hn::Ge(hn::Sub(y, ry), least)), hn::Gt(pz, hn::Zero(d))),
                                hn::And(hn::Le(hn::Add(x, rx), hn::Load(d, views.right + v)), hn::Le(hn::Add(y, ry), hn::Load(d, views.bottom + v))));
    hn::Store(hn::IfThenElse(hn::RebindMask(di, inside), hn::Iota(di, v), hn::Set(di, kMaxViews)), di, warps.slot + v);
  }
}

void patch_costs(const PatchReference& ref, const ViewRow& views, const PlaneWarps& warps, const std::uint8_t* which, int count, float* costs) {
  const F d;
  const I di;
  const hn::RebindToUnsigned<F> du;
  const auto byte = hn::Set(di, 255);
  alignas(64) float means[kMaxViews], squares[kMaxViews], products[kMaxViews];
  for (int k = 0; k < count; ++k) {
    const QuadImage& view = *views.images[which[k]];
    const auto at = static_cast<std::size_t>(warps.slot[which[k]]);
    const auto stride = hn::Set(di, view.width);
    const auto xx = hn::Set(d, warps.xx[at]), xy = hn::Set(d, warps.xy[at]), yx = hn::Set(d, warps.yx[at]), yy = hn::Set(d, warps.yy[at]);
    const auto x0 = hn::Set(d, warps.x[at]), y0 = hn::Set(d, warps.y[at]);
    const auto* base = reinterpret_cast<const std::int32_t*>(view.quads.data());
    auto sum = hn::Zero(d), sum2 = hn::Zero(d), product = hn::Zero(d);
    for (int i = 0; i < ref.samples; i += static_cast<int>(hn::Lanes(d))) {
      const auto dx = hn::Load(d, ref.offset_x + i), dy = hn::Load(d, ref.offset_y + i);
      const auto x = hn::MulAdd(xx, dx, hn::MulAdd(xy, dy, x0)), y = hn::MulAdd(yx, dx, hn::MulAdd(yy, dy, y0));
      const auto ix = hn::ConvertTo(di, x), iy = hn::ConvertTo(di, y);   // towards 0, and all are above it
      const auto fx = hn::Sub(x, hn::ConvertTo(d, ix)), fy = hn::Sub(y, hn::ConvertTo(d, iy));
      const auto quad = hn::GatherIndex(di, base, hn::Add(hn::Mul(iy, stride), ix));
      const auto a = hn::ConvertTo(d, hn::And(quad, byte));
      const auto b = hn::ConvertTo(d, hn::And(hn::ShiftRight<8>(quad), byte));
      const auto c = hn::ConvertTo(d, hn::And(hn::ShiftRight<16>(quad), byte));
      const auto e = hn::ConvertTo(d, hn::BitCast(di, hn::ShiftRight<24>(hn::BitCast(du, quad))));
      const auto top = hn::MulAdd(fx, hn::Sub(b, a), a), bottom = hn::MulAdd(fx, hn::Sub(e, c), c);
      const auto value = hn::MulAdd(fy, hn::Sub(bottom, top), top);
      const auto weighted = hn::Mul(hn::Load(d, ref.weight + i), value);
      sum = hn::Add(sum, weighted);
      sum2 = hn::MulAdd(weighted, value, sum2);
      product = hn::MulAdd(hn::Load(d, ref.centred + i), value, product);
    }
    means[k] = hn::GetLane(hn::SumOfLanes(d, sum));
    squares[k] = hn::GetLane(hn::SumOfLanes(d, sum2));
    products[k] = hn::GetLane(hn::SumOfLanes(d, product));
  }
  for (int k = 0; k < count; ++k) {
    const float variance = squares[k] - means[k] * means[k];
    const bool sound = variance > 1.0f && ref.variance > 1.0f && warps.slot[which[k]] != kMaxViews;
    costs[k] = sound ? 1.0f - products[k] / std::sqrt(variance * ref.variance) : 2.0f;
  }
}

std::int32_t gather_sixteen(const std::int32_t* base, const std::int32_t* offsets) {
  const I di;
  auto sum = hn::Zero(di);
  for (int i = 0; i < 16; i += static_cast<int>(hn::Lanes(di))) sum = hn::Add(sum, hn::And(hn::GatherIndex(di, base, hn::Load(di, offsets + i)), hn::Set(di, 255)));
  return hn::GetLane(hn::SumOfLanes(di, sum));
}

DenseKernel dense_kernel_here() { return {reference_patch, turn_pixel, warp_plane, patch_costs, gather_sixteen}; }

}  // namespace HWY_NAMESPACE
}  // namespace icefield
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace icefield {

HWY_EXPORT(dense_kernel_here);

DenseKernel best_dense_kernel() { return HWY_DYNAMIC_DISPATCH(dense_kernel_here)(); }

DenseKernel plain_dense_kernel() {
  DenseKernel kernel;
  kernel.reference = [](const PatchShape& shape, const QuadImage& image, int x, int y, PatchReference& patch) {
    const auto grey = [&](int i) {
      return static_cast<int>(image.quads[static_cast<std::size_t>(std::clamp(y + shape.dy[static_cast<std::size_t>(i)], 0, image.height - 1)) * static_cast<std::size_t>(image.width) +
                                          static_cast<std::size_t>(std::clamp(x + shape.dx[static_cast<std::size_t>(i)], 0, image.width - 1))] & 255);
    };
    const int middle = static_cast<int>(image.quads[static_cast<std::size_t>(y) * static_cast<std::size_t>(image.width) + static_cast<std::size_t>(x)] & 255);
    double sum = 0, mean = 0, variance = 0;
    for (int i = 0; i < shape.padded; ++i) {
      patch.weight[i] = i < shape.samples ? shape.nearness[i] * shape.likeness[std::abs(grey(i) - middle)] : 0;
      sum += patch.weight[i], mean += patch.weight[i] * static_cast<double>(grey(i));
    }
    mean /= sum;
    for (int i = 0; i < shape.padded; ++i) {
      patch.weight[i] = static_cast<float>(patch.weight[i] / sum);
      patch.centred[i] = static_cast<float>(patch.weight[i] * (grey(i) - mean));
      variance += patch.centred[i] * (grey(i) - mean);
    }
    patch.variance = static_cast<float>(variance);
  };
  kernel.turn = [](const ViewRow& views, float direction_x, float direction_y, PlaneWarps& warps) {
    for (int v = 0; v < views.count; ++v)
      for (int r = 0; r < 3; ++r) warps.turned[r][v] = views.turn[3 * r][v] * direction_x + views.turn[3 * r + 1][v] * direction_y + views.turn[3 * r + 2][v];
  };
  kernel.warp = [](const ViewRow& views, float inverse, float slant_x, float slant_y, float reach, PlaneWarps& warps) {
    for (int v = 0; v < views.count; ++v) {
      float p[3], px[3], py[3];
      for (int r = 0; r < 3; ++r) {
        p[r] = warps.turned[r][v] + views.shift[r][v] * inverse;
        px[r] = views.turn_x[r][v] + views.shift[r][v] * slant_x;
        py[r] = views.turn_y[r][v] + views.shift[r][v] * slant_y;
      }
      const PatchWarp w{p[0] / p[2], p[1] / p[2], (px[0] - p[0] / p[2] * px[2]) / p[2], (py[0] - p[0] / p[2] * py[2]) / p[2], (px[1] - p[1] / p[2] * px[2]) / p[2], (py[1] - p[1] / p[2] * py[2]) / p[2]};
      warps.x[v] = w.x, warps.y[v] = w.y, warps.xx[v] = w.xx, warps.xy[v] = w.xy, warps.yx[v] = w.yx, warps.yy[v] = w.yy;
      warps.slot[v] = p[2] > 0 && warp_inside(w, reach, views.images[static_cast<std::size_t>(v)]->width, views.images[static_cast<std::size_t>(v)]->height) ? v : kMaxViews;
    }
  };
  kernel.costs = [](const PatchReference& patch, const ViewRow& views, const PlaneWarps& warps, const std::uint8_t* which, int count, float* costs) {
    for (int k = 0; k < count; ++k) {
      const std::uint8_t v = which[k];
      costs[k] = warps.slot[v] == kMaxViews ? 2.0f : patch_cost_plain(patch, *views.images[v], {warps.x[v], warps.y[v], warps.xx[v], warps.xy[v], warps.yx[v], warps.yy[v]});
    }
  };
  kernel.gather = [](const std::int32_t* base, const std::int32_t* offsets) {
    std::int32_t sum = 0;
    for (int i = 0; i < 16; ++i) sum += base[offsets[i]] & 255;
    return sum;
  };
  return kernel;
}

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
