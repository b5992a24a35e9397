// Small operations on pixels. All are deterministic and run in the calling thread unless an executor is passed.
#pragma once
#include "icefield/photo/image.h"

namespace icefield {

// Luma (Rec. 709 weights on the stored, gamma-coded values) in [0, 1]. One channel is only scaled; of four channels the
// last (alpha) is left out, of two the second.
ImageF to_grey(const ImageU8& image);
ImageF to_grey(const ImageF& image);  // of values from 0 to 1

// Separable Gaussian blur, `sigma_px` > 0, borders mirrored (...b a | a b...), kernel cut at 4 sigma and normalised.
// One channel.
ImageF gaussian_blur(const ImageF& image, float sigma_px);

// Index into a row of n pixels, mirrored at its ends (...b a | a b...).
int mirrored(int i, int n);

// Each second pixel of each second row, starting at (0, 0).
ImageF take_half(const ImageF& image);

// Mean over blocks of factor x factor pixels; a rest at the right and lower border is left out. Any channels.
ImageU8 shrink(const ImageU8& image, int factor);

// Value between pixels; (x, y) in image coordinates (the middle of the first pixel is (0.5, 0.5)), clamped at the
// border.
float sample_bilinear(const ImageF& image, float x, float y, int channel = 0);

// How sharp and how well exposed a photo is, for `begin`.
struct PhotoScores {
  // Share of the gradient energy that a slight blur takes away, in the direction in which it is least: near 0 for a
  // photo blurred by the lens or by motion, towards 1 for a crisp one.
  float sharpness = 0;
  float mean_brightness = 0;  // of the luma, 0 to 1
  float dark_share = 0;       // share of pixels below 2 percent
  float bright_share = 0;     // share of pixels above 98 percent
};
PhotoScores score_photo(const ImageF& grey);

}  // namespace icefield
