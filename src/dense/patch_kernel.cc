#include "src/dense/patch_kernel.h"

#include <algorithm>
#include <cmath>
#include <limits>

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
  const auto* base =
      reinterpret_cast<const std::int32_t*>(image.quads.data()) + static_cast<std::ptrdiff_t>(y) * image.width + x;
  const bool whole =
      x >= shape.radius && y >= shape.radius && x + shape.radius < image.width && y + shape.radius < image.height;
  alignas(64) std::int32_t border[kMaxPatchSamples];
  if (!whole)
    for (int i = 0; i < shape.padded; ++i)
      border[i] = (std::clamp(y + shape.dy[i], 0, image.height - 1) - y) * image.width +
                  std::clamp(x + shape.dx[i], 0, image.width - 1) - x;
  const std::int32_t* const steps = whole ? shape.step : border;
  const auto sign = hn::Set(di, 128), middle = hn::Set(di, (*base & 255) ^ 128);
  alignas(64) float value[kMaxPatchSamples];
  auto sum = hn::Zero(d), mean = hn::Zero(d);
  for (int i = 0; i < shape.padded; i += static_cast<int>(hn::Lanes(d))) {
    const auto grey = hn::Xor(hn::And(hn::GatherIndex(di, base, hn::Load(di, steps + i)), byte), sign);
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
    const auto weight = hn::Mul(hn::Load(d, patch.weight + i), factor), off = hn::Sub(hn::Load(d, value + i), centre),
               centred = hn::Mul(weight, off);
    hn::Store(weight, d, patch.weight + i);
    hn::Store(centred, d, patch.centred + i);
    variance = hn::MulAdd(centred, off, variance);
  }
  patch.variance = hn::GetLane(hn::SumOfLanes(d, variance));
}

void turn_pixel(const ViewRow& views, float direction_x, float direction_y, PixelTurns& turns) {
  const F d;
  const auto x = hn::Set(d, direction_x), y = hn::Set(d, direction_y);
  for (int v = 0; v < views.count; v += static_cast<int>(hn::Lanes(d)))
    for (int r = 0; r < 3; ++r)
      hn::Store(
          hn::MulAdd(hn::Load(d, views.turn[3 * r] + v), x,
                     hn::MulAdd(hn::Load(d, views.turn[3 * r + 1] + v), y, hn::Load(d, views.turn[3 * r + 2] + v))),
          d, turns.turned[r] + v);
}

alignas(64) constexpr std::int32_t kNumbers[kMaxWarps] = {0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15};

// Warps from `at` on of the plane's homography, H = K (R + t n^T / d) K_ref^-1, at the middle of the patch, and its
// derivatives. `view` takes an array of the views, `plane` one of the planes, to the values of these warps.
template <class View, class Plane>
HWY_INLINE void warp_some(const ViewRow& views, const PixelTurns& turns, const PlaneList& planes, const View& view,
                          const Plane& plane, float reach, int at, PlaneWarps& warps) {
  const F d;
  const I di;
  const auto depth = plane(planes.inverse), sx = plane(planes.slant_x), sy = plane(planes.slant_y),
             far = hn::Set(d, reach), least = hn::Set(d, 0.5f);
  const auto shift_x = view(views.shift[0]), shift_y = view(views.shift[1]), shift_z = view(views.shift[2]);
  const auto pz = hn::MulAdd(shift_z, depth, view(turns.turned[2]));
  const auto inv = hn::Div(hn::Set(d, 1.0f), pz);
  const auto x = hn::Mul(hn::MulAdd(shift_x, depth, view(turns.turned[0])), inv);
  const auto y = hn::Mul(hn::MulAdd(shift_y, depth, view(turns.turned[1])), inv);
  const auto zx = hn::MulAdd(shift_z, sx, view(views.turn_x[2])), zy = hn::MulAdd(shift_z, sy, view(views.turn_y[2]));
  const auto xx = hn::Mul(hn::NegMulAdd(x, zx, hn::MulAdd(shift_x, sx, view(views.turn_x[0]))), inv);
  const auto xy = hn::Mul(hn::NegMulAdd(x, zy, hn::MulAdd(shift_x, sy, view(views.turn_y[0]))), inv);
  const auto yx = hn::Mul(hn::NegMulAdd(y, zx, hn::MulAdd(shift_y, sx, view(views.turn_x[1]))), inv);
  const auto yy = hn::Mul(hn::NegMulAdd(y, zy, hn::MulAdd(shift_y, sy, view(views.turn_y[1]))), inv);
  hn::StoreU(x, d, warps.x + at), hn::StoreU(y, d, warps.y + at);
  hn::StoreU(xx, d, warps.xx + at), hn::StoreU(xy, d, warps.xy + at), hn::StoreU(yx, d, warps.yx + at),
      hn::StoreU(yy, d, warps.yy + at);
  const auto rx = hn::Mul(far, hn::Add(hn::Abs(xx), hn::Abs(xy))), ry = hn::Mul(far, hn::Add(hn::Abs(yx), hn::Abs(yy)));
  const auto inside =
      hn::And(hn::And(hn::And(hn::Ge(hn::Sub(x, rx), least), hn::Ge(hn::Sub(y, ry), least)), hn::Gt(pz, hn::Zero(d))),
              hn::And(hn::Le(hn::Add(x, rx), view(views.right)), hn::Le(hn::Add(y, ry), view(views.bottom))));
  hn::Store(hn::IfThenElse(hn::RebindMask(di, inside), hn::Load(di, kNumbers + at), hn::Set(di, kMaxWarps)), di,
            warps.slot + at);
}

void warp_in_views(const ViewRow& views, const PixelTurns& turns, const PlaneList& planes, float reach,
                   PlaneWarps& warps) {
  const F d;
  for (int v = 0; v < views.count; v += static_cast<int>(hn::Lanes(d)))
    warp_some(
        views, turns, planes, [&](const float* of) HWY_ATTR { return hn::Load(d, of + v); },
        [&](const float* of) HWY_ATTR { return hn::Set(d, *of); }, reach, v, warps);
}

void warp_planes(const ViewRow& views, const PixelTurns& turns, int view, const PlaneList& planes, int count,
                 float reach, PlaneWarps& warps) {
  const F d;
  for (int k = 0; k < count; k += static_cast<int>(hn::Lanes(d)))
    warp_some(
        views, turns, planes, [&](const float* of) HWY_ATTR { return hn::Set(d, of[view]); },
        [&](const float* of) HWY_ATTR { return hn::Load(d, of + k); }, reach, k, warps);
}

template <class D, class V>
HWY_INLINE auto fold([[maybe_unused]] D d, V v) {
  if constexpr (hn::MaxLanes(D()) <= 4)
    return v;
  else {
    const hn::Half<D> half;
    return fold(half, hn::Add(hn::LowerHalf(half, v), hn::UpperHalf(half, v)));
  }
}

// The sums over the lanes of four vectors, side by side.
template <class V>
HWY_INLINE auto four_sums(V a, V b, V c, V e) {
  const F d;
  const hn::RepartitionToWide<F> wide;
  const auto ab = hn::BitCast(wide, hn::Add(hn::InterleaveLower(d, a, b), hn::InterleaveUpper(d, a, b)));
  const auto ce = hn::BitCast(wide, hn::Add(hn::InterleaveLower(d, c, e), hn::InterleaveUpper(d, c, e)));
  return fold(
      d, hn::Add(hn::BitCast(d, hn::InterleaveLower(wide, ab, ce)), hn::BitCast(d, hn::InterleaveUpper(wide, ab, ce))));
}

// What Highway 1.0 has not: bytes times signed bytes, the sums of neighbours in words; words times words, the sums of
// neighbours; floats cut to integers without care for those that fit none.
#if HWY_TARGET <= HWY_AVX3
HWY_INLINE hn::Vec512<std::int32_t> add_bytes(hn::Vec512<std::int32_t> weights, hn::Vec512<std::int32_t> bytes) {
  return {_mm512_maddubs_epi16(weights.raw, bytes.raw)};
}
HWY_INLINE hn::Vec512<std::int32_t> add_words(hn::Vec512<std::int32_t> weights, hn::Vec512<std::int32_t> words) {
  return {_mm512_madd_epi16(weights.raw, words.raw)};
}
HWY_INLINE hn::Vec512<std::int32_t> cut(hn::Vec512<float> v) {
  return hn::Vec512<std::int32_t>{_mm512_cvttps_epi32(v.raw)};
}
#elif HWY_TARGET <= HWY_AVX2
HWY_INLINE hn::Vec256<std::int32_t> add_bytes(hn::Vec256<std::int32_t> weights, hn::Vec256<std::int32_t> bytes) {
  return {_mm256_maddubs_epi16(weights.raw, bytes.raw)};
}
HWY_INLINE hn::Vec256<std::int32_t> add_words(hn::Vec256<std::int32_t> weights, hn::Vec256<std::int32_t> words) {
  return {_mm256_madd_epi16(weights.raw, words.raw)};
}
HWY_INLINE hn::Vec256<std::int32_t> cut(hn::Vec256<float> v) {
  return hn::Vec256<std::int32_t>{_mm256_cvttps_epi32(v.raw)};
}
#else
HWY_INLINE hn::Vec128<std::int32_t> add_bytes(hn::Vec128<std::int32_t> weights, hn::Vec128<std::int32_t> bytes) {
  return hn::Vec128<std::int32_t>{_mm_maddubs_epi16(weights.raw, bytes.raw)};
}
HWY_INLINE hn::Vec128<std::int32_t> add_words(hn::Vec128<std::int32_t> weights, hn::Vec128<std::int32_t> words) {
  return hn::Vec128<std::int32_t>{_mm_madd_epi16(weights.raw, words.raw)};
}
HWY_INLINE hn::Vec128<std::int32_t> cut(hn::Vec128<float> v) {
  return hn::Vec128<std::int32_t>{_mm_cvttps_epi32(v.raw)};
}
#endif

constexpr float kUnit = (kSubpixels - 1) * (kSubpixels - 1);  // one grey value of a bilinear sample

constexpr int kBlock = 16;  // samples that are looked at together

// What stands between the steps of scoring, for each warp: where its samples lie, their quads and weights, and the sums
// so far.
struct PatchWork {
  alignas(64) std::uint32_t places[kMaxWarps][kBlock];
  alignas(64) std::int32_t quads[kMaxWarps][kBlock], x_weights[kMaxWarps][kBlock], y_weights[kMaxWarps][kBlock];
  alignas(64) float values[kMaxWarps][kBlock], squares[kMaxWarps][kBlock], products[kMaxWarps][kBlock];
};

HWY_INLINE void place_samples(const PatchReference& ref, const QuadImage& image, const PlaneWarps& warps, int at,
                              int first, int k, PatchWork& work) {
  const F d;
  const I di;
  const hn::RebindToUnsigned<F> du;
  const hn::Repartition<std::uint8_t, F> db;
  // The low byte of each 32-bit lane to its four bytes.
  alignas(64) static constexpr std::uint8_t kToBytes[64] = {
      0, 0, 0, 0, 4, 4, 4, 4, 8, 8, 8, 8, 12, 12, 12, 12, 0, 0, 0, 0, 4, 4, 4, 4, 8, 8, 8, 8, 12, 12, 12, 12,
      0, 0, 0, 0, 4, 4, 4, 4, 8, 8, 8, 8, 12, 12, 12, 12, 0, 0, 0, 0, 4, 4, 4, 4, 8, 8, 8, 8, 12, 12, 12, 12};
  const auto to_bytes = hn::Load(db, kToBytes);
  const auto every_byte = hn::Set(di, 0x7f7f7f7f), low_bytes = hn::Set(di, 0x007f007f),
             first_word = hn::Set(di, 0x0000007f);
  const auto stride = hn::Set(di, image.width);
  const auto xx = hn::Set(d, warps.xx[at]), xy = hn::Set(d, warps.xy[at]), yx = hn::Set(d, warps.yx[at]),
             yy = hn::Set(d, warps.yy[at]);
  const auto x0 = hn::Set(d, kSubpixels * warps.x[at]), y0 = hn::Set(d, kSubpixels * warps.y[at]);
  for (int i = 0; i < kBlock; i += static_cast<int>(hn::Lanes(d))) {
    const auto dx = hn::Load(d, ref.offset_x + first + i), dy = hn::Load(d, ref.offset_y + first + i);
    const auto x = cut(hn::MulAdd(xx, dx, hn::MulAdd(xy, dy, x0))), y = cut(hn::MulAdd(yx, dx, hn::MulAdd(yy, dy, y0)));
    hn::Store(hn::BitCast(du, hn::Add(hn::Mul(hn::ShiftRight<7>(y), stride), hn::ShiftRight<7>(x))), du,
              work.places[k] + i);
    hn::Store(
        hn::Xor(hn::And(hn::BitCast(di, hn::TableLookupBytes(hn::BitCast(db, x), to_bytes)), every_byte), low_bytes),
        di, work.x_weights[k] + i);
    hn::Store(
        hn::Xor(hn::And(hn::BitCast(di, hn::TableLookupBytes(hn::BitCast(db, y), to_bytes)), low_bytes), first_word),
        di, work.y_weights[k] + i);
  }
}

// One by one: a gather instruction takes longer (more so where its leak is mended, INTEL-SA-00828), and holds up what
// follows.
HWY_INLINE void fetch_quads(const QuadImage& image, int k, PatchWork& work) {
  const auto* const base = reinterpret_cast<const std::int32_t*>(image.quads.data());
  for (int j = 0; j < kBlock; ++j) {
    std::int32_t quad = base[work.places[k][j]];
    asm("" : "+r"(quad));  // or the compiler makes a gather of it
    work.quads[k][j] = quad;
  }
}

template <bool kFirst>
HWY_INLINE void add_samples(const PatchReference& ref, int first, int k, PatchWork& work) {
  const F d;
  const I di;
  for (int i = 0; i < kBlock; i += static_cast<int>(hn::Lanes(d))) {
    const auto value =
        hn::ConvertTo(d, add_words(hn::Load(di, work.y_weights[k] + i),
                                   add_bytes(hn::Load(di, work.x_weights[k] + i), hn::Load(di, work.quads[k] + i))));
    const auto weighted = hn::Mul(hn::Load(d, ref.weight + first + i), value),
               centred = hn::Load(d, ref.centred + first + i);
    hn::Store(kFirst ? weighted : hn::Add(hn::Load(d, work.values[k] + i), weighted), d, work.values[k] + i);
    hn::Store(kFirst ? hn::Mul(weighted, value) : hn::MulAdd(weighted, value, hn::Load(d, work.squares[k] + i)), d,
              work.squares[k] + i);
    hn::Store(kFirst ? hn::Mul(centred, value) : hn::MulAdd(centred, value, hn::Load(d, work.products[k] + i)), d,
              work.products[k] + i);
  }
}

// The sums over the block of four warps, side by side.
HWY_INLINE auto four_warps(const float (&parts)[kMaxWarps][kBlock], int k) {
  const F d;
  const auto whole = [&](int warp) HWY_ATTR {
    auto sum = hn::Load(d, parts[warp]);
    for (int i = static_cast<int>(hn::Lanes(d)); i < kBlock; i += static_cast<int>(hn::Lanes(d)))
      sum = hn::Add(sum, hn::Load(d, parts[warp] + i));
    return sum;
  };
  return four_sums(whole(k), whole(k + 1), whole(k + 2), whole(k + 3));
}

void patch_costs(const PatchReference& ref, const QuadImage* const* images, const PlaneWarps& warps,
                 const std::uint8_t* which, int count, float* costs) {
  // Step by step for all warps, since a step waits for the one before and not for the other warps.
  PatchWork work;
  for (int first = 0; first < ref.samples; first += kBlock) {
    for (int k = 0; k < count; ++k) place_samples(ref, *images[which[k]], warps, warps.slot[which[k]], first, k, work);
    for (int k = 0; k < count; ++k) fetch_quads(*images[which[k]], k, work);
    for (int k = 0; k < count; ++k)
      if (first == 0)
        add_samples<true>(ref, first, k, work);
      else
        add_samples<false>(ref, first, k, work);
  }
  const hn::CappedTag<float, 4> d4;
  const hn::RebindToSigned<decltype(d4)> di4;
  const auto flat = hn::Set(d4, ref.variance > 1.0f ? kUnit * kUnit : std::numeric_limits<float>::infinity());
  const auto scale = hn::Set(d4, ref.variance), one = hn::Set(d4, 1.0f), worst = hn::Set(d4, 2.0f);
  const auto outside = hn::Set(di4, kMaxWarps);
  const auto unseen = hn::Set(d4, kUnseenCost);
  alignas(16) float four[4];
  for (int k = 0; k < count; k += 4) {
    alignas(16) std::int32_t slots[4];
    for (int j = 0; j < 4; ++j) {
      slots[j] = k + j < count ? warps.slot[which[k + j]] : kMaxWarps;
      if (k + j >= count)
        for (auto* parts : {&work.values, &work.squares, &work.products}) std::fill_n((*parts)[k + j], kBlock, 0.0f);
    }
    const auto mean = four_warps(work.values, k), square = four_warps(work.squares, k),
               product = four_warps(work.products, k);
    const auto variance = hn::Sub(square, hn::Mul(mean, mean));
    const auto seen = hn::RebindMask(d4, hn::Ne(hn::Load(di4, slots), outside));
    const auto cost = hn::IfThenElse(hn::Gt(variance, flat),
                                     hn::Sub(one, hn::Div(product, hn::Sqrt(hn::Mul(variance, scale)))), worst);
    hn::Store(hn::IfThenElse(seen, cost, unseen), d4, four);
    std::copy_n(four, std::min(4, count - k), costs + k);
  }
}

std::int32_t gather_sixteen(const std::int32_t* base, const std::int32_t* offsets) {
  const I di;
  auto sum = hn::Zero(di);
  for (int i = 0; i < 16; i += static_cast<int>(hn::Lanes(di)))
    sum = hn::Add(sum, hn::And(hn::GatherIndex(di, base, hn::Load(di, offsets + i)), hn::Set(di, 255)));
  return hn::GetLane(hn::SumOfLanes(di, sum));
}

DenseKernel dense_kernel_here() {
  return {reference_patch, turn_pixel, warp_in_views, warp_planes, patch_costs, gather_sixteen};
}

}  // namespace HWY_NAMESPACE
}  // namespace icefield
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace icefield {

HWY_EXPORT(dense_kernel_here);

namespace {
void warp_plain(const ViewRow& views, const PixelTurns& turns, int view, const PlaneList& planes, int plane,
                float reach, int at, PlaneWarps& warps) {
  const QuadImage& image = *views.images[static_cast<std::size_t>(view)];
  float p[3], px[3], py[3];
  for (int r = 0; r < 3; ++r) {
    p[r] = turns.turned[r][view] + views.shift[r][view] * planes.inverse[plane];
    px[r] = views.turn_x[r][view] + views.shift[r][view] * planes.slant_x[plane];
    py[r] = views.turn_y[r][view] + views.shift[r][view] * planes.slant_y[plane];
  }
  const PatchWarp w{p[0] / p[2],
                    p[1] / p[2],
                    (px[0] - p[0] / p[2] * px[2]) / p[2],
                    (py[0] - p[0] / p[2] * py[2]) / p[2],
                    (px[1] - p[1] / p[2] * px[2]) / p[2],
                    (py[1] - p[1] / p[2] * py[2]) / p[2]};
  warps.x[at] = w.x, warps.y[at] = w.y, warps.xx[at] = w.xx, warps.xy[at] = w.xy, warps.yx[at] = w.yx,
  warps.yy[at] = w.yy;
  warps.slot[at] = p[2] > 0 && warp_inside(w, reach, image.width, image.height) ? at : kMaxWarps;
}
}  // namespace

DenseKernel best_dense_kernel() {
  return HWY_DYNAMIC_DISPATCH(dense_kernel_here)();
}

DenseKernel plain_dense_kernel() {
  DenseKernel kernel;
  kernel.reference = [](const PatchShape& shape, const QuadImage& image, int x, int y, PatchReference& patch) {
    const auto grey = [&](int i) {
      return image.grey(std::clamp(x + shape.dx[static_cast<std::size_t>(i)], 0, image.width - 1),
                        std::clamp(y + shape.dy[static_cast<std::size_t>(i)], 0, image.height - 1));
    };
    const int middle = image.grey(x, y);
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
  kernel.turn = [](const ViewRow& views, float direction_x, float direction_y, PixelTurns& turns) {
    for (int v = 0; v < views.count; ++v)
      for (int r = 0; r < 3; ++r)
        turns.turned[r][v] =
            views.turn[3 * r][v] * direction_x + views.turn[3 * r + 1][v] * direction_y + views.turn[3 * r + 2][v];
  };
  kernel.warp_views = [](const ViewRow& views, const PixelTurns& turns, const PlaneList& planes, float reach,
                         PlaneWarps& warps) {
    for (int v = 0; v < views.count; ++v) warp_plain(views, turns, v, planes, 0, reach, v, warps);
  };
  kernel.warp_planes = [](const ViewRow& views, const PixelTurns& turns, int view, const PlaneList& planes, int count,
                          float reach, PlaneWarps& warps) {
    for (int k = 0; k < count; ++k) warp_plain(views, turns, view, planes, k, reach, k, warps);
  };
  kernel.costs = [](const PatchReference& patch, const QuadImage* const* images, const PlaneWarps& warps,
                    const std::uint8_t* which, int count, float* costs) {
    for (int k = 0; k < count; ++k) {
      const std::uint8_t at = which[k];
      costs[k] =
          warps.slot[at] == kMaxWarps
              ? kUnseenCost
              : patch_cost_plain(patch, *images[at],
                                 {warps.x[at], warps.y[at], warps.xx[at], warps.xy[at], warps.yx[at], warps.yy[at]});
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
      quads[static_cast<std::size_t>(y) * width + x] =
          (static_cast<std::uint32_t>(row[x]) | static_cast<std::uint32_t>(row[x1]) << 8 |
           static_cast<std::uint32_t>(next[x]) << 16 | static_cast<std::uint32_t>(next[x1]) << 24) ^
          0x80808080u;
    }
  }
}

float patch_cost_plain(const PatchReference& ref, const QuadImage& view, const PatchWarp& warp, bool cut_places) {
  if (!warp_inside(warp, ref.reach, view.width, view.height)) return kUnseenCost;
  // The whole pixel of a place and the share of the next one.
  struct Place {
    int whole;
    double share;
  };
  const auto place = [&](float at) {
    if (!cut_places) return Place{static_cast<int>(at), at - std::floor(at)};
    const int parts = static_cast<int>(kSubpixels * at);
    return Place{parts / kSubpixels, (parts % kSubpixels) / (kSubpixels - 1.0)};
  };
  double sum = 0, sum2 = 0, product = 0;
  for (int i = 0; i < ref.samples; ++i) {
    const float dx = ref.offset_x[i] / kSubpixels, dy = ref.offset_y[i] / kSubpixels;
    const auto x = place(warp.xx * dx + warp.xy * dy + warp.x), y = place(warp.yx * dx + warp.yy * dy + warp.y);
    const auto grey = [&](int u, int v) {
      return view.grey(std::min(x.whole + u, view.width - 1), std::min(y.whole + v, view.height - 1));
    };
    const double top = std::lerp(grey(0, 0), grey(1, 0), x.share), bottom = std::lerp(grey(0, 1), grey(1, 1), x.share);
    const double value = std::lerp(top, bottom, y.share);
    sum += ref.weight[i] * value;
    sum2 += ref.weight[i] * value * value;
    product += ref.centred[i] * value;
  }
  const double variance = sum2 - sum * sum;
  return variance > 1 && ref.variance > 1 ? static_cast<float>(1 - product / std::sqrt(variance * ref.variance)) : 2.0f;
}

}  // namespace icefield
#endif
