// Features: keypoints and their descriptors.
#pragma once
#include <array>
#include <cstdint>
#include <span>
#include <vector>

#include "icefield/base/bytes.h"
#include "icefield/base/parallel.h"
#include "icefield/photo/image.h"

namespace icefield {

inline constexpr int kDescriptorSize = 128;

struct Keypoint {
  float x = 0, y = 0;  // image coordinates of the photo as stored, px
  float scale = 0;     // standard deviation of the Gaussian at which it was found, px
  float angle = 0;     // of the dominant gradient, radians, from x towards y
};

// Descriptors are one byte for each of 128 bins, 0 to 127, so that sums of products fit the byte dot products of the
// processor whether it takes them as signed or unsigned.
//
// A second kind has binary descriptors: 486 comparisons, in words of 64. Keypoints of the first kind come first.
inline constexpr int kBitWords = 8;
struct Features {
  std::vector<Keypoint> keypoints;
  std::vector<std::uint8_t> descriptors;  // kDescriptorSize for each keypoint of the first kind
  std::vector<std::uint64_t> bits;        // kBitWords for each of the second

  std::size_t size() const { return keypoints.size(); }
  std::size_t gradient_size() const { return descriptors.size() / kDescriptorSize; }
  std::size_t binary_size() const { return bits.size() / kBitWords; }
};

struct FeatureOptions {
  // The kinds. Extrema of the Gaussian scale space with gradient histograms serve nearly everywhere; extrema of a
  // non-linear scale space, which blurs within borders and not across them, with binary descriptors add features where
  // texture is weak, for twice the time. Each kind has the whole budget.
  bool gaussian = true, nonlinear = false;
  // At most this many, spread over the photo and over scales. More cost time in matching (quadratic), fewer cost ties
  // in weak photos.
  int max_features = 6000;
  // Least contrast of an extremum (difference of Gaussians, brightness 0 to 1, divided by the layers of an octave).
  // Measured: docs/benchmarks.md. The number of features is kept by the cap above.
  float min_contrast = 0.03f;
  // Lowers it for photos that do not use the range of brightness (98 percent of the pixels within less than 0.6), down
  // to 15 percent of it.
  bool adapt_contrast = true;
  // Directions are taken as upright instead of from the gradients: fewer mistakes where all photos are held alike (a
  // flight in strips turned by 180 degrees is not).
  bool upright = false;
  // Largest ratio of principal curvatures; above it an extremum sits on an edge and slides along it (Lowe 2004: 10).
  float max_edge_ratio = 10.0f;
  int layers = 3;              // per octave; two find as much on flat pictures and 3 to 4 percent less in scenes
  float first_blur_px = 1.6f;  // of the first layer (Lowe 2004)
  float photo_blur_px = 0.5f;  // taken to be in the photo already
  // Least determinant of the Hessian, scale-normalised, of a feature of the second kind (Alcantarilla 2013 takes
  // 0.001).
  float min_blob_strength = 0.0005f;
  // Photos smaller than this are searched at twice their size as well (0: none): more and finer features for 4 times
  // the time. Small photos have few features to spare, large ones have enough.
  double double_below_megapixels = 1.5;
};

// Scale-space extrema with gradient-histogram descriptors: Lowe, "Distinctive image features from scale-invariant
// keypoints", 2004; descriptors square-root normalised as in Arandjelovic and Zisserman, "Three things everyone should
// know to improve object retrieval", 2012. `grey` in 0 to 1. `mask`, of the same size: no feature on or next to a pixel
// of value 0. The result is in a fixed order, the most worth first, and does not depend on the threads of the executor.
// Memory: about 15,000 bytes for each pixel of a row of the photo (twice that when doubled) and 13 for each pixel (53
// when doubled), the latter up to 200 MB (find_features_memory); beyond, the scale space is made twice. The second kind
// follows Alcantarilla, Nuevo and Bartoli, "Fast explicit diffusion for accelerated features in nonlinear scale
// spaces", 2013, and needs 40 bytes for each pixel of the photo. Tells of each kind as progress. Throws Error(usage)
// when neither kind is asked for, Error(interrupted) when the monitor cancels.
Features find_features(const ImageF& grey, const FeatureOptions& options = {}, const ImageU8* mask = nullptr,
                       const Executor& executor = Executor(1), Monitor& monitor = silent_monitor());

// What find_features takes at the most for a photo of this size, the photo itself left out.
std::uint64_t find_features_memory(int width, int height, const FeatureOptions& options);

// Features (of the first kind) of copies of the photo that are narrowed to 0.7 and to half of its width, then of its
// height: a surface that another photo sees more from the side looks there as it does in that photo (after Morel and
// Yu, "ASIFT: a new framework for fully affine invariant image comparison", 2009). Keypoints are at their places in the
// photo; their scale is the geometric mean of that along and across, their angle that in the copy. Takes two to three
// times as long as find_features.
std::vector<Features> find_narrowed_features(const ImageF& grey, const FeatureOptions& options = {},
                                             const ImageU8* mask = nullptr, const Executor& executor = Executor(1));

Bytes features_to_bytes(const Features& features);
Features features_from_bytes(std::span<const std::byte> bytes);  // throws Error(input) for anything but such bytes

}  // namespace icefield
