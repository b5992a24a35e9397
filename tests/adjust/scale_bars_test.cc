#include <gtest/gtest.h>

#include "icefield/adjust/uncertainty.h"
#include "icefield/adjust/weak_points.h"
#include "icefield/base/error.h"
#include "icefield/geometry/similarity.h"
#include "tests/tools/made_up.h"

namespace icefield {
namespace {

double length(const Block& block, std::uint32_t a, std::uint32_t b) {
  return (block.points[a] - block.points[b]).norm();
}

ScaleBar bar_of(const Block& truth, std::uint32_t a, std::uint32_t b, double sigma) {
  return {PointIndex(a), PointIndex(b), length(truth, a, b), sigma};
}

// Photos 0 and 5 share a camera, the others have one each: nodes of every kind.
Block ring_of_cameras() {
  Block block = test::ring_block(6, 80, 0);
  for (std::size_t i = 1; i < block.photos.size(); ++i) {
    block.cameras.push_back(block.cameras[0]);
    block.photos[i].camera = CameraIndex(i);
  }
  block.photos[5].camera = CameraIndex(0);
  return block;
}

// The block turned and moved, but not grown, onto the truth by its centres.
Block laid_on(Block block, const Block& truth) {
  std::vector<Eigen::Vector3d> a, b;
  Eigen::Vector3d mean_a = Eigen::Vector3d::Zero(), mean_b = Eigen::Vector3d::Zero();
  for (std::size_t i = 0; i < block.photos.size(); ++i) {
    a.push_back(block.photos[i].pose.centre), b.push_back(truth.photos[i].pose.centre);
    mean_a += a.back() / static_cast<double>(block.photos.size()),
        mean_b += b.back() / static_cast<double>(block.photos.size());
  }
  Similarity move = *fit_similarity(a, b);
  move.scale = 1;
  move.translation = mean_b - move.rotation * mean_a;
  transform(block, move);
  return block;
}

TEST(ScaleBars, GiveAFreeBlockItsScaleAndNothingElse) {
  const Block truth = test::ring_block(10, 200, 0);
  Block start = truth;
  test::disturb(start, 0.03);
  transform(start, {1.25, Eigen::Quaterniond::Identity(), {3, 0, 0}});
  for (const bool shared : {true, false}) {
    AdjustOptions options = test::exact_options();
    if (!shared) options.free_parameters.clear();
    options.scale_bars = {bar_of(truth, 3, 50, 1e-4), bar_of(truth, 50, 120, 1e-4)};
    Monitor monitor;
    const AdjustResult result = adjust(start, options, Executor(2), monitor);
    EXPECT_LT(result.summary.rms_after_px, 1e-5) << result.summary.in_a_line();
    EXPECT_NEAR(length(result.block, 3, 50), options.scale_bars[0].length, 1e-7);
    EXPECT_NEAR(length(result.block, 50, 120), options.scale_bars[1].length, 1e-7);
    EXPECT_NEAR(length(result.block, 7, 90), length(truth, 7, 90), 1e-6);  // what no bar measures has followed
    EXPECT_NEAR((result.block.photos[0].pose.centre - result.block.photos[5].pose.centre).norm(),
                (truth.photos[0].pose.centre - truth.photos[5].pose.centre).norm(), 1e-6);
  }
}

TEST(ScaleBars, ThatContradictEachOtherMeetByTheirWeights) {
  const Block truth = test::ring_block(10, 200, 0);
  AdjustOptions options = test::exact_options();
  // With photos this exact the shape gives way nowhere: the scale is the weighted mean of what the bars say.
  options.observation_sigma_px = 0.02;
  options.scale_bars = {bar_of(truth, 3, 50, 0.01), bar_of(truth, 60, 120, 0.02)};
  options.scale_bars[0].length *= 1.02;
  Monitor monitor;
  const Block block = adjust(truth, options, Executor(1), monitor).block;
  const double a = length(truth, 3, 50), b = length(truth, 60, 120), wa = a * a / 1e-4, wb = b * b / 4e-4;
  EXPECT_NEAR(length(block, 10, 11) / length(truth, 10, 11), (1.02 * wa + wb) / (wa + wb), 1e-4);
}

TEST(ScaleBars, GiveTheSameBytesForAnyNumberOfThreadsAndBothSolvers) {
  Block start = ring_of_cameras();
  const Block truth = start;
  test::disturb(start, 0.02);
  AdjustOptions options = test::exact_options();
  options.free_parameters = {true};
  options.scale_bars = {bar_of(truth, 0, 1, 1e-3), bar_of(truth, 1, 2, 1e-3)};
  Monitor monitor;
  const Block one = adjust(start, options, Executor(1), monitor).block;
  for (const int threads : {2, 7}) {
    const Block other = adjust(start, options, Executor(threads), monitor).block;
    for (std::size_t i = 0; i < one.points.size(); ++i) ASSERT_EQ(one.points[i], other.points[i]);
  }
  options.elimination = Elimination::iterative;
  options.max_iterations = 200;
  EXPECT_NEAR(length(adjust(start, options, Executor(2), monitor).block, 10, 20), length(truth, 10, 20), 1e-4);
  EXPECT_NEAR(length(one, 10, 20), length(truth, 10, 20), 1e-7);
}

TEST(ScaleBars, ThatMakeNoSenseAreRefused) {
  const Block block = test::ring_block(5, 30, 0);
  Monitor monitor;
  const PointIndex zero(0), one(1), four(4), beyond(30);
  for (const ScaleBar& wrong : {ScaleBar{zero, beyond, 1, 0.1}, ScaleBar{four, four, 1, 0.1},
                                ScaleBar{zero, one, 0, 0.1}, ScaleBar{zero, one, 1, 0}}) {
    AdjustOptions options;
    options.scale_bars = {wrong};
    EXPECT_THROW(adjust(block, options, Executor(1), monitor), Error);
    EXPECT_THROW(uncertainty(block, options, {}, Executor(1), monitor), Error);
  }
  AdjustOptions options;
  options.point_priors = {{beyond, {}, Eigen::Matrix3d::Identity()}};
  EXPECT_THROW(adjust(block, options, Executor(1), monitor), Error);
}

TEST(ScaleBars, StayBetweenTheirPointsWhenWeakOnesGo) {
  const Block made = test::ring_block(10, 200, 0.3), truth = test::ring_block(10, 200, 0);
  // Every fifth point has three observations, one of them wrong, among them one end of the second bar: points before,
  // between and behind the ends go.
  Block block;
  block.cameras = made.cameras, block.photos = made.photos;
  for (std::size_t p = 0; p < made.points.size(); ++p) {
    std::vector<Observation> seen(made.of_point(p).begin(), made.of_point(p).end());
    if (p % 5 == 0 && seen.size() > 3) seen.resize(3), seen[1].pixel += Eigen::Vector2d(6, -6);
    block.add_point(made.points[p], seen);
  }
  WeakPointOptions options;
  options.adjust = test::exact_options();
  options.adjust.observation_sigma_px = 0.3;
  options.adjust.scale_bars = {bar_of(truth, 61, 142, 1e-4), bar_of(truth, 120, 142, 1e-4)};
  options.max_share = 0.3;
  Monitor monitor;
  transform(block, {1.2, Eigen::Quaterniond::Identity(), Eigen::Vector3d::Zero()});
  const Block start = adjust(block, options.adjust, Executor(2), monitor).block;
  const WeakPointResult result = remove_weak_points(start, options, Executor(2), monitor);
  ASSERT_LT(result.block.points.size(), block.points.size() - 10) << result.outcome;
  // The ends are still there, as far apart as their bars say.
  const auto nearest = [&](std::uint32_t p) {
    return *std::min_element(result.block.points.begin(), result.block.points.end(), [&](const auto& a, const auto& b) {
      return (a - start.points[p]).norm() < (b - start.points[p]).norm();
    });
  };
  EXPECT_NEAR((nearest(61) - nearest(142)).norm(), length(truth, 61, 142), 0.003);
  EXPECT_NEAR((nearest(120) - nearest(142)).norm(), length(truth, 120, 142), 0.003);
  const double across = (result.block.photos[0].pose.centre - result.block.photos[5].pose.centre).norm();
  EXPECT_NEAR(across, (truth.photos[0].pose.centre - truth.photos[5].pose.centre).norm(), 0.01);
}

TEST(ScaleBars, UncertaintyIsWhatRepeatedMeasurementsScatterBy) {
  const Block truth = ring_of_cameras();
  AdjustOptions options = test::exact_options();
  options.free_parameters = {true};
  options.observation_sigma_px = 0.3;
  const double sigma = 0.01;  // so vague that the scale is most of what is uncertain
  options.scale_bars = {bar_of(truth, 4, 30, sigma), bar_of(truth, 30, 41, sigma)};
  Monitor monitor;
  UncertaintyOptions uncertainty_options;
  uncertainty_options.observation_sigma_px = 0.3;
  uncertainty_options.residuals = true;
  const Uncertainty predicted = uncertainty(truth, options, uncertainty_options, Executor(2), monitor);
  ASSERT_TRUE(predicted.valid) << predicted.outcome;
  EXPECT_TRUE(predicted.free_network);
  double redundancy = 0;
  for (const double r : predicted.redundancy_numbers) redundancy += r;
  // The bars' own share comes on top: two measurements for one unknown, the scale.
  EXPECT_NEAR(redundancy, static_cast<double>(predicted.redundancy), 0.5);

  CounterRandom random(5);
  double centres = 0, ends = 0, points = 0, predicted_centres = 0, predicted_ends = 0, predicted_points = 0;
  constexpr int kTrials = 300;
  for (int trial = 0; trial < kTrials; ++trial) {
    Block noisy = truth;
    for (Observation& o : noisy.observations) o.pixel += 0.3 * Eigen::Vector2d(random.normal(), random.normal());
    AdjustOptions measured = options;
    for (ScaleBar& bar : measured.scale_bars) bar.length += sigma * random.normal();
    const Block found = laid_on(adjust(noisy, measured, Executor(2), monitor).block, truth);
    for (std::size_t i = 0; i < truth.photos.size(); ++i)
      centres += (found.photos[i].pose.centre - truth.photos[i].pose.centre).squaredNorm() / kTrials;
    for (const std::size_t i : {4, 30, 41}) ends += (found.points[i] - truth.points[i]).squaredNorm() / kTrials;
    for (const std::size_t i : {5, 31, 42, 60}) points += (found.points[i] - truth.points[i]).squaredNorm() / kTrials;
  }
  for (const Matrix6& p : predicted.poses) predicted_centres += p.bottomRightCorner<3, 3>().trace();
  for (const std::size_t i : {4, 30, 41}) predicted_ends += predicted.points[i].trace();
  for (const std::size_t i : {5, 31, 42, 60}) predicted_points += predicted.points[i].trace();
  EXPECT_NEAR(centres / predicted_centres, 1, 0.2);  // one unknown, the scale, makes most of it
  EXPECT_NEAR(ends / predicted_ends, 1, 0.15);
  EXPECT_NEAR(points / predicted_points, 1, 0.15);
  // Without bars the block is fitted with its scale, and better.
  options.scale_bars.clear();
  const Uncertainty free = uncertainty(truth, options, uncertainty_options, Executor(2), monitor);
  double free_centres = 0;
  for (const Matrix6& p : free.poses) free_centres += p.bottomRightCorner<3, 3>().trace();
  EXPECT_LT(free_centres, 0.5 * predicted_centres);
}

}  // namespace
}  // namespace icefield
