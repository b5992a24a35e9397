// Correlation of a patch with its images in other views.
#pragma once
#include <cmath>
#include <cstddef>
#include <cstdint>
#include <vector>

#include "icefield/photo/image.h"

namespace icefield {

// A grey image for bilinear samples: entry (x, y) holds the 2 x 2 pixels from (x, y) on, so that one 32-bit load fetches
// all four. The last column and row repeat.
struct QuadImage {
  explicit QuadImage(const ImageU8& grey);
  int width, height;
  std::vector<std::uint32_t> quads;
};

inline constexpr int kMaxPatchSamples = 128;

// The reference patch. Offsets are the same for all pixels; weights sum to 1 and `centred` is weight * (value - mean), so
// that their sum is 0. Arrays are padded to a multiple of 16 with zero weight.
struct PatchReference {
  int samples = 0;
  alignas(64) float offset_x[kMaxPatchSamples];
  alignas(64) float offset_y[kMaxPatchSamples];
  alignas(64) float weight[kMaxPatchSamples];
  alignas(64) float centred[kMaxPatchSamples];
  float variance = 0;  // weighted, of the reference
  float reach = 0;     // largest offset
};

// Where the patch goes in a view: the middle (x, y), pixel middles at integers, and the derivatives of the plane's
// homography there. Over a patch the homography is affine to a few hundredths of a pixel.
struct PatchWarp {
  float x, y;              // negative x: behind the view
  float xx, xy, yx, yy;    // d x / d offset_x, d x / d offset_y, ...
};

// Whether all samples fall inside the view.
inline bool warp_inside(const PatchWarp& w, float reach, int width, int height) {
  const float rx = reach * (std::abs(w.xx) + std::abs(w.xy)), ry = reach * (std::abs(w.yx) + std::abs(w.yy));
  return w.x - rx >= 0.5f && w.y - ry >= 0.5f && w.x + rx <= static_cast<float>(width) - 1.5f && w.y + ry <= static_cast<float>(height) - 1.5f;
}

// The pixel that a place falls on (middles at integers); false outside the image. Compared as floats first: a place at a
// plane's horizon does not fit an int.
inline bool pixel_at(float x, float y, int width, int height, int& ix, int& iy) {
  if (!(x >= 0 && y >= 0 && x + 0.5f < static_cast<float>(width) && y + 0.5f < static_cast<float>(height))) return false;
  ix = static_cast<int>(x + 0.5f);
  iy = static_cast<int>(y + 0.5f);
  return true;
}

// 1 - weighted correlation of the reference with the view; 2 where the patch leaves the view or is flat in either.
using PatchCost = float (*)(const PatchReference& reference, const QuadImage& view, const PatchWarp& warp);
PatchCost best_patch_cost();  // by CPUID and the pinned level
float patch_cost_plain(const PatchReference& reference, const QuadImage& view, const PatchWarp& warp);  // one sample at a time, for tests

}  // namespace icefield
