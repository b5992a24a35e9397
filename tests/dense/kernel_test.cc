#include <gtest/gtest.h>

#include <array>
#include <cmath>
#include <limits>
#include <span>
#include <vector>

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
      patch.offset_x[n] = static_cast<float>(kSubpixels * dx), patch.offset_y[n] = static_cast<float>(kSubpixels * dy);
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

// The costs of warps in one image, as many at once as there are.
std::vector<float> costs_of(const DenseKernel& kernel, const PatchReference& patch, const QuadImage& image,
                            std::span<const PatchWarp> list) {
  std::array<const QuadImage*, kMaxWarps> images;
  images.fill(&image);
  PlaneWarps warps;
  std::vector<std::uint8_t> which;
  for (const PatchWarp& warp : list) {
    const auto k = which.size();
    warps.x[k] = warp.x, warps.y[k] = warp.y, warps.xx[k] = warp.xx, warps.xy[k] = warp.xy, warps.yx[k] = warp.yx,
    warps.yy[k] = warp.yy;
    warps.slot[k] = warp_inside(warp, patch.reach, image.width, image.height) ? static_cast<int>(k) : kMaxWarps;
    which.push_back(static_cast<std::uint8_t>(k));
  }
  std::vector<float> costs(list.size(), -1);
  kernel.costs(patch, images.data(), warps, which.data(), static_cast<int>(which.size()), costs.data());
  return costs;
}
float cost_of(const DenseKernel& kernel, const PatchReference& patch, const QuadImage& image, const PatchWarp& warp) {
  return costs_of(kernel, patch, image, {&warp, 1})[0];
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
      std::size_t apart = 0, looked_at = 0;
      for (int k = 0; k < 500; ++k) {
        std::vector<PatchWarp> warps(1 + random.below(kMaxWarps));
        for (PatchWarp& warp : warps)
          warp = {static_cast<float>(random.uniform(-3, 123)),   static_cast<float>(random.uniform(-3, 93)),
                  static_cast<float>(random.uniform(0.6, 1.4)),  static_cast<float>(random.uniform(-0.4, 0.4)),
                  static_cast<float>(random.uniform(-0.4, 0.4)), static_cast<float>(random.uniform(0.6, 1.4))};
        const auto fast = costs_of(kernel, patch, quads, warps), slow = costs_of(plain, patch, quads, warps);
        for (std::size_t i = 0; i < warps.size(); ++i) {
          // A place that rounding moves over the edge of a part of a pixel is off by one part; on noise that is seen.
          ASSERT_NEAR(fast[i], slow[i], 5e-3) << level;
          apart += std::abs(fast[i] - slow[i]) > 2e-5, ++looked_at;
          // Alone or among others, the same bits.
          ASSERT_EQ(fast[i], cost_of(kernel, patch, quads, warps[i])) << level;
        }
      }
      EXPECT_LT(static_cast<double>(apart), 0.02 * static_cast<double>(looked_at)) << level << " radius " << radius;
    }
  }
}

TEST(DenseKernel, CuttingPlacesCostsNextToNothing) {
  // A smooth picture, as photos are at the scale of a pixel; the patch's own place and others nearby.
  ImageU8 image(120, 90);
  for (int y = 0; y < 90; ++y)
    for (int x = 0; x < 120; ++x)
      image.at(x, y) =
          static_cast<std::uint8_t>(128 + 60 * std::sin(0.7 * x + 0.2 * y) + 50 * std::sin(0.9 * y - 0.3 * x));
  const QuadImage quads(image);
  const PatchReference patch = patch_of(image, 40, 40, 3);
  CounterRandom random(8);
  double shift = 0, worst = 0;
  for (int k = 0; k < 2000; ++k) {
    const PatchWarp warp{static_cast<float>(random.uniform(38, 42)),    static_cast<float>(random.uniform(38, 42)),
                         static_cast<float>(random.uniform(0.8, 1.2)),  static_cast<float>(random.uniform(-0.2, 0.2)),
                         static_cast<float>(random.uniform(-0.2, 0.2)), static_cast<float>(random.uniform(0.8, 1.2))};
    const double off = cost_of(best_dense_kernel(), patch, quads, warp) - patch_cost_plain(patch, quads, warp, false);
    shift += off / 2000, worst = std::max(worst, std::abs(off));
  }
  EXPECT_LT(std::abs(shift), 1e-4);
  EXPECT_LT(worst, 5e-3);
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
    views.right[k] = static_cast<float>(views.images[k]->width) - 1.5f,
    views.bottom[k] = static_cast<float>(views.images[k]->height) - 1.5f;
  }
  const DenseKernel plain = plain_dense_kernel();
  int inside = 0, outside = 0;
  for (const std::string& level : available_instruction_levels()) {
    pin_instruction_level(level);
    const DenseKernel kernel = best_dense_kernel();
    EXPECT_EQ(kernel.gather(reinterpret_cast<const std::int32_t*>(quads.quads.data()) + 300, shape.step),
              plain.gather(reinterpret_cast<const std::int32_t*>(quads.quads.data()) + 300, shape.step))
        << level;
    for (int k = 0; k < 200; ++k) {
      PatchReference a, b;
      const int x = static_cast<int>(random.below(70)), y = static_cast<int>(random.below(50));  // the border as well
      kernel.reference(shape, quads, x, y, a);
      plain.reference(shape, quads, x, y, b);
      for (int i = 0; i < shape.padded; ++i) {
        ASSERT_NEAR(a.weight[i], b.weight[i], 1e-5) << level;
        ASSERT_NEAR(a.centred[i], b.centred[i], 1e-3) << level;
      }
      ASSERT_NEAR(a.variance, b.variance, 1e-4 * b.variance + 1e-3) << level;

      PixelTurns t, u;
      const auto dx = static_cast<float>(random.uniform(0.2, 1.5)), dy = static_cast<float>(random.uniform(0.2, 1));
      kernel.turn(views, dx, dy, t), plain.turn(views, dx, dy, u);
      PlaneList planes;
      for (int i = 0; i < kMaxPlanes; ++i)
        planes.inverse[i] = static_cast<float>(random.uniform(0.05, 0.8)),
        planes.slant_x[i] = static_cast<float>(random.uniform(-0.01, 0.01)),
        planes.slant_y[i] = static_cast<float>(random.uniform(-0.01, 0.01));
      const auto compare = [&](const PlaneWarps& v, const PlaneWarps& w, int count) {
        for (int i = 0; i < count; ++i) {
          ASSERT_EQ(v.slot[i], w.slot[i]) << level;
          ++(w.slot[i] == kMaxWarps ? outside : inside);
          if (w.slot[i] == kMaxWarps) continue;
          ASSERT_NEAR(v.x[i], w.x[i], 1e-3);
          ASSERT_NEAR(v.y[i], w.y[i], 1e-3);
          for (const auto& [got, want] : {std::pair(v.xx[i], w.xx[i]), std::pair(v.xy[i], w.xy[i]),
                                          std::pair(v.yx[i], w.yx[i]), std::pair(v.yy[i], w.yy[i])})
            ASSERT_NEAR(got, want, 1e-4);
        }
      };
      PlaneWarps v, w;
      kernel.warp_views(views, t, planes, 3, v), plain.warp_views(views, u, planes, 3, w);
      compare(v, w, views.count);
      const int view = static_cast<int>(random.below(11)), count = 1 + static_cast<int>(random.below(kMaxPlanes));
      kernel.warp_planes(views, t, view, planes, count, 3, v), plain.warp_planes(views, u, view, planes, count, 3, w);
      compare(v, w, count);
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
  for (const float outside : {-5.0f, 1.0f, 57.0f, 1e9f, NAN})
    EXPECT_EQ(cost_of(kernel, patch, QuadImage(image), {outside, 30, 1, 0, 0, 1}), kUnseenCost) << outside;
}

TEST(PixelAt, PlacesFarOutsideAreOutside) {
  int x = -1, y = -1;
  EXPECT_TRUE(pixel_at(0, 0, 10, 8, x, y));
  EXPECT_TRUE(pixel_at(9.4f, 6.6f, 10, 8, x, y));
  EXPECT_EQ(x, 9);
  EXPECT_EQ(y, 7);
  constexpr float kInfinity = std::numeric_limits<float>::infinity();
  for (const float bad :
       {9.6f, -0.1f, 3e9f, 1e30f, -1e30f, kInfinity, -kInfinity, std::numeric_limits<float>::quiet_NaN()}) {
    EXPECT_FALSE(pixel_at(bad, 3, 10, 8, x, y)) << bad;
    EXPECT_FALSE(pixel_at(3, bad, 10, 8, x, y)) << bad;
  }
}

}  // namespace
}  // namespace icefield
