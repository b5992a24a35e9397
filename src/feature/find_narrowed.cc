#include <algorithm>
#include <cmath>

#include "icefield/feature/feature.h"

namespace icefield {
namespace {

// Blurred along x as far as the new width asks for, then sampled; `share` of the width. Pixels outside repeat the
// border.
ImageF narrowed(const ImageF& grey, double share) {
  const int width = std::max(1, static_cast<int>(std::lround(share * grey.width())));
  const double step = static_cast<double>(grey.width()) / width, sigma = 0.8 * std::sqrt(step * step - 1);
  const int reach = static_cast<int>(std::ceil(3 * sigma)) + 1;
  ImageF out(width, grey.height());
  std::vector<float> weights(static_cast<std::size_t>(2 * reach + 1));
  for (int x = 0; x < width; ++x) {
    const double middle = (x + 0.5) * step - 0.5;
    const int first = static_cast<int>(std::lround(middle)) - reach;
    double sum = 0;
    for (int k = 0; k <= 2 * reach; ++k) {
      const double d = (first + k - middle) / sigma;
      weights[static_cast<std::size_t>(k)] = static_cast<float>(std::exp(-0.5 * d * d));
      sum += weights[static_cast<std::size_t>(k)];
    }
    for (float& w : weights) w = static_cast<float>(w / sum);
    for (int y = 0; y < grey.height(); ++y) {
      const float* row = grey.row(y);
      float value = 0;
      for (int k = 0; k <= 2 * reach; ++k)
        value += weights[static_cast<std::size_t>(k)] * row[std::clamp(first + k, 0, grey.width() - 1)];
      out.at(x, y) = value;
    }
  }
  return out;
}

// Any pixel that the mask takes out takes out the one that it falls into.
ImageU8 narrowed(const ImageU8& mask, int width) {
  ImageU8 out(width, mask.height(), 1, 255);
  for (int y = 0; y < mask.height(); ++y)
    for (int x = 0; x < mask.width(); ++x)
      if (mask.at(x, y) == 0) out.at(std::min(width - 1, static_cast<int>((x + 0.5) * width / mask.width())), y) = 0;
  return out;
}

template <class T>
Image<T> transposed(const Image<T>& image) {
  Image<T> out(image.height(), image.width());
  for (int y = 0; y < image.height(); ++y)
    for (int x = 0; x < image.width(); ++x) out.at(y, x) = image.at(x, y);
  return out;
}

}  // namespace

std::vector<Features> find_narrowed_features(const ImageF& grey, const FeatureOptions& options, const ImageU8* mask,
                                             const Executor& executor) {
  FeatureOptions first_kind = options;
  first_kind.gaussian = true, first_kind.nonlinear = false;
  std::vector<Features> all;
  for (const bool across : {true, false}) {
    // Along y by way of the transposed photo.
    const ImageF wide = across ? ImageF() : transposed(grey);
    const ImageU8 wide_mask = across || !mask ? ImageU8() : transposed(*mask);
    const ImageF& photo = across ? grey : wide;
    const ImageU8* of_photo = !mask ? nullptr : across ? mask : &wide_mask;
    for (const double share : {0.7, 0.5}) {
      ImageF copy = narrowed(photo, share);
      if (copy.width() < 32 || copy.height() < 32) continue;
      ImageU8 copy_mask = of_photo ? narrowed(*of_photo, copy.width()) : ImageU8();
      const double step = static_cast<double>(photo.width()) / copy.width();
      if (!across) copy = transposed(copy), copy_mask = of_photo ? transposed(copy_mask) : ImageU8();
      Features features = find_features(copy, first_kind, of_photo ? &copy_mask : nullptr, executor);
      for (Keypoint& k : features.keypoints) {
        (across ? k.x : k.y) *= static_cast<float>(step);
        k.scale *= static_cast<float>(std::sqrt(step));
      }
      all.push_back(std::move(features));
    }
  }
  return all;
}

}  // namespace icefield
