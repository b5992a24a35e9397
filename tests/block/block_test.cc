#include "icefield/block/block.h"

#include <gtest/gtest.h>

#include <numbers>

#include "icefield/block/bounds.h"
#include "tests/tools/made_up.h"

namespace icefield {
namespace {

TEST(Block, BytesRoundTripAndRefuseDamage) {
  const Block block = test::ring_block(5, 40, 0.5);
  const Bytes bytes = block_to_bytes(block);
  EXPECT_EQ(block_to_bytes(block_from_bytes(bytes)), bytes);
  for (std::size_t n = 0; n < bytes.size(); n += 97) EXPECT_THROW(block_from_bytes(std::span<const std::byte>(bytes).first(n)), Error);
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
  EXPECT_FALSE(box.meets({-3, 0, 0}, {-1, 0, 0}));      // behind
  EXPECT_TRUE(box.meets({1, 0, 0}, {0, 0, 1}));         // from within
  EXPECT_FALSE(box.meets({-3, 0, 0.2}, {1, 0, 0}));     // past it, along a side
  EXPECT_FALSE(box.meets({-3, 0, 0}, {1, 0, 0.2}));
  EXPECT_TRUE(box.meets({-3, 0, 0}, {1, 0, 0.02}));
  // A quarter of a turn puts the long side across.
  EXPECT_FALSE(box.meets({-0.5, -5, 0}, {0, 1, 0}));
  box.orientation = Eigen::Quaterniond(Eigen::AngleAxisd(std::numbers::pi / 2, Eigen::Vector3d::UnitZ()));
  EXPECT_TRUE(box.meets({-0.5, -5, 0}, {0, 1, 0}));
  EXPECT_NEAR(turn_deg(box), 90, 1e-9);
}

}  // namespace
}  // namespace icefield
