#include <algorithm>

#include "icefield/feature/feature.h"

namespace icefield {

Bytes features_to_bytes(const Features& features) {
  return ByteWriter().put(features.keypoints).put(features.descriptors).put(features.bits).take();
}

Features features_from_bytes(std::span<const std::byte> bytes) {
  ByteReader in(bytes);
  Features features;
  features.keypoints = in.get_array<Keypoint>();
  features.descriptors = in.get_array<std::uint8_t>();
  features.bits = in.get_array<std::uint64_t>();
  if (features.descriptors.size() % kDescriptorSize != 0 || features.bits.size() % kBitWords != 0 ||
      features.gradient_size() + features.binary_size() != features.size())
    throw Error(ErrorKind::input, "features", "are damaged", "they are computed again");
  return features;
}

std::uint64_t find_features_memory(int width, int height, const FeatureOptions& options) {
  const double pixels = static_cast<double>(width) * height;
  const bool doubled = pixels < 1e6 * options.double_below_megapixels;
  const double gaussian =
      options.gaussian ? 15000.0 * width * (doubled ? 2 : 1) + std::min(200e6, (doubled ? 53 : 13) * pixels) : 0;
  const double nonlinear = options.nonlinear ? 40 * pixels : 0;
  return static_cast<std::uint64_t>(std::max(gaussian, nonlinear) + 200.0 * options.max_features);
}

}  // namespace icefield
