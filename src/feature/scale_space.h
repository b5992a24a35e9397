// Gaussian and difference-of-Gaussian pyramid.
#pragma once
#include <vector>

#include "icefield/feature/feature.h"

namespace icefield {

struct Octave {
  float pixel_size;               // of this octave in px of the photo
  std::vector<ImageF> gaussian;   // layers + 3
  std::vector<ImageF> difference; // layers + 2
};

// Calls visit(octave) for one octave after the other, so that only one is in memory.
template <class Visit>
void for_each_octave(const ImageF& grey, const FeatureOptions& options, Visit visit);

ImageF double_size(const ImageF& image);

inline bool starts_doubled(const ImageF& grey, const FeatureOptions& options) {
  return 1e-6 * static_cast<double>(grey.pixels()) < options.double_below_megapixels;
}

}  // namespace icefield

#include <cmath>

#include "icefield/photo/filter.h"

namespace icefield {

template <class Visit>
void for_each_octave(const ImageF& grey, const FeatureOptions& options, Visit visit) {
  Octave octave;
  const bool doubled = starts_doubled(grey, options);
  octave.pixel_size = doubled ? 0.5f : 1.0f;
  ImageF base = doubled ? double_size(grey) : grey;
  const float present = options.photo_blur_px / octave.pixel_size;
  base = gaussian_blur(base, std::sqrt(std::max(0.01f, options.first_blur_px * options.first_blur_px - present * present)));
  const float step = std::exp2(1.0f / static_cast<float>(options.layers));
  while (std::min(base.width(), base.height()) >= 16) {
    octave.gaussian.clear();
    octave.difference.clear();
    octave.gaussian.push_back(std::move(base));
    float sigma = options.first_blur_px;
    for (int i = 1; i < options.layers + 3; ++i) {
      octave.gaussian.push_back(gaussian_blur(octave.gaussian.back(), sigma * std::sqrt(step * step - 1)));
      sigma *= step;
    }
    for (int i = 0; i < options.layers + 2; ++i) {
      const ImageF &a = octave.gaussian[i], &b = octave.gaussian[i + 1];
      ImageF d(a.width(), a.height());
      for (std::size_t k = 0; k < d.pixels(); ++k) d.data()[k] = b.data()[k] - a.data()[k];
      octave.difference.push_back(std::move(d));
    }
    visit(octave);
    base = take_half(octave.gaussian[options.layers]);
    octave.pixel_size *= 2;
  }
}

}  // namespace icefield
