#include "icefield/terrain/overlap.h"

#include <gtest/gtest.h>

#include <cmath>
#include <cstring>
#include <numbers>

#include "icefield/base/error.h"
#include "icefield/base/random.h"

namespace icefield {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;

double ground_at(double x, double y) {
  return 3 * std::sin(0.08 * x) + 2 * std::cos(0.06 * y);
}

Pose looking(const Vector3d& from, const Vector3d& to, const Vector3d& right_hint) {
  Pose pose;
  pose.centre = from;
  const Vector3d z = (to - from).normalized(), y = z.cross(right_hint).normalized(), x = y.cross(z);
  Eigen::Matrix3d r;
  r.row(0) = x, r.row(1) = y, r.row(2) = z;
  pose.orientation = Eigen::Quaterniond(r);
  return pose;
}

// Tie points of a surface in all photos that see them.
void add_points(Block& block, const std::vector<Vector3d>& places) {
  for (const Vector3d& p : places) {
    std::vector<Observation> seen;
    for (std::uint32_t i = 0; i < block.photos.size(); ++i) {
      const auto pixel = project(block.camera_of(block.photos[i]), block.photos[i].pose.to_camera(p));
      if (!pixel || pixel->x() < 0 || pixel->y() < 0 || pixel->x() >= 600 || pixel->y() >= 400) continue;
      Observation o;
      o.photo = PosedIndex(i), o.pixel = *pixel;
      seen.push_back(o);
    }
    if (seen.size() >= 2) block.add_point(p, seen);
  }
}

Camera lens() {
  return make_camera(CameraModel::radial, 600, 400, 500);
}

// A flight 60 m over the ground, 10 lines of 10 photos, without those `left_out` says.
template <class LeftOut>
Block flight(const LeftOut& left_out) {
  Block block;
  block.cameras = {lens()};
  for (int row = 0; row < 10; ++row)
    for (int column = 0; column < 10; ++column) {
      const Vector2d at(14.0 * column, 14.0 * row);
      if (left_out(at)) continue;
      block.photos.push_back({PhotoIndex(static_cast<std::uint32_t>(10 * row + column)), CameraIndex(0),
                              looking({at.x(), at.y(), 60}, {at.x(), at.y(), 0}, {1, 0, 0})});
    }
  std::vector<Vector3d> places;
  CounterRandom random(3);
  for (int i = 0; i < 6000; ++i) {
    const double x = random.uniform(-30, 156), y = random.uniform(-25, 150);
    places.emplace_back(x, y, ground_at(x, y));
  }
  add_points(block, places);
  return block;
}

Overlap of(const Block& block, int threads = 2, OverlapOptions options = {}) {
  OverlapScene scene{block, block.points, {}, {}, {}};
  for (const PosedPhoto& photo : block.photos) scene.eyes.push_back(photo.pose.centre);
  return overlap_of(scene, options, Executor(threads));
}

TEST(Overlap, CountsThePhotosThatSeeAPlace) {
  const Block block = flight([](const Vector2d&) { return false; });
  const Overlap overlap = of(block);
  ASSERT_EQ(overlap.summary.outcome, "made");
  const OverlapMap& map = overlap.map;
  std::size_t checked = 0, apart = 0;
  for (int y = 5; y < map.frame.rows; y += 9)
    for (int x = 5; x < map.frame.columns; x += 9) {
      if (!map.within.at(x, y)) continue;
      const Vector2d at = map.frame.middle(x, y);
      const Vector3d p(at.x(), at.y(), ground_at(at.x(), at.y()));
      EXPECT_NEAR(map.heights.at(x, y), p.z(), 0.3);
      int count = 0;
      Eigen::Matrix3d information = Eigen::Matrix3d::Zero();
      double depth = 1e9;
      for (const PosedPhoto& photo : block.photos) {
        const Vector3d seen = photo.pose.to_camera(p);
        const double u = 500 * seen.x() / seen.z() + 300, v = 500 * seen.y() / seen.z() + 200;
        if (u < 0 || v < 0 || u >= 600 || v >= 400) continue;
        ++count, depth = std::min(depth, seen.z());
        Matrix2x3 j;
        j << 500 / seen.z(), 0, -500 * seen.x() / seen.z() / seen.z(), 0, 500 / seen.z(),
            -500 * seen.y() / seen.z() / seen.z();
        const Eigen::Matrix<double, 2, 3> by_place = j * photo.pose.orientation.toRotationMatrix();
        information += by_place.transpose() * by_place;
      }
      ++checked;
      // The surface is known to some decimetres: at a photo's border one more or less may see it.
      if (count != static_cast<int>(map.views.at(x, y))) {
        EXPECT_LE(std::abs(count - map.views.at(x, y)), 2);
        ++apart;
        continue;
      }
      EXPECT_NEAR(map.gsd.at(x, y), depth / 500, 0.03 * depth / 500);
      EXPECT_NEAR(map.error.at(x, y), 0.5 * std::sqrt(information.inverse()(2, 2)), 0.02 * map.error.at(x, y));
    }
  EXPECT_GT(checked, 200u);
  EXPECT_LT(apart, checked / 20);
  EXPECT_GT(overlap.summary.wanted_percent, 99);
  EXPECT_TRUE(overlap.summary.advice.empty());
}

TEST(Overlap, SaysWherePhotosAreMissing) {
  // Nobody flew over a part in the middle.
  const auto hole = [](const Vector2d& at) { return at.x() > 20 && at.x() < 110 && at.y() > 30 && at.y() < 110; };
  const Overlap overlap = of(flight(hole));
  ASSERT_FALSE(overlap.summary.advice.empty());
  EXPECT_LT(overlap.summary.wanted_percent, 99);
  const OverlapAdvice& advice = overlap.summary.advice.front();
  EXPECT_EQ(advice.reason, OverlapAdvice::Reason::few_photos);
  EXPECT_NEAR(advice.place.x(), 63, 15);
  EXPECT_NEAR(advice.place.y(), 70, 12);
  // From as high as the others, straight down.
  EXPECT_NEAR(advice.from.z(), 60, 8);
  EXPECT_LT((advice.from - advice.towards).head<2>().norm(), 12);
  // Photos there close it.
  Block closed = flight(hole);
  for (int k = 0; k < std::max(advice.photos, 2); ++k) {
    const double x = advice.place.x() + 14 * (k - 0.5 * (std::max(advice.photos, 2) - 1));
    closed.photos.push_back({PhotoIndex(200 + static_cast<std::uint32_t>(k)), CameraIndex(0),
                             looking({x, advice.place.y(), 60}, {x, advice.place.y(), 0}, {1, 0, 0})});
  }
  EXPECT_GT(of(closed).summary.wanted_percent, overlap.summary.wanted_percent);
}

TEST(Overlap, SeesNarrowAngles) {
  // Lines that stand nearly on one spot.
  Block block;
  block.cameras = {lens()};
  for (int i = 0; i < 12; ++i)
    block.photos.push_back({PhotoIndex(static_cast<std::uint32_t>(i)), CameraIndex(0),
                            looking({0.1 * i, 0, 60}, {0.1 * i, 0, 0}, {1, 0, 0})});
  std::vector<Vector3d> places;
  CounterRandom random(5);
  for (int i = 0; i < 800; ++i) places.emplace_back(random.uniform(-30, 30), random.uniform(-20, 20), 0);
  add_points(block, places);
  const Overlap overlap = of(block);
  EXPECT_GT(overlap.summary.narrow_percent, 90);
  ASSERT_FALSE(overlap.summary.advice.empty());
  EXPECT_EQ(overlap.summary.advice[0].reason, OverlapAdvice::Reason::narrow_angle);
  EXPECT_GT((overlap.summary.advice[0].from - overlap.summary.advice[0].towards).head<2>().norm(), 8);
}

TEST(Overlap, FindsTheGapOfARing) {
  for (const double gap : {0.0, 90.0}) {
    Block block;
    block.cameras = {lens()};
    for (double a = gap; a < 359; a += 12)
      block.photos.push_back(
          {PhotoIndex(static_cast<std::uint32_t>(a)), CameraIndex(0),
           looking({8 * std::cos(a * std::numbers::pi / 180), 8 * std::sin(a * std::numbers::pi / 180), 2}, {0, 0, 0.8},
                   {-std::sin(a * std::numbers::pi / 180), std::cos(a * std::numbers::pi / 180), 0})});
    std::vector<Vector3d> places;
    CounterRandom random(6);
    for (int i = 0; i < 1500; ++i) {
      const Vector3d p = Vector3d(random.normal(), random.normal(), random.normal()).normalized();
      places.emplace_back(p.x(), p.y(), 0.8 + std::abs(p.z()));
    }
    add_points(block, places);
    const Overlap overlap = of(block);
    const bool found =
        !overlap.summary.advice.empty() && overlap.summary.advice[0].reason == OverlapAdvice::Reason::gap_in_ring;
    EXPECT_EQ(found, gap > 0);
    if (!found) continue;
    const OverlapAdvice& advice = overlap.summary.advice[0];
    EXPECT_NEAR(advice.area, gap + 12, 8);  // the middle of what is seen lies a little to the side of the open part
    EXPECT_NEAR(std::atan2(advice.from.y(), advice.from.x()) * 180 / std::numbers::pi, 0.5 * gap - 6, 8);
    EXPECT_NEAR(advice.from.head<2>().norm(), 8, 1);
    EXPECT_NEAR(advice.photos, 7, 2);
  }
}

TEST(Overlap, IsTheSameForAnyThreadsAndSaysWhatItCannotDo) {
  const Block block = flight([](const Vector2d& at) { return at.x() > 100; });
  const Overlap one = of(block, 1), seven = of(block, 7);
  EXPECT_EQ(one.map.views.values(), seven.map.views.values());
  const auto same = [](const ImageF& a, const ImageF& b) {
    return a.values().size() == b.values().size() &&
           std::memcmp(a.values().data(), b.values().data(), a.values().size() * sizeof(float)) == 0;
  };
  EXPECT_TRUE(same(one.map.heights, seven.map.heights));
  EXPECT_TRUE(same(one.map.error, seven.map.error));
  Block bare = block.without_points();
  EXPECT_NE(of(bare).summary.outcome.find("too few tie points"), std::string::npos);
  OverlapOptions options;
  options.cell = 1e-6;
  EXPECT_THROW(of(block, 1, options), Error);
}

}  // namespace
}  // namespace icefield
