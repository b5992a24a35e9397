// Features of the non-linear scale space and the matching of binary descriptors.
#include <gtest/gtest.h>

#include <algorithm>
#include <cmath>

#include "icefield/base/error.h"
#include "icefield/base/instructions.h"
#include "icefield/base/random.h"
#include "icefield/feature/feature.h"
#include "icefield/match/match.h"
#include "src/match/bit_distances.h"
#include "tests/tools/textured.h"

namespace icefield {
namespace {

using test::textured;

FeatureOptions nonlinear() {
  FeatureOptions options;
  options.gaussian = false;
  options.nonlinear = true;
  return options;
}

TEST(NonlinearFeatures, SurviveRotationAndScale) {
  const Features reference = find_features(textured(400, 300), nonlinear());
  ASSERT_GT(reference.size(), 150u);
  EXPECT_EQ(reference.binary_size(), reference.size());
  EXPECT_EQ(reference.gradient_size(), 0u);
  for (const auto& [degrees, scale] :
       {std::pair{20.0, 1.0}, std::pair{90.0, 1.0}, std::pair{200.0, 1.0}, std::pair{0.0, 1.4}, std::pair{0.0, 0.7}}) {
    const double angle = degrees * 3.14159265 / 180;
    const Features turned = find_features(textured(400, 300, angle, scale), nonlinear());
    const std::vector<Match> matches = match_descriptors(reference, turned);
    std::size_t right = 0;
    for (const Match& m : matches) {
      const Keypoint &p = reference.keypoints[m.first.value], &q = turned.keypoints[m.second.value];
      const double u = p.x - 200, v = p.y - 150;
      right += std::hypot(scale * (std::cos(angle) * u - std::sin(angle) * v) + 200 - q.x,
                          scale * (std::sin(angle) * u + std::cos(angle) * v) + 150 - q.y) <
               std::max(3.0f, q.scale);  // coarse ones to their own blur
    }
    EXPECT_GT(matches.size(), 50u) << degrees << ' ' << scale;
    EXPECT_GT(static_cast<double>(right), 0.85 * static_cast<double>(matches.size())) << degrees << ' ' << scale;
  }
}

TEST(NonlinearFeatures, BothKindsTogetherAndEachByItself) {
  const ImageF image = textured(300, 200);
  FeatureOptions both;
  both.nonlinear = true;
  const Features two = find_features(image, both), one = find_features(image, {}),
                 other = find_features(image, nonlinear());
  EXPECT_EQ(two.gradient_size(), one.size());
  EXPECT_EQ(two.binary_size(), other.size());
  EXPECT_EQ(two.size(), one.size() + other.size());
  EXPECT_EQ(two.bits, other.bits);
  // Matches stay within their kind.
  for (const Match& m : match_descriptors(two, two)) EXPECT_EQ(m.first, m.second);
  FeatureOptions none;
  none.gaussian = false;
  EXPECT_THROW(find_features(image, none), Error);
}

TEST(NonlinearFeatures, ThreadsAndMasksAndLimits) {
  const ImageF image = textured(300, 200);
  const Features one = find_features(image, nonlinear(), nullptr, Executor(1)),
                 three = find_features(image, nonlinear(), nullptr, Executor(3));
  EXPECT_EQ(one.bits, three.bits);
  ASSERT_EQ(one.size(), three.size());
  for (std::size_t i = 0; i < one.size(); ++i) EXPECT_EQ(one.keypoints[i].x, three.keypoints[i].x);
  ImageU8 mask(300, 200, 1, std::uint8_t{255});
  for (int y = 0; y < 200; ++y)
    for (int x = 0; x < 150; ++x) mask.at(x, y) = 0;
  const Features masked = find_features(image, nonlinear(), &mask);
  EXPECT_GT(masked.size(), 20u);
  for (const Keypoint& k : masked.keypoints) EXPECT_GT(k.x, 150 + 2);
  FeatureOptions few = nonlinear();
  few.max_features = 40;
  EXPECT_LE(find_features(image, few).size(), 40u);
  EXPECT_EQ(find_features(ImageF(30, 30), nonlinear()).size(), 0u);
  EXPECT_EQ(find_features(ImageF(200, 200, 1, 0.5f), nonlinear()).size(), 0u);  // a plain wall
}

TEST(NonlinearFeatures, WeakTextureGivesFeaturesToo) {
  const Features strong = find_features(textured(300, 200), nonlinear()),
                 weak = find_features(textured(300, 200, 0, 1, 1, 0.06), nonlinear());
  EXPECT_GT(weak.size(), strong.size() / 2);
}

TEST(BitDistances, AllFormsGiveTheSameIntegers) {
  CounterRandom random(3);
  constexpr std::size_t kGroups = 5;
  std::vector<std::uint64_t> row(kBitWords), groups(kGroups * kBitGroup * kBitWords);
  for (auto& w : row) w = random.bits();
  for (auto& w : groups) w = random.bits();
  for (std::size_t w = 0; w < kBitWords; ++w) groups[w * kBitGroup + 2] = row[w], groups[w * kBitGroup + 3] = ~row[w];
  std::vector<std::uint32_t> plain(kGroups * kBitGroup), best(kGroups * kBitGroup);
  bit_distances_plain(row.data(), groups.data(), kGroups, plain.data());
  EXPECT_EQ(plain[2], 0u);
  EXPECT_EQ(plain[3], 512u);
  for (const std::string& level : available_instruction_levels()) {
    pin_instruction_level(level);
    best_bit_distances()(row.data(), groups.data(), kGroups, best.data());
    EXPECT_EQ(plain, best) << level;
  }
}

TEST(MatchDescriptors, BinaryOnesAgreeWithSearchingAll) {
  CounterRandom random(9);
  Features a, b;
  for (Features* f : {&a, &b}) f->keypoints.resize(f == &a ? 90 : 103);
  for (std::size_t i = 0; i < 90 * kBitWords; ++i) a.bits.push_back(random.bits());
  b.bits = a.bits;
  for (auto& w : b.bits) w ^= random.bits() & random.bits() & random.bits();  // an eighth of the bits
  for (std::size_t i = 0; i < 13 * kBitWords; ++i) b.bits.push_back(random.bits());
  const auto matches = match_descriptors(a, b);
  ASSERT_EQ(matches.size(), 90u);
  for (const Match& m : matches) {
    EXPECT_EQ(m.first, m.second);
    EXPECT_LT(m.ratio, 0.6f);
  }
}

}  // namespace
}  // namespace icefield
