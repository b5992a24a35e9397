#include "src/feature/kinds.h"

namespace icefield {

float contrast_factor(const ImageF& grey, const FeatureOptions& options) {
  if (!options.adapt_contrast) return 1;
  std::vector<std::size_t> histogram(256, 0);
  for (const float v : grey.data())
    ++histogram[static_cast<std::size_t>(std::clamp(static_cast<int>(v * 255), 0, 255))];
  const std::size_t part = grey.pixels() / 100;
  int low = 0, high = 255;
  for (std::size_t sum = histogram[0]; sum <= part && low < 255; sum += histogram[static_cast<std::size_t>(low)]) ++low;
  for (std::size_t sum = histogram[255]; sum <= part && high > 0; sum += histogram[static_cast<std::size_t>(high)])
    --high;
  constexpr float kFullRange = 0.6f;
  return std::clamp(static_cast<float>(high - low) / (255 * kFullRange), 0.15f, 1.0f);
}

}  // namespace icefield
