#include "icefield/block/block.h"

#include <gtest/gtest.h>

#include <numbers>

#include "icefield/base/random.h"
#include "icefield/block/bounds.h"
#include "tests/tools/made_up.h"

namespace icefield {
namespace {

TEST(Block, BytesRoundTripAndRefuseDamage) {
  Block block = test::ring_block(5, 40, 0.5);
  block.datum = {"EPSG:25832", "EPSG:5773", "m", Axes::east_north_up};
  block.origin = {642000, 5184000, 2300};
  block.observations[7].kind = ObservationKind::target, block.observations[7].sigma_px = 0.1f;
  const Bytes bytes = block_to_bytes(block);
  const Block back = block_from_bytes(bytes);
  EXPECT_EQ(block_to_bytes(back), bytes);
  EXPECT_EQ(back.datum, block.datum);
  EXPECT_EQ(back.origin, block.origin);
  EXPECT_EQ(back.observations[7].kind, ObservationKind::target);
  EXPECT_EQ(back.observations[7].sigma_px, 0.1f);
  EXPECT_EQ(back.without_points().datum, block.datum);
  for (std::size_t n = 0; n < bytes.size(); n += 97)
    EXPECT_THROW(block_from_bytes(std::span<const std::byte>(bytes).first(n)), Error);
  Bytes wrong = bytes;
  wrong[0] = std::byte{0};
  EXPECT_THROW(block_from_bytes(wrong), Error);
}

TEST(Block, StatisticsCount) {
  Block block = test::ring_block(6, 100, 0.5);
  block.observations_dropped = block.observations.size();
  const BlockStatistics s = block_statistics(block);
  EXPECT_EQ(s.photos, 6u);
  EXPECT_EQ(s.observations, block.observations.size());
  EXPECT_NEAR(s.rms_px, 0.5 * std::sqrt(2.0), 0.05);
  EXPECT_DOUBLE_EQ(s.kept_percent, 50);
  EXPECT_NEAR(s.median_gsd, 5.2 / 900, 1e-3);
  std::size_t sum = 0;
  for (const auto n : s.photo_observations) sum += n;
  EXPECT_EQ(sum, s.observations);
}

TEST(Block, TransformKeepsResiduals) {
  Block block = test::ring_block(6, 50, 0.5);
  const double before = block_statistics(block).rms_px;
  Similarity similarity;
  similarity.scale = 3;
  similarity.rotation = rotation_from_vector({0.1, 2, -0.4});
  similarity.translation = {100, 200, -50};
  transform(block, similarity);
  EXPECT_NEAR(block_statistics(block).rms_px, before, 1e-9);
}

TEST(Bounds, MeetsLinesOfSight) {
  Bounds box;
  box.centre = {1, 0, 0};
  box.half_size = {0.5, 2, 0.1};
  EXPECT_TRUE(box.meets({-3, 0, 0}, {1, 0, 0}));
  EXPECT_FALSE(box.meets({-3, 0, 0}, {-1, 0, 0}));   // behind
  EXPECT_TRUE(box.meets({1, 0, 0}, {0, 0, 1}));      // from within
  EXPECT_FALSE(box.meets({-3, 0, 0.2}, {1, 0, 0}));  // past it, along a side
  EXPECT_FALSE(box.meets({-3, 0, 0}, {1, 0, 0.2}));
  EXPECT_TRUE(box.meets({-3, 0, 0}, {1, 0, 0.02}));
  // A quarter of a turn puts the long side across.
  EXPECT_FALSE(box.meets({-0.5, -5, 0}, {0, 1, 0}));
  box.orientation = Eigen::Quaterniond(Eigen::AngleAxisd(std::numbers::pi / 2, Eigen::Vector3d::UnitZ()));
  EXPECT_TRUE(box.meets({-0.5, -5, 0}, {0, 1, 0}));
  EXPECT_NEAR(turn_deg(box), 90, 1e-9);
}

// An L of two by two units, a box around it.
Bounds in_an_l() {
  Bounds bounds;
  bounds.centre = {1, 1, 0};
  bounds.half_size = {1.2, 1.2, 1};
  bounds.outline = {{0, 0}, {2, 0}, {2, 1}, {1, 1}, {1, 2}, {0, 2}};
  return bounds;
}

TEST(Bounds, OfABlockWithoutPointsHaveNoSize) {
  Block block;
  EXPECT_EQ(automatic_bounds(block).half_size.norm(), 0);
  EXPECT_FALSE(holds_points(automatic_bounds(block), block));
}

TEST(Outline, HoldsWhatLiesInItAndInTheBox) {
  const Bounds bounds = in_an_l();
  EXPECT_TRUE(bounds.contains({0.5, 1.5, 0.9}));
  EXPECT_TRUE(bounds.contains({1.5, 0.5, -0.9}));
  EXPECT_FALSE(bounds.contains({1.5, 1.5, 0})) << "the notch";
  EXPECT_FALSE(bounds.contains({0.5, 1.5, 1.1})) << "above the box";
  EXPECT_FALSE(bounds.contains({-0.1, 0.5, 0})) << "in the box alone";
}

TEST(Outline, IsMetByLinesOfSightThatPassThroughIt) {
  const Bounds bounds = in_an_l();
  CounterRandom random(7);
  int met = 0, missed = 0;
  for (int k = 0; k < 3000; ++k) {
    const Eigen::Vector3d start(random.uniform(-3, 5), random.uniform(-3, 5), random.uniform(-2, 4)),
        to(random.uniform(-1, 3), random.uniform(-1, 3), random.uniform(-2, 2));
    const Eigen::Vector3d along = to - start;
    bool inside = false;
    for (int step = 0; step <= 4000 && !inside; ++step) inside = bounds.contains(start + 0.001 * step * along);
    const bool meets = bounds.meets(start, along);
    // What is stepped through is met; what only grazes a corner between two steps may be.
    if (inside) {
      ASSERT_TRUE(meets) << start.transpose() << " to " << to.transpose();
    }
    ++(meets ? met : missed);
    if (meets && !inside) --met;
  }
  EXPECT_GT(met, 500);
  EXPECT_GT(missed, 500);
  // Straight down beside and into the notch.
  EXPECT_TRUE(bounds.meets({0.5, 0.5, 5}, {0, 0, -1}));
  EXPECT_FALSE(bounds.meets({1.5, 1.5, 5}, {0, 0, -1}));
  EXPECT_FALSE(bounds.meets({0.5, 0.5, 5}, {0, 0, 1})) << "away from it";
}

TEST(Outline, AloneReachesAsHighAsThePointsInIt) {
  Block block = test::ring_block(6, 400, 0.3);
  double low = 1e9, high = -1e9;
  const std::vector<Eigen::Vector2d> outline = {{-0.5, -0.5}, {0.5, -0.5}, {0.5, 0.5}, {-0.5, 0.5}};
  for (const Eigen::Vector3d& p : block.points)
    if (within_outline(p.head<2>(), outline)) low = std::min(low, p.z()), high = std::max(high, p.z());
  ASSERT_LT(low, high);
  const Bounds bounds = bounds_within(outline, block);
  EXPECT_NEAR(bounds.half_size.x(), 0.5, 1e-12);
  EXPECT_GT(bounds.half_size.z(), 0.45 * (high - low));
  EXPECT_LT(bounds.half_size.z(), 0.9 * (high - low));
  EXPECT_TRUE(holds_points(bounds, block));
  // Where there is nothing it holds nothing.
  const std::vector<Eigen::Vector2d> far = {{100, 100}, {101, 100}, {101, 101}};
  EXPECT_FALSE(holds_points(bounds_within(far, block), block));
}

}  // namespace
}  // namespace icefield
