#include "simulate/pairs.h"

#include <gtest/gtest.h>

#include <Eigen/LU>
#include <cmath>
#include <numeric>

#include "icefield/base/random.h"
#include "simulate/plan.h"
#include "tests/tools/scenes.h"

namespace icefield::simulate {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector2d;

ImageU8 random_picture(int width, int height, int channels) {
  CounterRandom random(3);
  ImageU8 picture(width, height, channels);
  for (auto& v : picture.values()) v = static_cast<std::uint8_t>(random.below(256));
  return picture;
}

Matrix3d shifted(double x, double y) {
  return (Matrix3d() << 1, 0, x, 0, 1, y, 0, 0, 1).finished();
}

double mean(const ImageU8& image) {
  return std::accumulate(image.values().begin(), image.values().end(), 0.0) /
         static_cast<double>(image.values().size());
}

TEST(Warp, ByWholePixelsMovesThePixels) {
  // Smooth along the rows, so that what is sampled within a pixel is what the pixel holds.
  ImageU8 picture(40, 30, 3);
  for (int y = 0; y < 30; ++y)
    for (int x = 0; x < 40; ++x)
      for (int c = 0; c < 3; ++c) picture.at(x, y, c) = static_cast<std::uint8_t>(4 * x + 2 * y + 10 * c);
  const ImageU8 moved = warp(picture, shifted(5, 3), 40, 30, Executor(2));
  for (int y = 5; y < 28; ++y)
    for (int x = 7; x < 38; ++x)
      for (int c = 0; c < 3; ++c) EXPECT_NEAR(moved.at(x, y, c), picture.at(x - 5, y - 3, c), 1);
}

TEST(Warp, ReducesWithoutAliases) {
  // Pure noise reduced by four is the mean of 16 pixels: a quarter of the standard deviation, where picked pixels keep
  // all of it.
  const ImageU8 picture = random_picture(400, 400, 1),
                small = warp(picture, Eigen::Vector3d(0.25, 0.25, 1).asDiagonal(), 100, 100, Executor(2));
  const auto deviation = [](const ImageU8& image) {
    const double middle = mean(image);
    double sum = 0;
    for (const auto v : image.values()) sum += (v - middle) * (v - middle);
    return std::sqrt(sum / static_cast<double>(image.values().size()));
  };
  EXPECT_NEAR(mean(small), mean(picture), 1);
  EXPECT_LT(deviation(small), 0.3 * deviation(picture));
}

TEST(Mapping, OfAPlaneSaysPlaceAndScale) {
  Matrix3d h = shifted(10, -4) * Matrix3d(Eigen::Vector3d(2, 2, 1).asDiagonal());
  const TrueMapping mapping = planar_mapping(h, 100, 80);
  const auto there = mapping({20, 30});
  ASSERT_TRUE(there);
  EXPECT_NEAR((there->place - Vector2d(50, 56)).norm(), 0, 1e-9);
  EXPECT_NEAR(there->scale, 2, 1e-9);
  EXPECT_FALSE(mapping({20, 1}));   // above the second photo
  EXPECT_FALSE(mapping({60, 30}));  // to the right of it
}

TEST(Mapping, OfASceneFollowsTheSurface) {
  const PlanOptions plan = test::small_cairn();
  const Scene scene(plan.scene);
  const auto photos = plan_photos(plan);
  const Shot &a = photos[0].shot, &b = photos[1].shot;
  const ImageF depth_a = true_maps(scene, a.camera, a.pose, Executor(2)).depth,
               depth_b = true_maps(scene, b.camera, b.pose, Executor(2)).depth;
  const TrueMapping self = scene_mapping(a, depth_a, a, depth_a), there = scene_mapping(a, depth_a, b, depth_b),
                    back = scene_mapping(b, depth_b, a, depth_a);
  int both = 0, hidden = 0, returned = 0;
  for (int y = 4; y < a.camera.height; y += 7)
    for (int x = 4; x < a.camera.width; x += 7) {
      const Vector2d p(x + 0.5, y + 0.5);
      if (!(depth_a.at(x, y) > 0)) continue;
      const auto same = self(p);
      ASSERT_TRUE(same);
      EXPECT_NEAR((same->place - p).norm(), 0, 1e-3);
      EXPECT_NEAR(same->scale, 1, 1e-5);
      const auto other = there(p);
      hidden += !other;
      if (!other) continue;
      const auto home = back(other->place);
      both += home.has_value();
      returned += home && (home->place - p).norm() < 1.5;
    }
  EXPECT_GT(both, 100);
  EXPECT_GT(hidden, 10);
  EXPECT_GT(returned, 0.9 * both);
}

TEST(Faults, DoWhatTheySay) {
  ImageU8 grey(60, 60, 1, 100);
  // A stop doubles the linear light; from -1 and back up one grey level may be lost.
  const double linear = std::pow((100 / 255.0 + 0.055) / 1.055, 2.4),
               doubled = 255 * (1.055 * std::pow(2 * linear, 1 / 2.4) - 0.055);
  EXPECT_NEAR(exposed(grey, 1).at(0, 0), doubled, 1);
  EXPECT_NEAR(exposed(exposed(grey, -1), 1).at(0, 0), 100, 1);
  EXPECT_EQ(exposed(grey, 9).at(0, 0), 255);
  const ImageU8 noisy = with_noise(grey, 8, 1);
  double sum2 = 0;
  for (const auto v : noisy.values()) sum2 += (v - 100.0) * (v - 100.0);
  EXPECT_NEAR(std::sqrt(sum2 / 3600), 8, 0.5);
  EXPECT_EQ(noisy.values(), with_noise(grey, 8, 1).values());
  EXPECT_NE(noisy.values(), with_noise(grey, 8, 2).values());
  const ImageU8 soft = blurred(noisy, 2);
  double after = 0;
  for (const auto v : soft.values()) after += (v - 100.0) * (v - 100.0);
  EXPECT_LT(std::sqrt(after / 3600), 2);
  EXPECT_NEAR(mean(soft), mean(noisy), 0.5);
}

TEST(Clouds, TakeTheSunAndLeaveTheSurface) {
  PlanOptions plan = test::small_cairn();
  plan.width = 160, plan.height = 107;
  const Scene sunny(plan.scene);
  plan.scene.clouds = 0.9;
  const Scene dull(plan.scene);
  const Shot shot = plan_photos(plan)[3].shot;
  EXPECT_EQ(true_maps(sunny, shot.camera, shot.pose, Executor(2)).depth.values(),
            true_maps(dull, shot.camera, shot.pose, Executor(2)).depth.values());
  EXPECT_NE(render(sunny, shot, {}, Executor(2)).values(), render(dull, shot, {}, Executor(2)).values());
  EXPECT_LT(dull.light().sun_colour.norm(), 0.11f * sunny.light().sun_colour.norm());
}

}  // namespace
}  // namespace icefield::simulate
