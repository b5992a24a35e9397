// The two kinds of features, and what both need.
#pragma once
#include <algorithm>
#include <cmath>
#include <cstdint>
#include <vector>

#include "icefield/feature/feature.h"

namespace icefield {

// Layers that take no more than `keep_bytes` are kept until their keypoints are described; otherwise they are made
// twice, and never there as a whole. The result is the same.
inline constexpr double kKeepBytes = 200e6;
Features find_gaussian_features(const ImageF& grey, const FeatureOptions& options, const ImageU8* mask,
                                const Executor& executor, double keep_bytes = kKeepBytes);
Features find_nonlinear_features(const ImageF& grey, const FeatureOptions& options, const ImageU8* mask,
                                 const Executor& executor);

// Dim and flat photos have less contrast everywhere: thresholds follow their range of brightness. 0.15 to 1.
float contrast_factor(const ImageF& grey, const FeatureOptions& options);

// Whether masked pixels lie on or next to a keypoint, by sums over rectangles.
class MaskSums {
 public:
  explicit MaskSums(const ImageU8& mask)
      : width_(mask.width()),
        height_(mask.height()),
        sums_(static_cast<std::size_t>(width_ + 1) * static_cast<std::size_t>(height_ + 1), 0) {
    for (int y = 0; y < height_; ++y)
      for (int x = 0; x < width_; ++x) at(x + 1, y + 1) = at(x, y + 1) + at(x + 1, y) - at(x, y) + (mask.at(x, y) == 0);
  }
  bool touches(float x, float y, float reach) const {
    const int x0 = std::clamp(static_cast<int>(std::floor(x - reach)), 0, width_),
              x1 = std::clamp(static_cast<int>(std::ceil(x + reach)), 0, width_);
    const int y0 = std::clamp(static_cast<int>(std::floor(y - reach)), 0, height_),
              y1 = std::clamp(static_cast<int>(std::ceil(y + reach)), 0, height_);
    return at(x1, y1) - at(x0, y1) - at(x1, y0) + at(x0, y0) > 0;
  }

 private:
  std::uint32_t at(int x, int y) const {
    return sums_[static_cast<std::size_t>(y) * static_cast<std::size_t>(width_ + 1) + static_cast<std::size_t>(x)];
  }
  std::uint32_t& at(int x, int y) {
    return sums_[static_cast<std::size_t>(y) * static_cast<std::size_t>(width_ + 1) + static_cast<std::size_t>(x)];
  }
  int width_, height_;
  std::vector<std::uint32_t> sums_;
};

}  // namespace icefield
