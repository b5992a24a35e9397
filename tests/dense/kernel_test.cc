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

// One view with a warp of its own.
float cost_of(const DenseKernel& kernel, const PatchReference& patch, const QuadImage& image, const PatchWarp& warp) {
  ViewRow views;
  views.count = 1;
  views.images[0] = &image;
  PlaneWarps warps;
  warps.x[0] = warp.x, warps.y[0] = warp.y, warps.xx[0] = warp.xx, warps.xy[0] = warp.xy, warps.yx[0] = warp.yx, warps.yy[0] = warp.yy;
  warps.slot[0] = warp_inside(warp, patch.reach, image.width, image.height) ? 0 : kMaxViews;
  const std::uint8_t which = 0;
  float cost = -1;
  kernel.costs(patch, views, warps, &which, 1, &cost);
  return cost;
}

TEST(DenseKernel, CostsAgreeWithTheirPlainTwin) {
  const ImageU8 image = noise_image(120, 90);
  const QuadImage quads(image);
  const DenseKernel plain = plain_dense_kernel();
  for (const std::string& level : available_instruction_levels()) {
    pin_instruction_level(level);
    const DenseKernel kernel = best_dense_kernel();
    CounterRandom random(5);
    for (const int radius : {2, 3, 5}) {
      const PatchReference patch = patch_of(image, 40, 40, radius);
      for (int k = 0; k < 500; ++k) {
        const PatchWarp warp{static_cast<float>(random.uniform(-3, 123)), static_cast<float>(random.uniform(-3, 93)), static_cast<float>(random.uniform(0.6, 1.4)),
                             static_cast<float>(random.uniform(-0.4, 0.4)), static_cast<float>(random.uniform(-0.4, 0.4)), static_cast<float>(random.uniform(0.6, 1.4))};
        EXPECT_NEAR(cost_of(kernel, patch, quads, warp), cost_of(plain, patch, quads, warp), 2e-4) << level;
      }
    }
  }
}

TEST(DenseKernel, PatchesAndWarpsAgreeWithTheirPlainTwins) {
  const ImageU8 image = noise_image(70, 50);
  const QuadImage quads(image), other(noise_image(90, 60));
  PatchShape shape;
  shape.radius = 3;
  for (int dy = -3; dy <= 3; dy += 2)
    for (int dx = -3; dx <= 3; ++dx) {
      const auto i = static_cast<std::size_t>(shape.samples++);
      shape.dx[i] = dx, shape.dy[i] = dy, shape.step[i] = dy * 70 + dx;
      shape.nearness[i] = 1.0f / static_cast<float>(1 + dx * dx + dy * dy);
    }
  shape.padded = 32;
  for (int d = 0; d < 256; ++d) shape.likeness[d] = std::exp(-0.001f * static_cast<float>(d * d));
  CounterRandom random(2);
  ViewRow views;
  views.count = 11;
  for (int v = 0; v < views.count; ++v) {
    const auto k = static_cast<std::size_t>(v);
    for (auto& row : views.turn) row[k] = static_cast<float>(random.uniform(-0.2, 0.2));
    views.turn[0][k] += 40, views.turn[4][k] += 40, views.turn[8][k] += 1;
    for (int r = 0; r < 3; ++r) {
      views.turn_x[r][k] = views.turn[3 * r][k] / 40, views.turn_y[r][k] = views.turn[3 * r + 1][k] / 40;
      views.shift[r][k] = static_cast<float>(random.uniform(-5, 5)) * (r == 2 ? 0.3f : 4.0f);
    }
    views.images[k] = v % 2 == 0 ? &quads : &other;
    views.right[k] = static_cast<float>(views.images[k]->width) - 1.5f, views.bottom[k] = static_cast<float>(views.images[k]->height) - 1.5f;
  }
  const DenseKernel plain = plain_dense_kernel();
  int inside = 0, outside = 0;
  for (const std::string& level : available_instruction_levels()) {
    pin_instruction_level(level);
    const DenseKernel kernel = best_dense_kernel();
    EXPECT_EQ(kernel.gather(reinterpret_cast<const std::int32_t*>(quads.quads.data()) + 300, shape.step), plain.gather(reinterpret_cast<const std::int32_t*>(quads.quads.data()) + 300, shape.step)) << level;
    for (int k = 0; k < 200; ++k) {
      PatchReference a, b;
      const int x = static_cast<int>(random.below(70)), y = static_cast<int>(random.below(50));   // the border as well
      kernel.reference(shape, quads, x, y, a);
      plain.reference(shape, quads, x, y, b);
      for (int i = 0; i < shape.padded; ++i) {
        ASSERT_NEAR(a.weight[i], b.weight[i], 1e-5) << level;
        ASSERT_NEAR(a.centred[i], b.centred[i], 1e-3) << level;
      }
      ASSERT_NEAR(a.variance, b.variance, 1e-4 * b.variance + 1e-3) << level;

      PlaneWarps v, w;
      const auto dx = static_cast<float>(random.uniform(0.2, 1.5)), dy = static_cast<float>(random.uniform(0.2, 1));
      kernel.turn(views, dx, dy, v), plain.turn(views, dx, dy, w);
      const auto depth = static_cast<float>(random.uniform(0.05, 0.8)), slant_x = static_cast<float>(random.uniform(-0.01, 0.01)), slant_y = static_cast<float>(random.uniform(-0.01, 0.01));
      kernel.warp(views, depth, slant_x, slant_y, 3, v), plain.warp(views, depth, slant_x, slant_y, 3, w);
      for (int i = 0; i < views.count; ++i) {
        ASSERT_EQ(v.slot[i], w.slot[i]) << level;
        ++(w.slot[i] == kMaxViews ? outside : inside);
        if (w.slot[i] == kMaxViews) continue;
        ASSERT_NEAR(v.x[i], w.x[i], 1e-3);
        ASSERT_NEAR(v.y[i], w.y[i], 1e-3);
        for (const auto& [got, want] : {std::pair(v.xx[i], w.xx[i]), std::pair(v.xy[i], w.xy[i]), std::pair(v.yx[i], w.yx[i]), std::pair(v.yy[i], w.yy[i])}) ASSERT_NEAR(got, want, 1e-4);
      }
    }
  }
  EXPECT_GT(inside, 100);
  EXPECT_GT(outside, 100);
}

TEST(PatchCost, IsZeroOnItselfWhateverTheLight) {
  const ImageU8 image = noise_image(60, 60);
  ImageU8 darker = image;
  for (auto& v : darker.data()) v = static_cast<std::uint8_t>(v / 2 + 30);
  const PatchReference patch = patch_of(image, 30, 30, 3);
  const PatchWarp same{30, 30, 1, 0, 0, 1};
  const DenseKernel kernel = best_dense_kernel();
  EXPECT_NEAR(cost_of(kernel, patch, QuadImage(image), same), 0, 1e-4);
  EXPECT_NEAR(cost_of(kernel, patch, QuadImage(darker), same), 0, 1e-3);
  EXPECT_GT(cost_of(kernel, patch, QuadImage(image), {33, 30, 1, 0, 0, 1}), 0.5);
}

TEST(PatchCost, FlatOrOutsideIsBad) {
  const ImageU8 image = noise_image(60, 60);
  const PatchReference patch = patch_of(image, 30, 30, 3);
  const DenseKernel kernel = best_dense_kernel();
  EXPECT_EQ(cost_of(kernel, patch, QuadImage(ImageU8(60, 60, 1, 100)), {30, 30, 1, 0, 0, 1}), 2);
  for (const float outside : {-5.0f, 1.0f, 57.0f, 1e9f, NAN}) EXPECT_EQ(cost_of(kernel, patch, QuadImage(image), {outside, 30, 1, 0, 0, 1}), 2) << outside;
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
