#include "icefield/block/block.h"

#include <gtest/gtest.h>

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

}  // namespace
}  // namespace icefield
