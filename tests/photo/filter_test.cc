#include "icefield/photo/filter.h"

#include <gtest/gtest.h>

#include <cmath>

#include "icefield/base/random.h"

namespace icefield {
namespace {

ImageF random_image(int width, int height) {
  ImageF image(width, height);
  CounterRandom random(1);
  for (float& v : image.data()) v = random.uniformf();
  return image;
}

TEST(GaussianBlur, AgreesWithTheDefinition) {
  const ImageF image = random_image(31, 23);
  const float sigma = 1.3f;
  const ImageF blurred = gaussian_blur(image, sigma);
  const auto mirror = [](int i, int n) { return i < 0 ? -1 - i : i >= n ? 2 * n - 1 - i : i; };
  for (int y = 0; y < 23; y += 5)
    for (int x = 0; x < 31; x += 5) {
      double sum = 0, weights = 0;
      for (int dy = -6; dy <= 6; ++dy)
        for (int dx = -6; dx <= 6; ++dx) {
          const double w = std::exp(-0.5 * (dx * dx + dy * dy) / (sigma * sigma));
          sum += w * image.at(mirror(x + dx, 31), mirror(y + dy, 23));
          weights += w;
        }
      EXPECT_NEAR(blurred.at(x, y), sum / weights, 2e-5);
    }
}

TEST(Shrink, MeansOfBlocks) {
  ImageU8 image(5, 4, 3);
  for (int y = 0; y < 4; ++y)
    for (int x = 0; x < 5; ++x)
      for (int c = 0; c < 3; ++c) image.at(x, y, c) = static_cast<std::uint8_t>(10 * x + 40 * y + c);
  const ImageU8 half = shrink(image, 2);
  EXPECT_EQ(half.width(), 2);
  EXPECT_EQ(half.height(), 2);
  EXPECT_EQ(half.at(0, 0, 0), 25);   // 0 10 40 50
  EXPECT_EQ(half.at(1, 1, 2), 127);  // 100 110 140 150, + 2
}

TEST(SampleBilinear, PixelMiddlesAreAtHalves) {
  const ImageF image = random_image(8, 6);
  EXPECT_FLOAT_EQ(sample_bilinear(image, 3.5f, 2.5f), image.at(3, 2));
  EXPECT_FLOAT_EQ(sample_bilinear(image, 4.0f, 2.5f), 0.5f * (image.at(3, 2) + image.at(4, 2)));
  EXPECT_FLOAT_EQ(sample_bilinear(image, -9, -9), image.at(0, 0));
}

TEST(ScorePhoto, BlurLowersSharpness) {
  const ImageF sharp = random_image(200, 150);
  float before = score_photo(gaussian_blur(sharp, 0.6f)).sharpness;
  for (const float sigma : {1.2f, 2.4f, 4.8f}) {
    const float now = score_photo(gaussian_blur(sharp, sigma)).sharpness;
    EXPECT_LT(now, before);
    before = now;
  }
}

TEST(ScorePhoto, ExposureIsCounted) {
  ImageF image(10, 10, 1, 0.5f);
  for (int x = 0; x < 10; ++x) image.at(x, 0) = 0.0f, image.at(x, 1) = image.at(x, 2) = 1.0f;
  const PhotoScores s = score_photo(image);
  EXPECT_NEAR(s.dark_share, 0.1, 1e-6);
  EXPECT_NEAR(s.bright_share, 0.2, 1e-6);
  EXPECT_NEAR(s.mean_brightness, 0.55, 1e-6);
}

}  // namespace
}  // namespace icefield
