// What features have to stand: pairs with known truth. The bounds are a little under what was measured; the whole table
// is made by bench/feature_study.
#include <gtest/gtest.h>

#include <Eigen/Dense>
#include <numbers>

#include "icefield/match/match.h"
#include "icefield/photo/filter.h"
#include "simulate/pairs.h"
#include "tests/tools/textured.h"

namespace icefield {
namespace {

using Eigen::Matrix3d;
constexpr int kWidth = 420, kHeight = 280;

const ImageU8& picture() {
  static const ImageU8 made = [] {
    const ImageF texture = test::textured(1260, 840);
    ImageU8 bytes(texture.width(), texture.height());
    for (std::size_t i = 0; i < bytes.pixels(); ++i)
      bytes.values()[i] = static_cast<std::uint8_t>(std::lround(255 * texture.values()[i]));
    return bytes;
  }();
  return made;
}

Matrix3d shift(double x, double y) {
  return (Matrix3d() << 1, 0, x, 0, 1, y, 0, 0, 1).finished();
}

Matrix3d view(double turn_deg, double scale, double angle_deg = 0) {
  const double k = std::numbers::pi / 180;
  const Matrix3d tilt = Eigen::Vector3d(std::cos(k * angle_deg), 1, 1).asDiagonal(),
                 zoom = Eigen::Vector3d(scale, scale, 1).asDiagonal();
  return shift(0.5 * kWidth, 0.5 * kHeight) * tilt * zoom *
         Eigen::AngleAxisd(k * turn_deg, Eigen::Vector3d::UnitZ()).toRotationMatrix() * shift(-630, -420);
}

struct Found {
  int common = 0, matches = 0, right = 0;
};

Found find(const Matrix3d& second_view, const FeatureOptions& options,
           const std::function<ImageU8(const ImageU8&)>& fault = {}) {
  const Executor executor(2);
  const ImageU8 first = simulate::warp(picture(), view(0, 1), kWidth, kHeight, executor);
  ImageU8 second = simulate::warp(picture(), second_view, kWidth, kHeight, executor);
  if (fault) second = fault(second);
  const simulate::TrueMapping mapping = simulate::planar_mapping(second_view * view(0, 1).inverse(), kWidth, kHeight);
  const Features a = find_features(to_grey(first), options), b = find_features(to_grey(second), options);
  Found found;
  for (const Keypoint& k : a.keypoints) found.common += mapping({k.x, k.y}).has_value();
  for (const Match& m : match_descriptors(a, b)) {
    const Keypoint &p = a.keypoints[m.first.value], &q = b.keypoints[m.second.value];
    const auto there = mapping({p.x, p.y});
    ++found.matches;
    found.right += there && std::hypot(there->place.x() - q.x, there->place.y() - q.y) < 3;
  }
  return found;
}

struct Change {
  const char* name;
  double turn, scale, angle;
  double noise, blur, stops;
  // Of the features of the first photo in the common part that are matched rightly
  double least_share, least_share_nonlinear;
  double least_precision = 0.97, least_precision_nonlinear = 0.9;
};
void PrintTo(const Change& c, std::ostream* out) {
  *out << c.name;
}

class Invariance : public testing::TestWithParam<Change> {};

TEST_P(Invariance, OfBothKinds) {
  const Change& c = GetParam();
  for (const bool nonlinear : {false, true}) {
    FeatureOptions options;
    options.max_features = 1200;
    options.gaussian = !nonlinear, options.nonlinear = nonlinear;
    const Found found = find(view(c.turn, c.scale, c.angle), options, [&](const ImageU8& photo) {
      ImageU8 out = c.blur > 0 ? simulate::blurred(photo, c.blur) : photo;
      if (c.stops != 0) out = simulate::exposed(out, c.stops);
      return c.noise > 0 ? simulate::with_noise(out, c.noise, 7) : out;
    });
    EXPECT_GT(found.right, (nonlinear ? c.least_share_nonlinear : c.least_share) * found.common)
        << (nonlinear ? "non-linear, of " : "gaussian, of ") << found.common << " in common";
    EXPECT_GE(found.right, (nonlinear ? c.least_precision_nonlinear : c.least_precision) * found.matches)
        << (nonlinear ? "non-linear" : "gaussian");
  }
}
INSTANTIATE_TEST_SUITE_P(Changes, Invariance,
                         testing::Values(Change{"turned by 45 degrees", 45, 1, 0, 0, 0, 0, 0.70, 0.55},
                                         Change{"turned by 100 degrees", 100, 1, 0, 0, 0, 0, 0.68, 0.62},
                                         Change{"at half the size", 10, 0.5, 0, 0, 0, 0, 0.15, 0.23, 0.92},
                                         Change{"at 0.7 of the size", 10, 0.7, 0, 0, 0, 0, 0.30, 0.18, 0.96, 0.85},
                                         Change{"seen by 40 degrees from the side", 5, 1, 40, 0, 0, 0, 0.40, 0.28},
                                         Change{"noisy", 5, 1, 0, 10, 0, 0, 0.23, 0.53},
                                         Change{"blurred", 5, 1, 0, 0, 1.5, 0, 0.21, 0.53},
                                         Change{"two stops darker", 5, 1, 0, 0, 0, -2, 0.70, 0.68}),
                         [](const auto& of) {
                           std::string name = of.param.name;
                           std::replace_if(
                               name.begin(), name.end(),
                               [](char c) { return !std::isalnum(static_cast<unsigned char>(c)); }, '_');
                           return name;
                         });

// A flat picture and the same seen from so far to the side that it appears at this share of its width or height.
struct WideFound {
  std::size_t plain = 0, wide = 0, plain_right = 0, wide_right = 0;
};

WideFound find_wide(const Matrix3d& second_view, const ImageU8* other = nullptr) {
  const Executor executor(2);
  const ImageU8 first = simulate::warp(picture(), view(0, 1), kWidth, kHeight, executor),
                second = simulate::warp(other ? *other : picture(), second_view, kWidth, kHeight, executor);
  const simulate::TrueMapping mapping = simulate::planar_mapping(second_view * view(0, 1).inverse(), kWidth, kHeight);
  FeatureOptions options;
  options.max_features = 1500;
  const auto features_of = [&](const ImageU8& photo) {
    return WideFeatures{find_features(to_grey(photo), options), find_narrowed_features(to_grey(photo), options)};
  };
  const WideFeatures a = features_of(first), b = features_of(second);
  CameraPrior unknown;
  unknown.camera.width = kWidth, unknown.camera.height = kHeight;
  const PairMatches plain = verify_pair({PhotoIndex(0), a.found, unknown}, {PhotoIndex(1), b.found, unknown},
                                        match_descriptors(a.found, b.found), {}, 1);
  const PairMatches wide = verify_wide_pair(a, b, plain, {}, unknown, unknown, {}, 1);
  const std::vector<Keypoint> first_points = a.keypoints(), second_points = b.keypoints();
  const auto right = [&](const PairMatches& pair) {
    std::size_t count = 0;
    for (const Match& m : pair.matches) {
      const Keypoint &p = first_points.at(m.first.value), &q = second_points.at(m.second.value);
      const auto there = mapping({p.x, p.y});
      count += there && std::hypot(there->place.x() - q.x, there->place.y() - q.y) < 3;
    }
    return count;
  };
  // No place of either photo stands in two matches.
  for (std::size_t i = 0; i < wide.matches.size() && wide.matches.size() > plain.matches.size(); ++i)
    for (std::size_t j = 0; j < i; ++j) {
      const Keypoint &p = first_points[wide.matches[i].first.value], &q = first_points[wide.matches[j].first.value];
      EXPECT_FALSE(std::hypot(p.x - q.x, p.y - q.y) < 1) << i << " " << j;
    }
  return {plain.matches.size(), wide.matches.size(), right(plain), right(wide)};
}

Matrix3d from_the_side(double share_x, double share_y) {
  const Matrix3d narrow = Eigen::Vector3d(share_x, share_y, 1).asDiagonal();
  return shift(0.5 * kWidth, 0.5 * kHeight) * narrow * shift(-0.5 * kWidth, -0.5 * kHeight) * view(0, 1);
}

TEST(Narrowed, BringTogetherWhatIsSeenFromTheSide) {
  for (const auto& [x, y] : {std::pair(0.5, 1.0), std::pair(1.0, 0.5), std::pair(0.4, 1.0)}) {
    const WideFound found = find_wide(from_the_side(x, y));
    EXPECT_GE(found.wide_right, 2 * found.plain_right) << x << " " << y;
    EXPECT_GE(found.wide_right, 60u) << x << " " << y;
    EXPECT_GE(static_cast<double>(found.wide_right), 0.97 * static_cast<double>(found.wide)) << x << " " << y;
  }
}

TEST(Narrowed, FindNothingBetweenPicturesThatShareNothing) {
  ImageU8 other(1260, 840);  // the same kind of texture from another place
  for (int y = 0; y < other.height(); ++y)
    for (int x = 0; x < other.width(); ++x) {
      const float value = simulate::fractal(
          {0.02f * static_cast<float>(x) + 300, 0.02f * static_cast<float>(y) + 170, 0.3f}, 1.0f, 6, 0.7f, 0.02f, 7);
      other.at(x, y) = static_cast<std::uint8_t>(std::lround(255 * std::clamp(0.45f + 0.25f * value, 0.0f, 1.0f)));
    }
  for (const double share : {1.0, 0.7, 0.5}) EXPECT_EQ(find_wide(from_the_side(share, 1), &other).wide, 0u) << share;
}

TEST(Narrowed, KeepToTheMask) {
  const Executor executor(2);
  const ImageU8 photo = simulate::warp(picture(), view(0, 1), kWidth, kHeight, executor);
  ImageU8 mask(kWidth, kHeight, 1, 255);
  for (int y = 0; y < kHeight; ++y)
    for (int x = 200; x < 260; ++x) mask.at(x, y) = 0;
  const auto copies = find_narrowed_features(to_grey(photo), {}, &mask);
  ASSERT_EQ(copies.size(), 4u);
  for (const Features& copy : copies) {
    ASSERT_GT(copy.size(), 100u);
    EXPECT_EQ(copy.gradient_size(), copy.size());
    for (const Keypoint& k : copy.keypoints) {
      ASSERT_TRUE(k.x >= 0 && k.x < kWidth && k.y >= 0 && k.y < kHeight);
      ASSERT_FALSE(k.x > 201 && k.x < 259) << k.x << " " << k.y;
    }
  }
}

TEST(ChooseWide, OnlyPairsThatHoldPhotosByLittleThatIsNear) {
  const auto pair = [](std::uint32_t a, std::uint32_t b, std::uint32_t near, float turned,
                       std::uint32_t matches = 500) {
    return PairOutline{PhotoIndex(a), PhotoIndex(b), PairGeometry::depth, PairFault::none, matches + 50, matches,
                       near,          turned};
  };
  // A ring at 15 degrees: each photo has two neighbours with much in common.
  std::vector<PairOutline> ring;
  for (std::uint32_t i = 0; i < 8; ++i)
    ring.push_back(pair(i, (i + 1) % 8, 300, 15)), ring.push_back(pair(i, (i + 2) % 8, 40, 30));
  EXPECT_TRUE(choose_wide(ring, 8).empty());
  // At 36 degrees, before a far background.
  std::vector<PairOutline> sparse;
  for (std::uint32_t i = 0; i + 1 < 6; ++i) sparse.push_back(pair(i, i + 1, 30, 36));
  EXPECT_EQ(choose_wide(sparse, 6).size(), 5u);
  for (PairOutline& p : sparse) p.turned_deg = 4;  // a panorama
  EXPECT_TRUE(choose_wide(sparse, 6).empty());
  for (PairOutline& p : sparse) p.turned_deg = 90;  // nothing can help
  EXPECT_TRUE(choose_wide(sparse, 6).empty());
  // Focal lengths that nobody knows: many matches with depth are enough.
  for (PairOutline& p : sparse) p.turned_deg = -1, p.near = 0;
  EXPECT_TRUE(choose_wide(sparse, 6).empty());
  for (PairOutline& p : sparse) p.matches = 90;
  EXPECT_EQ(choose_wide(sparse, 6).size(), 5u);
}

}  // namespace
}  // namespace icefield
