#include "icefield/control/refine_mark.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cmath>
#include <functional>

#include "icefield/base/random.h"
#include "icefield/io/photo_file.h"
#include "icefield/photo/filter.h"
#include "tests/tools/scenes.h"

namespace icefield {
namespace {

using Eigen::Matrix2d;
using Eigen::Vector2d;
using testing::HasSubstr;

using Pattern = std::function<float(const Vector2d&)>;  // grey by place on the target, whose size is 1

float chessboard(const Vector2d& p) {
  return (std::sin(4 * p.x()) > 0) == (std::sin(4 * p.y()) > 0) ? 0.85f : 0.12f;
}
float quartered(const Vector2d& p) {
  if (p.cwiseAbs().maxCoeff() > 1) return 0.55f;
  return (p.x() > 0) == (p.y() > 0) ? 0.9f : 0.1f;
}
float cross(const Vector2d& p) {
  return p.cwiseAbs().minCoeff() < 0.16 && p.cwiseAbs().maxCoeff() < 1 ? 0.1f : 0.8f;
}
float disc(const Vector2d& p) {
  return p.norm() < 0.6 ? 0.1f : p.norm() < 1 ? 0.9f : 0.5f;
}

// Seen small, turned and tilted, through optics, with noise and JPEG.
struct Seen {
  ImageF photo;
  Vector2d middle;
};
Seen seen(const Pattern& pattern, double radius_px, std::uint64_t seed, double tilt_deg) {
  CounterRandom random(seed);
  Seen result{ImageF(120, 120), Vector2d(60 + random.uniform(-0.5, 0.5), 60 + random.uniform(-0.5, 0.5))};
  const double turn = random.uniform(0, 6.28), axis = random.uniform(0, 6.28),
               narrow = std::cos(tilt_deg * 3.14159265 / 180);
  Matrix2d turned, tilted;
  turned << std::cos(turn), -std::sin(turn), std::sin(turn), std::cos(turn);
  const Vector2d a(std::cos(axis), std::sin(axis));
  tilted = Matrix2d::Identity() - (1 - narrow) * a * a.transpose();
  const Matrix2d to_target = (radius_px * tilted * turned).inverse();
  constexpr int kSub = 5;
  for (int y = 0; y < 120; ++y)
    for (int x = 0; x < 120; ++x) {
      double sum = 0;
      for (int j = 0; j < kSub; ++j)
        for (int i = 0; i < kSub; ++i)
          sum += pattern(to_target * (Vector2d(x + (i + 0.5) / kSub, y + (j + 0.5) / kSub) - result.middle));
      result.photo.at(x, y) = static_cast<float>(sum / (kSub * kSub));
    }
  result.photo = gaussian_blur(result.photo, 0.7f);
  ImageU8 stored(120, 120, 3);
  for (int y = 0; y < 120; ++y)
    for (int x = 0; x < 120; ++x)
      for (int c = 0; c < 3; ++c)
        stored.at(x, y, c) =
            static_cast<std::uint8_t>(std::clamp(255 * result.photo.at(x, y) + 3 * random.normal() + 0.5, 0.0, 255.0));
  const auto file = test::scratch_folder() / "mark.jpg";
  write_photo(file, stored, {}, 85);
  result.photo = to_grey(read_photo(file));
  return result;
}

struct Kind {
  const char* name;
  Pattern pattern;
  TargetShape shape;
};
const Kind kKinds[] = {{"chessboard", chessboard, TargetShape::corner},
                       {"quartered", quartered, TargetShape::corner},
                       {"cross", cross, TargetShape::corner},
                       {"disc", disc, TargetShape::disc}};

TEST(RefineMark, FindsTheMiddleOfTheUsualTargets) {
  for (const Kind& kind : kKinds)
    for (const double tilt : {0.0, 40.0}) {
      double squares = 0, scaled = 0;
      int found = 0, right_shape = 0;
      constexpr int kTimes = 40;
      for (std::uint64_t k = 0; k < kTimes; ++k) {
        const Seen photo = seen(kind.pattern, 14, k, tilt);
        CounterRandom hand(1000 + k);
        // Nearer to this corner of a chessboard than to the next, which is 8.4 px away.
        const double error = &kind == &kKinds[0] ? 1.2 : 2;
        const Vector2d near = photo.middle + error * Vector2d(hand.normal(), hand.normal());
        const RefinedMark mark = refine_mark(photo.photo, near);
        if (!mark.refined) continue;
        ++found;
        right_shape += mark.shape == kind.shape;
        squares += (mark.pixel - photo.middle).squaredNorm() / 2;
        scaled += (mark.pixel - photo.middle).squaredNorm() / (2 * mark.sigma_px * mark.sigma_px);
      }
      EXPECT_GE(found, kTimes - 2) << kind.name << " " << tilt;
      EXPECT_GE(right_shape, found - 2) << kind.name << " " << tilt;
      EXPECT_LT(std::sqrt(squares / found), 0.1) << kind.name << " " << tilt;
      EXPECT_LT(std::sqrt(scaled / found), 3) << kind.name << " " << tilt;
    }
}

TEST(RefineMark, LeavesAloneWhatIsNoTarget) {
  ImageF plain(100, 100, 1, 0.5f);
  EXPECT_FALSE(refine_mark(plain, {50, 50}).refined);
  EXPECT_THAT(refine_mark(plain, {50, 50}).outcome, HasSubstr("no edges"));
  ImageF edge(100, 100, 1, 0.2f);
  for (int y = 0; y < 100; ++y)
    for (int x = 50; x < 100; ++x) edge.at(x, y) = 0.8f;
  const RefinedMark along = refine_mark(edge, {50, 50});
  EXPECT_FALSE(along.refined);
  EXPECT_EQ(along.pixel, Vector2d(50, 50));
  CounterRandom random(5);
  ImageF noise(100, 100);
  for (float& v : noise.data()) v = random.uniformf();
  EXPECT_FALSE(refine_mark(noise, {50, 50}).refined);
  EXPECT_FALSE(refine_mark(plain, {-3, 50}).refined);
  EXPECT_FALSE(refine_mark(ImageF(3, 3), {1, 1}).refined);
  // A target that is farther away than a hand errs is not run to.
  const Seen photo = seen(quartered, 14, 3, 0);
  EXPECT_FALSE(refine_mark(photo.photo, photo.middle + Vector2d(38, 30)).refined);
}

}  // namespace
}  // namespace icefield
