// Correlation of a patch with its images in other views.
#pragma once
#include <array>
#include <cmath>
#include <cstddef>
#include <cstdint>
#include <vector>

#include "icefield/photo/image.h"

namespace icefield {

// A grey image for bilinear samples: entry (x, y) holds the 2 x 2 pixels from (x, y) on, less 128 and signed, so that
// one 32-bit load fetches all four. The last column and row repeat.
struct QuadImage {
  explicit QuadImage(const ImageU8& grey);
  int grey(int x, int y) const {
    return static_cast<int>(
        (quads[static_cast<std::size_t>(y) * static_cast<std::size_t>(width) + static_cast<std::size_t>(x)] & 255) ^
        128);
  }
  int width, height;
  std::vector<std::uint32_t> quads;
};

inline constexpr int kMaxPatchSamples = 128;
// What a view says of a plane of which it sees nothing: more than is believed, less than what contradicts it costs.
inline constexpr float kUnseenCost = 0.7f;
// Places are cut to so many parts of a pixel, so that a bilinear sample is two multiply-adds of bytes and words: in
// between the weights run from 0 to 127, which makes up for the cut on average. No place is off by more than 1/256 px
// by that.
inline constexpr int kSubpixels = 128;

// The reference patch. Offsets are the same for all pixels; weights sum to 1 and `centred` is weight * (value - mean),
// so that their sum is 0. Arrays are padded to a multiple of 16 with zero weight.
struct PatchReference {
  int samples = 0;
  alignas(64) float offset_x[kMaxPatchSamples];  // px times kSubpixels
  alignas(64) float offset_y[kMaxPatchSamples];
  alignas(64) float weight[kMaxPatchSamples];
  alignas(64) float centred[kMaxPatchSamples];
  float variance = 0;  // weighted, of the reference
  float reach = 0;     // largest offset, px
};

// Where the patch goes in a view: the middle (x, y), pixel middles at integers, and the derivatives of the plane's
// homography there. Over a patch the homography is affine to a few hundredths of a pixel.
struct PatchWarp {
  float x, y;            // negative x: behind the view
  float xx, xy, yx, yy;  // d x / d offset_x, d x / d offset_y, ...
};

// Whether all samples fall inside the view.
inline bool warp_inside(const PatchWarp& w, float reach, int width, int height) {
  const float rx = reach * (std::abs(w.xx) + std::abs(w.xy)), ry = reach * (std::abs(w.yx) + std::abs(w.yy));
  return w.x - rx >= 0.5f && w.y - ry >= 0.5f && w.x + rx <= static_cast<float>(width) - 1.5f &&
         w.y + ry <= static_cast<float>(height) - 1.5f;
}

// The pixel that a place falls on (middles at integers); false outside the image. Compared as floats first: a place at
// a plane's horizon does not fit an int.
inline bool pixel_at(float x, float y, int width, int height, int& ix, int& iy) {
  if (!(x >= 0 && y >= 0 && x + 0.5f < static_cast<float>(width) && y + 0.5f < static_cast<float>(height)))
    return false;
  ix = static_cast<int>(x + 0.5f);
  iy = static_cast<int>(y + 0.5f);
  return true;
}

// Views side by side. `turn` is K R K_ref^-1 without the last factor's shift, by rows: it takes a direction (x, y, 1)
// of the reference's frame into the view; `turn_x`, `turn_y` are its first columns divided by the reference's focal
// length; `shift` is K t.
inline constexpr int kMaxViews = 16;
struct ViewRow {
  int count = 0;
  alignas(64) float turn[9][kMaxViews] = {};
  alignas(64) float turn_x[3][kMaxViews] = {}, turn_y[3][kMaxViews] = {}, shift[3][kMaxViews] = {};
  alignas(64) float right[kMaxViews] = {}, bottom[kMaxViews] = {};  // the last place that can be sampled
  std::array<const QuadImage*, kMaxViews> images{};
};

// Where a pixel's line of sight leads in each view, whatever the plane.
struct PixelTurns {
  alignas(64) float turned[3][kMaxViews];
};

// Planes through a pixel: the inverse depth there and how it changes per pixel.
inline constexpr int kMaxPlanes = 16;
struct PlaneList {
  alignas(64) float inverse[kMaxPlanes] = {}, slant_x[kMaxPlanes] = {}, slant_y[kMaxPlanes] = {};
};

// Warps side by side: of one plane in all views, or of many planes in one. The last place is a warp into the corner,
// for patches that leave their view: it costs nothing to look at and is not counted.
inline constexpr int kMaxWarps = 16;
static_assert(kMaxWarps == kMaxViews && kMaxWarps == kMaxPlanes);
struct PlaneWarps {
  alignas(64) float x[kMaxWarps + 1], y[kMaxWarps + 1], xx[kMaxWarps + 1], xy[kMaxWarps + 1], yx[kMaxWarps + 1],
      yy[kMaxWarps + 1];
  alignas(64)
      std::int32_t slot[kMaxWarps];  // where the warp stands: its own number, kMaxWarps for one that leaves the view
  PlaneWarps() { x[kMaxWarps] = y[kMaxWarps] = 1, xx[kMaxWarps] = xy[kMaxWarps] = yx[kMaxWarps] = yy[kMaxWarps] = 0; }
};

// The same patch for all pixels: offsets and how much each counts by its distance alone.
struct PatchShape {
  int samples = 0, padded = 0, radius = 0;
  std::array<int, kMaxPatchSamples> dx{}, dy{};
  alignas(64) float nearness[kMaxPatchSamples] = {};     // 0 in the padding
  alignas(64) std::int32_t step[kMaxPatchSamples] = {};  // from the middle, in pixels of the reference by rows
  alignas(64) float likeness[256] = {};                  // by the difference of grey values
};

struct DenseKernel {
  // Weights of the reference's patch around pixel (x, y), by nearness and likeness.
  void (*reference)(const PatchShape& shape, const QuadImage& image, int x, int y, PatchReference& patch);
  // Where the pixel's line of sight leads in each view.
  void (*turn)(const ViewRow& views, float direction_x, float direction_y, PixelTurns& turns);
  // The warps of the first plane in all views.
  void (*warp_views)(const ViewRow& views, const PixelTurns& turns, const PlaneList& planes, float reach,
                     PlaneWarps& warps);
  // The warps of the first `count` planes in one view.
  void (*warp_planes)(const ViewRow& views, const PixelTurns& turns, int view, const PlaneList& planes, int count,
                      float reach, PlaneWarps& warps);
  // 1 - weighted correlation of the reference with the image of each warp asked for; kUnseenCost where the patch leaves
  // the image; 2 where it is flat in either. `images`: by the number of the warp.
  void (*costs)(const PatchReference& patch, const QuadImage* const* images, const PlaneWarps& warps,
                const std::uint8_t* which, int count, float* costs);
  // Sum of the low bytes of sixteen places: what the hardware can fetch at best.
  std::int32_t (*gather)(const std::int32_t* base, const std::int32_t* offsets);
};
DenseKernel best_dense_kernel();   // by CPUID and the pinned level
DenseKernel plain_dense_kernel();  // one at a time, for tests

// `cut_places`: at kSubpixels, as the kernels do; or as exactly as floats are.
float patch_cost_plain(const PatchReference& reference, const QuadImage& view, const PatchWarp& warp,
                       bool cut_places = true);

}  // namespace icefield
