#include <gtest/gtest.h>

#include <limits>

#include <cmath>

#include "icefield/base/instructions.h"
#include "icefield/base/random.h"
#include "src/dense/patch_kernel.h"

namespace icefield {
namespace {

ImageU8 noise_image(int width, int height) {
  ImageU8 image(width, height);
  CounterRandom random(3);
  for (auto& v : image.data()) v = static_cast<std::uint8_t>(random.below(256));
  return image;
}

PatchReference patch_of(const ImageU8& image, int x, int y, int radius) {
  PatchReference patch;
  int n = 0;
  float mean = 0;
  float values[kMaxPatchSamples];
  for (int dy = -radius; dy <= radius; ++dy)
    for (int dx = -radius; dx <= radius; ++dx, ++n) {
      patch.offset_x[n] = static_cast<float>(dx), patch.offset_y[n] = static_cast<float>(dy);
      values[n] = image.at(x + dx, y + dy);
      mean += values[n];
    }
  mean /= static_cast<float>(n);
  patch.samples = (n + 15) / 16 * 16;
  for (int i = 0; i < patch.samples; ++i) {
    if (i >= n) {
      patch.offset_x[i] = patch.offset_y[i] = patch.weight[i] = patch.centred[i] = 0;
      continue;
    }
    patch.weight[i] = 1.0f / static_cast<float>(n);
    patch.centred[i] = patch.weight[i] * (values[i] - mean);
    patch.variance += patch.centred[i] * (values[i] - mean);
  }
  patch.reach = static_cast<float>(radius);
  return patch;
}

TEST(PatchCost, AgreesWithItsPlainTwin) {
  const ImageU8 image = noise_image(120, 90);
  const QuadImage quads(image);
  for (const std::string& level : available_instruction_levels()) {
    pin_instruction_level(level);
    const PatchCost cost = best_patch_cost();
    CounterRandom random(5);
    for (const int radius : {2, 3, 5}) {
      const PatchReference patch = patch_of(image, 40, 40, radius);
      for (int k = 0; k < 500; ++k) {
        const PatchWarp warp{static_cast<float>(random.uniform(-3, 123)), static_cast<float>(random.uniform(-3, 93)), static_cast<float>(random.uniform(0.6, 1.4)),
                             static_cast<float>(random.uniform(-0.4, 0.4)), static_cast<float>(random.uniform(-0.4, 0.4)), static_cast<float>(random.uniform(0.6, 1.4))};
        EXPECT_NEAR(cost(patch, quads, warp), patch_cost_plain(patch, quads, warp), 2e-4) << level;
      }
    }
  }
}

TEST(PatchCost, IsZeroOnItselfWhateverTheLight) {
  const ImageU8 image = noise_image(60, 60);
  ImageU8 darker = image;
  for (auto& v : darker.data()) v = static_cast<std::uint8_t>(v / 2 + 30);
  const PatchReference patch = patch_of(image, 30, 30, 3);
  const PatchWarp same{30, 30, 1, 0, 0, 1};
  EXPECT_NEAR(best_patch_cost()(patch, QuadImage(image), same), 0, 1e-4);
  EXPECT_NEAR(best_patch_cost()(patch, QuadImage(darker), same), 0, 1e-3);
  EXPECT_GT(best_patch_cost()(patch, QuadImage(image), {33, 30, 1, 0, 0, 1}), 0.5);
}

TEST(PatchCost, FlatOrOutsideIsBad) {
  const ImageU8 image = noise_image(60, 60);
  const PatchReference patch = patch_of(image, 30, 30, 3);
  EXPECT_EQ(best_patch_cost()(patch, QuadImage(ImageU8(60, 60, 1, 100)), {30, 30, 1, 0, 0, 1}), 2);
  for (const float outside : {-5.0f, 1.0f, 57.0f, 1e9f, NAN}) EXPECT_EQ(best_patch_cost()(patch, QuadImage(image), {outside, 30, 1, 0, 0, 1}), 2) << outside;
}

TEST(PixelAt, PlacesFarOutsideAreOutside) {
  int x = -1, y = -1;
  EXPECT_TRUE(pixel_at(0, 0, 10, 8, x, y));
  EXPECT_TRUE(pixel_at(9.4f, 6.6f, 10, 8, x, y));
  EXPECT_EQ(x, 9);
  EXPECT_EQ(y, 7);
  constexpr float kInfinity = std::numeric_limits<float>::infinity();
  for (const float bad : {9.6f, -0.1f, 3e9f, 1e30f, -1e30f, kInfinity, -kInfinity, std::numeric_limits<float>::quiet_NaN()}) {
    EXPECT_FALSE(pixel_at(bad, 3, 10, 8, x, y)) << bad;
    EXPECT_FALSE(pixel_at(3, bad, 10, 8, x, y)) << bad;
  }
}

}  // namespace
}  // namespace icefield
