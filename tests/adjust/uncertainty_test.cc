#include "icefield/adjust/uncertainty.h"

#include <gtest/gtest.h>

#include <numeric>

#include "icefield/geometry/similarity.h"
#include "src/adjust/mean_centre.h"
#include "tests/tools/made_up.h"

namespace icefield {
namespace {

AdjustOptions plain_options() {
  return test::exact_options(1e-10);
}

// The block fitted to the truth by its projection centres.
Block fitted(Block block, const Block& truth) {
  std::vector<Eigen::Vector3d> a, b;
  for (std::size_t i = 0; i < block.photos.size(); ++i)
    a.push_back(block.photos[i].pose.centre), b.push_back(truth.photos[i].pose.centre);
  transform(block, *fit_similarity(a, b));
  return block;
}

TEST(Uncertainty, IsWhatRepeatedMeasurementsScatterBy) {
  const Block truth = test::ring_block(7, 70, 0);
  const double sigma = 0.4;
  Monitor monitor;
  UncertaintyOptions uncertainty_options;
  uncertainty_options.observation_sigma_px = sigma;
  const Uncertainty predicted = uncertainty(truth, plain_options(), uncertainty_options, Executor(2), monitor);
  ASSERT_TRUE(predicted.valid) << predicted.outcome;
  EXPECT_TRUE(predicted.free_network);
  ASSERT_EQ(predicted.cameras[0].parameters, (std::vector<int>{0, 3, 4}));

  constexpr int kTrials = 400;
  CounterRandom random(11);
  double centres = 0, turns = 0, points = 0, focal = 0, product = 0;
  for (int trial = 0; trial < kTrials; ++trial) {
    Block noisy = truth;
    for (Observation& o : noisy.observations) o.pixel += sigma * Eigen::Vector2d(random.normal(), random.normal());
    const Block found = fitted(adjust(noisy, plain_options(), Executor(2), monitor).block, truth);
    for (std::size_t i = 0; i < truth.photos.size(); ++i) {
      centres += (found.photos[i].pose.centre - truth.photos[i].pose.centre).squaredNorm() / kTrials;
      const double angle = rotation_angle(found.photos[i].pose.orientation, truth.photos[i].pose.orientation);
      turns += angle * angle / kTrials;
    }
    for (std::size_t i = 0; i < truth.points.size(); ++i)
      points += (found.points[i] - truth.points[i]).squaredNorm() / kTrials;
    const double df = found.cameras[0].focal() - truth.cameras[0].focal(),
                 dk = found.cameras[0].parameters[3] - truth.cameras[0].parameters[3];
    focal += df * df / kTrials;
    product += df * dk / kTrials;
  }
  double predicted_centres = 0, predicted_turns = 0, predicted_points = 0;
  for (const Matrix6& p : predicted.poses)
    predicted_centres += p.bottomRightCorner<3, 3>().trace(), predicted_turns += p.topLeftCorner<3, 3>().trace();
  for (const Eigen::Matrix3d& p : predicted.points) predicted_points += p.trace();
  // Sums over many unknowns; the scatter of a variance from 400 trials is 7 percent for a single one.
  EXPECT_NEAR(centres / predicted_centres, 1, 0.1);
  EXPECT_NEAR(turns / predicted_turns, 1, 0.1);
  EXPECT_NEAR(points / predicted_points, 1, 0.06);
  EXPECT_NEAR(focal / predicted.cameras[0].covariance(0, 0), 1, 0.2);
  EXPECT_NEAR(product / std::sqrt(focal * predicted.cameras[0].covariance(1, 1)),
              predicted.cameras[0].correlation(0, 1), 0.15);
}

// Errors that neighbours have in common move a block more than independent ones of the same size.
TEST(Uncertainty, GroupsTellErrorsThatNeighboursHaveInCommon) {
  UncertaintyOptions wanted;
  wanted.groups = true;
  const auto factor = [&](bool in_common) {
    const Block truth = test::ring_block(8, 800, 0);
    Block block = truth;
    for (std::size_t p = 0; p < block.points.size(); ++p)
      for (std::uint64_t o = block.starts[p]; o < block.starts[p + 1]; ++o) {
        // By photo and, in common, by the eighth of the scene that the point lies in.
        const Eigen::Vector3d& x = truth.points[p];
        const std::uint64_t part = in_common ? (x.x() > 0) + 2 * (x.y() > 0) + 4 * (x.z() > 0) : 1000 + p;
        CounterRandom random(combine_keys(part, block.observations[o].photo));
        block.observations[o].pixel += 0.3 * Eigen::Vector2d(random.normal(), random.normal());
      }
    block = adjust(block, plain_options(), Executor(2)).block;
    return uncertainty(block, plain_options(), wanted, Executor(2)).group_factor;
  };
  const double apart = factor(false), together = factor(true);
  EXPECT_GT(apart, 0.8);
  EXPECT_LT(apart, 1.2);
  EXPECT_GT(together, 1.5 * apart);
}

TEST(Uncertainty, HoldsForCamerasOfOnePhotoEach) {
  Block truth = test::ring_block(6, 80, 0);
  for (std::size_t i = 1; i < truth.photos.size(); ++i) {
    truth.cameras.push_back(truth.cameras[0]);
    truth.photos[i].camera = CameraIndex(i);
  }
  // Photo 0 and 5 share theirs, the others have one each.
  truth.photos[5].camera = CameraIndex(0);
  AdjustOptions options = plain_options();
  options.free_parameters = {true};
  Monitor monitor;
  UncertaintyOptions uncertainty_options;
  uncertainty_options.observation_sigma_px = 0.3;
  const Uncertainty predicted = uncertainty(truth, options, uncertainty_options, Executor(2), monitor);
  ASSERT_TRUE(predicted.valid) << predicted.outcome;
  EXPECT_TRUE(predicted.cameras[5].parameters.empty());
  CounterRandom random(3);
  double own = 0, shared = 0, centres = 0, predicted_centres = 0;
  constexpr int kTrials = 300;
  for (int trial = 0; trial < kTrials; ++trial) {
    Block noisy = truth;
    for (Observation& o : noisy.observations) o.pixel += 0.3 * Eigen::Vector2d(random.normal(), random.normal());
    const Block found = fitted(adjust(noisy, options, Executor(2), monitor).block, truth);
    for (std::size_t i = 0; i < 6; ++i)
      centres += (found.photos[i].pose.centre - truth.photos[i].pose.centre).squaredNorm() / kTrials;
    own += std::pow(found.cameras[2].focal() - truth.cameras[2].focal(), 2) / kTrials;
    shared += std::pow(found.cameras[0].focal() - truth.cameras[0].focal(), 2) / kTrials;
  }
  for (const Matrix6& p : predicted.poses) predicted_centres += p.bottomRightCorner<3, 3>().trace();
  EXPECT_NEAR(centres / predicted_centres, 1, 0.12);
  EXPECT_NEAR(own / predicted.cameras[2].covariance(0, 0), 1, 0.25);
  EXPECT_NEAR(shared / predicted.cameras[0].covariance(0, 0), 1, 0.25);
}

TEST(Uncertainty, RedundancyNumbersSumToTheRedundancyAndResidualsAreStandard) {
  Block block = test::ring_block(9, 250, 0.5, 4);
  Monitor monitor;
  block = adjust(block, plain_options(), Executor(2), monitor).block;
  UncertaintyOptions options;
  options.residuals = true;
  const Uncertainty u = uncertainty(block, plain_options(), options, Executor(2), monitor);
  ASSERT_TRUE(u.valid);
  EXPECT_EQ(u.redundancy, 2 * block.observations.size() - 9 * 6 - 3 - 3 * block.points.size() + 7);
  EXPECT_NEAR(std::accumulate(u.redundancy_numbers.begin(), u.redundancy_numbers.end(), 0.0),
              static_cast<double>(u.redundancy), 1e-4 * static_cast<double>(u.redundancy));
  EXPECT_NEAR(u.sigma_px, 0.5, 0.03);
  // The larger of two normal numbers is beyond 3.29 in 0.2 percent of cases and below 1.5 in 75 percent.
  const auto beyond = std::count_if(u.standardised_residuals.begin(), u.standardised_residuals.end(),
                                    [](double w) { return w > 3.29; });
  const auto below =
      std::count_if(u.standardised_residuals.begin(), u.standardised_residuals.end(), [](double w) { return w < 1.5; });
  EXPECT_LT(beyond, 8);
  EXPECT_NEAR(static_cast<double>(below) / static_cast<double>(u.standardised_residuals.size()), 0.75, 0.03);
}

TEST(Uncertainty, OfPositionsThatAreKnownIsNoFreeNetwork) {
  const Block truth = test::ring_block(8, 120, 0);
  AdjustOptions options = plain_options();
  options.observation_sigma_px = 0.5;
  for (std::uint32_t i = 0; i < 8; ++i)
    options.position_priors.push_back({PosedIndex(i), truth.photos[i].pose.centre, 1e-4 * Eigen::Matrix3d::Identity()});
  Monitor monitor;
  UncertaintyOptions uncertainty_options;
  uncertainty_options.observation_sigma_px = 0.5;
  const Uncertainty u = uncertainty(truth, options, uncertainty_options, Executor(1), monitor);
  ASSERT_TRUE(u.valid);
  EXPECT_FALSE(u.free_network);
  double mean = 0;
  for (const Matrix6& p : u.poses) {
    EXPECT_LT((p.bottomRightCorner<3, 3>().trace()), 3e-4);  // no worse than what was known of each
    mean += p.bottomRightCorner<3, 3>().trace() / 8;
  }
  // The photos hold the shape, so that eight positions share in the frame: seven unknowns of 24.
  EXPECT_NEAR(mean / 3e-4, 7.0 / 24, 0.08);
}

TEST(Uncertainty, OfTheMiddleOfPhotosIsThatOfTheirSum) {
  const Block truth = test::ring_block(8, 120, 0);
  AdjustOptions options = plain_options();
  options.observation_sigma_px = 0.5;
  const Eigen::Vector3d sigma(0.01, 0.02, 0.03);
  for (std::uint32_t i = 0; i < 8; ++i)
    options.position_priors.push_back(
        {PosedIndex(i), truth.photos[i].pose.centre, sigma.cwiseAbs2().asDiagonal().toDenseMatrix()});
  UncertaintyOptions wanted;
  wanted.observation_sigma_px = 0.5;
  const Uncertainty u = uncertainty(truth, options, wanted, Executor(2));
  ASSERT_TRUE(u.valid);
  std::vector<Eigen::Vector3d> weights(8, Eigen::Vector3d::Zero());
  weights[3] = {1, 2, 1};
  const auto one = variance_of_centres(truth, options, weights, Executor(2));
  ASSERT_TRUE(one);
  for (int c = 0; c < 3; ++c)
    EXPECT_NEAR((*one)[c] / (u.poses[3](3 + c, 3 + c) * weights[3][c] * weights[3][c]), 1, 1e-6);
  // Positions hold the middle of the block as well as their own middle is known: its shape has no part in it.
  weights.assign(8, Eigen::Vector3d::Constant(1.0 / 8));
  const auto middle = variance_of_centres(truth, options, weights, Executor(2));
  ASSERT_TRUE(middle);
  for (int c = 0; c < 3; ++c) EXPECT_NEAR((*middle)[c] / (sigma[c] * sigma[c] / 8), 1, 0.02);
  // Without them nothing holds it.
  options.position_priors.clear();
  const auto free = variance_of_centres(truth, options, weights, Executor(2));
  EXPECT_TRUE(!free || free->maxCoeff() > 1) << free->transpose();
}

TEST(Uncertainty, SaysWhenSomethingIsUndetermined) {
  Block block = test::ring_block(5, 60, 0);
  // A photo that sees one point alone.
  block.photos.push_back({PhotoIndex(5), CameraIndex(0), block.photos[0].pose});
  std::vector<Observation> seen(block.of_point(0).begin(), block.of_point(0).end());
  seen.push_back({PosedIndex(5), FeatureIndex(), {500, 400}});
  block.add_point(block.points[0], seen);
  Monitor monitor;
  const Uncertainty u = uncertainty(block, plain_options(), {}, Executor(1), monitor);
  EXPECT_FALSE(u.valid);
  EXPECT_EQ(u.outcome, "the photos leave something undetermined");
  EXPECT_FALSE(uncertainty(Block{}, {}, {}, Executor(1), monitor).valid);
}

}  // namespace
}  // namespace icefield
