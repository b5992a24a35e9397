// Weak tie points, whole lenses, and what is known of points and directions beforehand.
#include "icefield/adjust/weak_points.h"

#include <gtest/gtest.h>

#include "icefield/adjust/lens.h"
#include "icefield/adjust/uncertainty.h"
#include "tests/tools/made_up.h"

namespace icefield {
namespace {

AdjustOptions squared() {
  AdjustOptions options;
  options.loss = Loss::squared;
  return options;
}

TEST(RemoveWeakPoints, TakesTheBadOnesAndSaysWhere) {
  Block block = test::ring_block(12, 1500, 0.3);
  // A thing that moved: points of one corner, each off in half of its photos, all by the same few pixels.
  std::vector<std::uint8_t> bad(block.points.size(), 0);
  std::size_t moved = 0;
  for (std::size_t p = 0; p < block.points.size(); ++p) {
    const Eigen::Vector3d& x = block.points[p];
    if (x.x() < 0.55 || x.y() < 0.55 || x.z() < 0.35) continue;
    bad[p] = 1;
    ++moved;
    for (std::uint64_t o = block.starts[p]; o < block.starts[p + 1]; ++o)
      if (block.observations[o].photo % 2 == 0) block.observations[o].pixel += Eigen::Vector2d(2.5, 1.5);
  }
  ASSERT_GT(moved, 25u);
  WeakPointOptions options;
  options.adjust = squared();
  options.max_share = 0.05;
  Monitor silent;
  Block start = block;
  const WeakPointResult result = remove_weak_points(start, options, Executor(2), silent);
  EXPECT_EQ(result.outcome, "no tie point is weak");
  ASSERT_GE(result.passes.size(), 3u);
  for (std::size_t i = 0; i + 1 < result.passes.size(); ++i) {
    const WeakPointPass& pass = result.passes[i];
    EXPECT_LE(pass.removed_points + pass.removed_observations, 0.05 * static_cast<double>(pass.points) + 1);
    EXPECT_EQ(pass.weak, pass.by_residual + pass.by_sigma + pass.by_angle);
  }
  EXPECT_LT(result.passes.back().largest_standardised, options.max_standardised);
  EXPECT_LT(block_statistics(result.block).rms_px, 0.45);
  // The block passed in is as it was.
  EXPECT_EQ(block_to_bytes(start), block_to_bytes(block));
  // Nearly all of what is gone is of the moved thing, and that is told with its place.
  EXPECT_LT(block.observations.size() - result.block.observations.size(), 16 * moved);
  ASSERT_FALSE(result.crowding.empty());
  bool told = false;
  for (const Crowding& c : result.crowding)
    if (!c.in_photo) {
      told = told || (c.place.x() > 0.4 && c.place.y() > 0.4 && c.place.z() > 0.2);
      EXPECT_GT(static_cast<double>(c.removed) / static_cast<double>(c.of), 3 * c.usual_share);
    }
  EXPECT_TRUE(told);
}

TEST(RemoveWeakPoints, LeavesNoiseAlone) {
  Block block = test::ring_block(10, 600, 0.4);
  block.datum.units = "m", block.origin = {1000, 2000, 3};
  WeakPointOptions options;
  options.adjust = squared();
  options.max_standardised = 4.5;
  Monitor silent;
  const WeakPointResult result = remove_weak_points(block, options, Executor(2), silent);
  EXPECT_GT(result.block.points.size(), block.points.size() * 99 / 100);
  EXPECT_TRUE(result.crowding.empty());
  EXPECT_EQ(result.block.datum, block.datum);
  EXPECT_EQ(result.block.origin, block.origin);
}

TEST(RemoveWeakPoints, LeavesPhotosWhatTheyNeed) {
  Block block = test::ring_block(6, 60, 0.3);
  CounterRandom random(3);
  for (Observation& o : block.observations)
    if (o.photo == 2) o.pixel += Eigen::Vector2d(random.uniform(-8, 8), random.uniform(-8, 8));
  WeakPointOptions options;
  options.adjust = squared();
  options.max_share = 0.5;
  options.min_photo_observations = 35;
  Monitor silent;
  const WeakPointResult result = remove_weak_points(block, options, Executor(1), silent);
  for (const std::uint32_t n : block_statistics(result.block).photo_observations) EXPECT_GE(n, 35u);
}

TEST(AdjustLenses, HoldsWhatThePhotosDoNotTell) {
  Block block = test::ring_block(10, 400, 0.3);
  for (Camera& camera : block.cameras) camera = with_tangential_terms(camera);
  ASSERT_EQ(block.cameras[0].model, CameraModel::brown);
  AdjustOptions options = squared();
  options.free_parameters.assign(8, true);
  LensPriors priors;
  priors.tangential = 1e-7;  // known better than these photos could tell
  options.priors = lens_priors(CameraIndex(0), block.cameras[0], 5, priors);
  Monitor silent;
  const LensResult result = adjust_lenses(block, options, Executor(2), silent);
  ASSERT_TRUE(result.adjusted.summary.valid);
  int tangential = 0;
  for (const HeldParameter& held : result.held) {
    tangential += held.parameter >= 6;
    EXPECT_GT(held.parameter, 2);  // focal length and principal point are well determined
    EXPECT_GT(held.sigma, 0.5 * held.prior_sigma);
    EXPECT_EQ(result.adjusted.block.cameras[0].parameters[static_cast<std::size_t>(held.parameter)], held.value);
  }
  EXPECT_EQ(tangential, 2);
  EXPECT_NEAR(result.adjusted.block.cameras[0].focal(), 900, 3);
}

TEST(Adjust, ControlPointsFixTheFrame) {
  const Block truth = test::ring_block(8, 200, 0.2);
  Block start = truth;
  Similarity away;
  away.scale = 1.02;
  away.rotation = rotation_from_vector({0.03, -0.02, 0.05});
  away.translation = {0.2, -0.1, 0.15};
  transform(start, away);
  AdjustOptions options = squared();
  options.max_iterations = 100;
  options.cost_tolerance = 1e-10;
  for (const std::uint32_t p : {0u, 40u, 80u, 120u, 160u})
    options.point_priors.push_back({PointIndex(p), truth.points[p], 1e-8 * Eigen::Matrix3d::Identity()});
  Monitor silent;
  const AdjustResult result = adjust(start, options, Executor(2), silent);
  for (std::size_t i = 0; i < truth.photos.size(); ++i)
    EXPECT_LT((result.block.photos[i].pose.centre - truth.photos[i].pose.centre).norm(), 0.02);
  const Uncertainty known = uncertainty(result.block, options, {}, Executor(2), silent);
  ASSERT_TRUE(known.valid) << known.outcome;
  EXPECT_FALSE(known.free_network);
  // A control point is known as well as it was before, and better than others.
  EXPECT_LT(std::sqrt(known.points[0].trace()), 2e-4);
}

TEST(Adjust, LevelsTurnTheBlockUpright) {
  const Block truth = test::ring_block(8, 200, 0.2);
  Block start = truth;
  Similarity away;
  away.rotation = rotation_from_vector({0.2, -0.15, 0});
  transform(start, away);
  AdjustOptions options = squared();
  options.max_iterations = 100;
  options.cost_tolerance = 1e-12;
  for (std::uint32_t i = 0; i < truth.photos.size(); ++i)
    options.direction_priors.push_back(
        {PosedIndex(i), truth.photos[i].pose.orientation * Eigen::Vector3d::UnitZ(), 0.001});
  Monitor silent;
  const AdjustResult result = adjust(start, options, Executor(2), silent);
  for (std::size_t i = 0; i < truth.photos.size(); ++i)
    EXPECT_LT((result.block.photos[i].pose.orientation * Eigen::Vector3d::UnitZ() -
               truth.photos[i].pose.orientation * Eigen::Vector3d::UnitZ())
                  .norm(),
              2e-3);
}

TEST(Uncertainty, AFrameThatIsHalfHeldIsAReasonAndNoNumber) {
  const Block block = test::ring_block(6, 120, 0.3);
  Monitor silent;
  // One known place leaves turn and scale open, one fixed photo the scale.
  AdjustOptions one_place = squared();
  one_place.position_priors.push_back({PosedIndex(0), block.photos[0].pose.centre, 1e-4 * Eigen::Matrix3d::Identity()});
  AdjustOptions one_photo = squared();
  one_photo.fixed_photos = {PosedIndex(0)};
  for (const AdjustOptions& options : {one_place, one_photo}) {
    const Uncertainty result = uncertainty(block, options, {}, Executor(2), silent);
    EXPECT_FALSE(result.valid);
    EXPECT_NE(result.outcome.find("undetermined"), std::string::npos) << result.outcome;
  }
  // Two fixed photos hold it.
  one_photo.fixed_photos = {PosedIndex(0), PosedIndex(3)};
  EXPECT_TRUE(uncertainty(block, one_photo, {}, Executor(2), silent).valid);
}

}  // namespace
}  // namespace icefield
