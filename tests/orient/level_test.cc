#include "icefield/orient/level.h"

#include <gtest/gtest.h>

#include <Eigen/Geometry>
#include <cmath>

#include "icefield/base/random.h"
#include "src/orient/level.h"

namespace icefield {
namespace {

using Eigen::AngleAxisd;
using Eigen::Vector3d;

constexpr double kDegrees = 57.29577951308232;

// A photo at a place, looking along `forward` with `down` below, turned by hand by some degrees.
void add_photo(Block& block, const Vector3d& centre, const Vector3d& forward, const Vector3d& down, double hand_deg,
               CounterRandom& random) {
  Eigen::Matrix3d axes;  // rows: x, y, z of the camera in the world
  const Vector3d z = forward.normalized(), y = (down - z * z.dot(down)).normalized();
  axes << y.cross(z).transpose(), y.transpose(), z.transpose();
  const Vector3d wobble(random.normal(), random.normal(), random.normal());
  PosedPhoto photo;
  photo.photo = PhotoIndex(block.photos.size());
  photo.camera = CameraIndex(0);
  photo.pose.orientation =
      Eigen::Quaterniond(AngleAxisd(hand_deg / kDegrees * wobble.norm(), wobble.normalized()) * axes).normalized();
  photo.pose.centre = centre;
  block.photos.push_back(photo);
}

// Points on a plane, each seen by all photos.
void add_plane(Block& block, const Vector3d& middle, const Vector3d& a, const Vector3d& b, CounterRandom& random) {
  std::vector<Observation> seen;
  for (std::size_t i = 0; i < block.photos.size(); ++i) {
    Observation o;
    o.photo = PosedIndex(i);
    seen.push_back(o);
  }
  for (int k = 0; k < 400; ++k)
    block.add_point(
        middle + random.uniform(-1, 1) * a + random.uniform(-1, 1) * b + 0.002 * random.normal() * a.cross(b), seen);
}

Block empty_block() {
  Block block;
  block.cameras.push_back(Camera());
  return block;
}

// What a block that was turned at random is turned back to.
double error_after_levelling(Block block, std::uint64_t seed) {
  CounterRandom random(seed);
  Similarity turn;
  turn.rotation = Eigen::Quaterniond(random.normal(), random.normal(), random.normal(), random.normal()).normalized();
  const Vector3d up = turn.rotation * Vector3d::UnitZ();
  transform(block, turn);
  const Vector3d before = block.photos[0].pose.orientation * up;  // in the first camera
  make_level(block);
  return kDegrees * std::acos(std::min(1.0, (block.photos[0].pose.orientation * Vector3d::UnitZ()).dot(before)));
}

TEST(Level, ARingStandsAsItsHorizontalsSay) {
  double scaled = 0;
  constexpr int kTimes = 12;
  for (int k = 0; k < kTimes; ++k) {
    CounterRandom random(10 + static_cast<std::uint64_t>(k));
    Block block = empty_block();
    for (int i = 0; i < 24; ++i) {
      const double angle = 6.2831853 * i / 24;
      const Vector3d at(3 * std::cos(angle), 3 * std::sin(angle), 1);
      add_photo(block, at, -at, -Vector3d::UnitZ(), 2, random);
    }
    add_plane(block, Vector3d::Zero(), Vector3d::UnitX(), Vector3d::UnitY(), random);
    const LevelGuess guess = guess_level(block);
    EXPECT_EQ(guess.source, LevelSource::horizontals);
    EXPECT_GT(guess.plane_share, 0.9);
    const double off = kDegrees * std::acos(std::min(1.0, guess.up.z()));
    EXPECT_LT(off, 2.5);
    EXPECT_NEAR(guess.plane_lean_deg, off, 0.3);
    EXPECT_NEAR(error_after_levelling(block, 1), off, 0.01);
    scaled += off * off / (2 * guess.sigma_deg * guess.sigma_deg) / kTimes;
  }
  EXPECT_GT(std::sqrt(scaled), 0.5);  // what is said of it is so
  EXPECT_LT(std::sqrt(scaled), 1.7);
}

// Photos that look alike: a wall from the path along it, strips from the air, one strip from the air.
TEST(Level, AWallStandsAndAFlightLooksDown) {
  CounterRandom random(3);
  Block wall = empty_block();
  for (int i = 0; i < 12; ++i) add_photo(wall, {0.8 * i, -4, 1.6}, Vector3d::UnitY(), -Vector3d::UnitZ(), 1, random);
  add_plane(wall, {4, 0, 2}, 5 * Vector3d::UnitX(), 2 * Vector3d::UnitZ(), random);
  EXPECT_EQ(guess_level(wall).source, LevelSource::held);
  EXPECT_LT(error_after_levelling(wall, 2), 2);
  EXPECT_GT(guess_level(wall).sigma_deg, 4);
  EXPECT_GT(guess_level(wall).plane_lean_deg, 80);  // a wall

  Block flight = empty_block();
  for (int strip = 0; strip < 4; ++strip)
    for (int i = 0; i < 8; ++i)
      add_photo(flight, {10.0 * i, 15.0 * strip, 50}, -Vector3d::UnitZ(), (strip % 2 ? 1 : -1) * Vector3d::UnitY(), 1,
                random);
  add_plane(flight, {35, 22, 0}, 50 * Vector3d::UnitX(), 40 * Vector3d::UnitY(), random);
  EXPECT_EQ(guess_level(flight).source, LevelSource::looking_down);
  EXPECT_LT(error_after_levelling(flight, 3), 2);

  Block strip = empty_block();  // forwards: along the photos' y axis
  for (int i = 0; i < 10; ++i) add_photo(strip, {0, 10.0 * i, 50}, -Vector3d::UnitZ(), -Vector3d::UnitY(), 1, random);
  add_plane(strip, {0, 45, 0}, 30 * Vector3d::UnitX(), 60 * Vector3d::UnitY(), random);
  EXPECT_EQ(guess_level(strip).source, LevelSource::looking_down);
  EXPECT_LT(error_after_levelling(strip, 4), 2);
}

}  // namespace
}  // namespace icefield
