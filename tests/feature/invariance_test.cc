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

}  // namespace
}  // namespace icefield
