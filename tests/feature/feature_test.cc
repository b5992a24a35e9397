#include "icefield/feature/feature.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <cmath>
#include <cstring>

#include "icefield/match/match.h"
#include "icefield/photo/filter.h"
#include "src/feature/kinds.h"
#include "tests/tools/textured.h"

namespace icefield {
namespace {

using test::textured;

// Share of the matches of two such images that are right to within 2 px.
double right_share(const Features& a, const Features& b, double angle, double scale, std::size_t& count) {
  const auto matches = match_descriptors(a, b);
  std::size_t right = 0;
  for (const Match& m : matches) {
    const Keypoint &p = a.keypoints[m.first.value], &q = b.keypoints[m.second.value];
    const double u = p.x - 200, v = p.y - 150;
    const double x = scale * (std::cos(angle) * u - std::sin(angle) * v) + 200,
                 y = scale * (std::sin(angle) * u + std::cos(angle) * v) + 150;
    right += std::hypot(x - q.x, y - q.y) < 2.0;
  }
  count = matches.size();
  return matches.empty() ? 0 : static_cast<double>(right) / static_cast<double>(matches.size());
}

TEST(FindFeatures, StopsOnRequest) {
  struct Stopped : Monitor {
    bool cancelled() const override { return true; }
  } monitor;
  try {
    find_features(textured(400, 300), {}, nullptr, Executor(2), monitor);
    FAIL() << "not stopped";
  } catch (const Error& e) {
    EXPECT_EQ(e.kind(), ErrorKind::interrupted);
  }
}

TEST(FindFeatures, SurvivesRotationScaleAndLight) {
  const Features reference = find_features(textured(400, 300));
  ASSERT_GT(reference.size(), 300u);
  std::size_t count = 0;
  for (const double degrees : {20.0, 90.0, 200.0}) {
    const double angle = degrees * 3.14159265 / 180;
    EXPECT_GT(right_share(reference, find_features(textured(400, 300, angle)), angle, 1, count), 0.9) << degrees;
    EXPECT_GT(count, 100u);
  }
  for (const double scale : {0.7, 1.5}) {
    EXPECT_GT(right_share(reference, find_features(textured(400, 300, 0, scale)), 0, scale, count), 0.85) << scale;
    EXPECT_GT(count, 60u) << scale;
  }
  EXPECT_GT(right_share(reference, find_features(textured(400, 300, 0, 1, 0.5)), 0, 1, count), 0.95);
  EXPECT_GT(count, 100u);
}

TEST(FindFeatures, IsAccurateToAFractionOfAPixel) {
  // The same texture moved by a quarter of a turn has its keypoints at exactly the turned places.
  const double angle = 3.14159265358979 / 2;
  const Features a = find_features(textured(300, 300)), b = find_features(textured(300, 300, angle));
  double sum2 = 0;
  int count = 0;
  for (const Match& m : match_descriptors(a, b)) {
    const Keypoint &p = a.keypoints[m.first.value], &q = b.keypoints[m.second.value];
    const double dx = -(p.y - 150) + 150 - q.x, dy = (p.x - 150) + 150 - q.y;
    if (std::hypot(dx, dy) > 2) continue;
    sum2 += dx * dx + dy * dy;
    ++count;
  }
  ASSERT_GT(count, 100);
  EXPECT_LT(std::sqrt(sum2 / count), 0.15);
}

TEST(FindFeatures, DoubledFindsMoreAtTheSamePlaces) {
  FeatureOptions options;
  options.double_below_megapixels = 0;
  const Features one = find_features(textured(400, 300), options), two = find_features(textured(400, 300));
  EXPECT_GT(two.size(), one.size());
  std::size_t count = 0;
  EXPECT_GT(right_share(one, two, 0, 1, count), 0.95);
}

TEST(FindFeatures, SpreadsItsBudget) {
  // The left half has ten times the contrast; the right half still gets its part.
  ImageF image = textured(400, 300);
  for (int y = 0; y < 300; ++y)
    for (int x = 200; x < 400; ++x) image.at(x, y) = 0.45f + 0.3f * (image.at(x, y) - 0.45f);
  FeatureOptions options;
  options.max_features = 200;
  options.min_contrast = 0.004f;
  const Features features = find_features(image, options);
  EXPECT_EQ(features.size(), 200u);
  std::size_t right = 0;
  for (const Keypoint& k : features.keypoints) right += k.x > 200;
  EXPECT_GT(right, 60u);
}

TEST(FindFeatures, DoesNotDependOnThreads) {
  const ImageF image = textured(333, 257);
  const Features one = find_features(image), two = find_features(image, {}, nullptr, Executor(2)),
                 seven = find_features(image, {}, nullptr, Executor(7));
  EXPECT_EQ(one.descriptors, two.descriptors);
  EXPECT_EQ(one.descriptors, seven.descriptors);
  for (std::size_t i = 0; i < one.size(); ++i)
    ASSERT_TRUE(one.keypoints[i].x == seven.keypoints[i].x && one.keypoints[i].angle == seven.keypoints[i].angle);
}

TEST(FindFeatures, TheSameWhetherTheScaleSpaceIsKeptOrMadeTwice) {
  const ImageF image = textured(330, 250);
  for (const int budget : {100, 3000}) {
    FeatureOptions options;
    options.max_features = budget;
    const Features kept = find_gaussian_features(image, options, nullptr, Executor(1), 1e12),
                   twice = find_gaussian_features(image, options, nullptr, Executor(2), 0);
    ASSERT_EQ(kept.size(), twice.size());
    EXPECT_EQ(std::memcmp(kept.keypoints.data(), twice.keypoints.data(), kept.size() * sizeof(Keypoint)), 0);
    EXPECT_EQ(kept.descriptors, twice.descriptors);
  }
}

TEST(FindFeatures, KeepsOffMaskedPixels) {
  const ImageF image = textured(400, 300);
  ImageU8 mask(400, 300, 1, 255);
  for (int y = 100; y < 200; ++y)
    for (int x = 50; x < 250; ++x) mask.at(x, y) = 0;
  const Features all = find_features(image), masked = find_features(image, {}, &mask);
  const auto inside = [](const Keypoint& k) { return k.x > 48 && k.x < 252 && k.y > 98 && k.y < 202; };
  EXPECT_GT(std::count_if(all.keypoints.begin(), all.keypoints.end(), inside), 50);
  EXPECT_EQ(std::count_if(masked.keypoints.begin(), masked.keypoints.end(), inside), 0);
  EXPECT_GT(masked.size(), all.size() / 2);
}

TEST(FindFeatures, FollowsDimAndFlatPhotos) {
  // A photo that uses the range of brightness just so that the least contrast holds for it as it stands, and one with a
  // sixth of that contrast: without adaptation most of its features are lost.
  ImageF full = textured(400, 300);
  while (contrast_factor(full, {}) < 1)
    for (float& v : full.data()) v = 0.45f + 1.01f * (v - 0.45f);
  ImageF dim = full;
  for (float& v : dim.data()) v = 0.1f + v / 6;
  FeatureOptions fixed;
  fixed.adapt_contrast = false;
  const Features reference = find_features(full), lost = find_features(dim, fixed), kept = find_features(dim);
  EXPECT_LT(3 * lost.size(), reference.size());
  EXPECT_GT(kept.size(), reference.size() * 90 / 100);
  std::size_t count = 0;
  EXPECT_GT(right_share(reference, kept, 0, 1, count), 0.98);
  EXPECT_GT(count, reference.size() * 90 / 100);
}

TEST(FindFeatures, UprightMatchesPhotosThatAreHeldAlike) {
  FeatureOptions upright;
  upright.upright = true;
  const Features a = find_features(textured(400, 300), upright),
                 b = find_features(textured(400, 300, 0.06, 1.1), upright);
  for (const Keypoint& k : a.keypoints) ASSERT_EQ(k.angle, 0);
  std::size_t count = 0, turned = 0;
  EXPECT_GT(right_share(a, b, 0.06, 1.1, count), 0.95);
  right_share(a, find_features(textured(400, 300, 1.5), upright), 1.5, 1, turned);
  EXPECT_GT(count, 20 * std::max<std::size_t>(turned, 1));  // upside down or sideways it is blind
}

TEST(FindFeatures, APlainWallHasNone) {
  EXPECT_EQ(find_features(ImageF(300, 200, 1, 0.5f)).size(), 0u);
  EXPECT_EQ(find_features(ImageF(8, 8, 1, 0.5f)).size(), 0u);
}

TEST(FindFeatures, DescriptorsFitBytesAndHaveLikeNorms) {
  const Features features = find_features(textured(300, 200));
  for (std::size_t i = 0; i < features.size(); ++i) {
    int sum2 = 0;
    for (int k = 0; k < kDescriptorSize; ++k) {
      const int v = features.descriptors[i * kDescriptorSize + k];
      ASSERT_LE(v, 127);
      sum2 += v * v;
    }
    EXPECT_NEAR(std::sqrt(sum2), 420, 25);
  }
}

}  // namespace
}  // namespace icefield
