#include "icefield/adjust/adjust.h"

#include <gtest/gtest.h>

#include "icefield/adjust/uncertainty.h"
#include "icefield/geometry/similarity.h"
#include "tests/tools/made_up.h"

namespace icefield {
namespace {

// Largest distance of a block's centres and points from truth, after a similarity.
double error_after_alignment(const Block& block, const Block& truth) {
  std::vector<Eigen::Vector3d> a, b;
  for (std::size_t i = 0; i < block.photos.size(); ++i)
    a.push_back(block.photos[i].pose.centre), b.push_back(truth.photos[i].pose.centre);
  const auto fit = fit_similarity(a, b);
  double largest = 0;
  for (std::size_t i = 0; i < a.size(); ++i) largest = std::max(largest, (*fit * a[i] - b[i]).norm());
  for (std::size_t i = 0; i < block.points.size(); ++i)
    largest = std::max(largest, (*fit * block.points[i] - truth.points[i]).norm());
  return largest;
}

TEST(Adjust, FindsTheTruthFromADisturbedStart) {
  const Block truth = test::ring_block(10, 200, 0);
  Block start = truth;
  test::disturb(start, 0.05);
  start.cameras[0].parameters[0] *= 1.04;
  start.cameras[0].parameters[3] = start.cameras[0].parameters[4] = 0;
  Monitor monitor;
  AdjustOptions options;
  options.loss = Loss::squared;
  options.cost_tolerance = 1e-14;
  const AdjustResult result = adjust(start, options, Executor(2), monitor);
  EXPECT_TRUE(result.summary.valid);
  EXPECT_EQ(result.summary.outcome, "converged") << result.summary.in_a_line();
  EXPECT_LT(result.summary.rms_after_px, 1e-5);
  EXPECT_GT(result.summary.rms_before_px, 5);
  EXPECT_NEAR(result.block.cameras[0].focal(), truth.cameras[0].focal(), 1e-3);
  EXPECT_NEAR(result.block.cameras[0].parameters[3], truth.cameras[0].parameters[3], 1e-6);
  EXPECT_LT(error_after_alignment(result.block, truth), 1e-5);
}

TEST(Adjust, NoiseGivesTheExpectedResidual) {
  const Block truth = test::ring_block(12, 400, 0.5);
  Block start = truth;
  test::disturb(start, 0.02);
  Monitor monitor;
  AdjustOptions options;
  options.loss = Loss::squared;
  const AdjustResult result = adjust(start, options, Executor(2), monitor);
  // RMS over observations (2 coordinates each): sigma sqrt(2) sqrt(redundancy / measurements).
  const double measurements = 2.0 * static_cast<double>(result.summary.observations),
               unknowns = static_cast<double>(result.summary.parameters) - 7;
  EXPECT_NEAR(result.summary.rms_after_px, 0.5 * std::sqrt(2.0) * std::sqrt((measurements - unknowns) / measurements),
              0.015);
}

TEST(Adjust, RobustLossesBearOutliers) {
  const Block truth = test::ring_block(10, 200, 0.3);
  Block start = truth;
  CounterRandom random(4);
  for (Observation& o : start.observations)
    if (random.uniform() < 0.03) o.pixel += Eigen::Vector2d(random.uniform(-60, 60), random.uniform(-60, 60));
  test::disturb(start, 0.02);
  Monitor monitor;
  const auto error_with = [&](Loss loss) {
    AdjustOptions options;
    options.loss = loss;
    options.max_iterations = 100;
    const auto moved = adjust(start, options, Executor(2), monitor).block;
    std::vector<Eigen::Vector3d> a, b;
    for (std::size_t i = 0; i < moved.photos.size(); ++i)
      a.push_back(moved.photos[i].pose.centre), b.push_back(truth.photos[i].pose.centre);
    const auto fit = fit_similarity(a, b);
    double sum = 0;
    for (std::size_t i = 0; i < a.size(); ++i) sum += (*fit * a[i] - b[i]).norm();
    return sum / static_cast<double>(a.size());
  };
  const double squared = error_with(Loss::squared);
  EXPECT_LT(error_with(Loss::huber), 0.35 * squared);
  EXPECT_LT(error_with(Loss::cauchy), 0.15 * squared);
  EXPECT_LT(error_with(Loss::tukey), squared);
}

TEST(Adjust, FindsTheParametersOfEveryLens) {
  for (const CameraModel model : {CameraModel::pinhole, CameraModel::brown, CameraModel::fisheye}) {
    Block truth = test::ring_block(12, 300, 0);
    Camera lens = make_camera(model, 1000, 800, 700);
    const double brown[] = {-0.06, 0.02, -0.004, 0.001, -0.0007}, angular[] = {0.02, -0.008, 0.003, -0.0006};
    if (model == CameraModel::brown) std::copy_n(brown, 5, lens.parameters.begin() + 3);
    if (model == CameraModel::fisheye) std::copy_n(angular, 4, lens.parameters.begin() + 3);
    lens.parameters[1] += 7, lens.parameters[2] -= 5;
    truth.cameras[0] = lens;
    for (std::size_t i = 0; i < truth.points.size(); ++i)
      for (std::uint64_t o = truth.starts[i]; o < truth.starts[i + 1]; ++o) {
        const auto pixel = project(lens, truth.photos[truth.observations[o].photo].pose.to_camera(truth.points[i]));
        ASSERT_TRUE(pixel);
        truth.observations[o].pixel = *pixel;
      }
    Block start = truth;
    test::disturb(start, 0.02);
    start.cameras[0] = make_camera(model, 1000, 800, 720);
    AdjustOptions options;
    options.loss = Loss::squared;
    options.cost_tolerance = 1e-15;
    options.max_iterations = 100;
    options.free_parameters.assign(camera_parameters(model).size(), true);
    Monitor monitor;
    const AdjustResult result = adjust(start, options, Executor(2), monitor);
    EXPECT_LT(result.summary.rms_after_px, 1e-4) << camera_model_name(model);
    // What the distorted lens shows in its corners, not each term: terms of high powers stand in for each other.
    for (const Eigen::Vector2d& corner : {Eigen::Vector2d(0, 0), Eigen::Vector2d(1000, 800), Eigen::Vector2d(500, 100)})
      EXPECT_LT((*unproject(result.block.cameras[0], corner) - *unproject(lens, corner)).norm(), 2e-3)
          << camera_model_name(model);
    EXPECT_NEAR(result.block.cameras[0].focal(), 700, 0.1);
  }
}

TEST(Adjust, ConjugateGradientsComeToTheSameBlock) {
  Block start = test::ring_block(20, 300, 0.4);
  test::disturb(start, 0.02);
  Monitor monitor;
  AdjustOptions options;
  options.loss = Loss::squared;
  options.cost_tolerance = 1e-12;
  options.max_iterations = 200;
  const AdjustResult direct = adjust(start, options, Executor(2), monitor);
  options.elimination = Elimination::iterative;
  int inner = 0;
  options.on_iteration = [&](const AdjustIteration& iteration) { inner += iteration.inner_iterations; };
  const AdjustResult iterative = adjust(start, options, Executor(2), monitor);
  EXPECT_GT(inner, iterative.summary.iterations);
  EXPECT_NEAR(iterative.summary.cost_after / direct.summary.cost_after, 1, 1e-5);
  options.on_iteration = nullptr;
  EXPECT_EQ(block_to_bytes(iterative.block), block_to_bytes(adjust(start, options, Executor(5), monitor).block));
}

TEST(Adjust, PositionsThatAreKnownHoldTheFrame) {
  const Block truth = test::ring_block(8, 150, 0.3);
  Block start = truth;
  Similarity moved;
  moved.scale = 1.03;
  moved.rotation = rotation_from_vector({0.01, -0.02, 0.015});
  moved.translation = {0.2, -0.1, 0.1};
  transform(start, moved);
  AdjustOptions options;
  options.loss = Loss::squared;
  for (std::uint32_t i = 0; i < 8; ++i)
    options.position_priors.push_back({PosedIndex(i), truth.photos[i].pose.centre, 1e-4 * Eigen::Matrix3d::Identity()});
  Monitor monitor;
  const Block found = adjust(start, options, Executor(2), monitor).block;
  for (std::size_t i = 0; i < 8; ++i)
    EXPECT_LT((found.photos[i].pose.centre - truth.photos[i].pose.centre).norm(), 0.02);
}

TEST(Adjust, TheSameBytesForAnyNumberOfThreads) {
  Block start = test::ring_block(9, 700, 0.5);
  test::disturb(start, 0.03);
  Monitor monitor;
  const Bytes one = block_to_bytes(adjust(start, {}, Executor(1), monitor).block);
  EXPECT_EQ(one, block_to_bytes(adjust(start, {}, Executor(2), monitor).block));
  EXPECT_EQ(one, block_to_bytes(adjust(start, {}, Executor(7), monitor).block));
}

// Features of a point say one place; marks of it, set elsewhere by hand, another. It goes by how sure each is.
TEST(Adjust, MarksWeighByTheirOwnStandardDeviation) {
  const Block truth = test::ring_block(8, 120, 0);
  const Eigen::Vector2d shift(4, 0);
  const auto with_marks = [&](float sigma_px) {
    Block block = truth;
    // Every second observation of point 7 is a mark that is 4 px off.
    for (std::uint64_t o = block.starts[7]; o < block.starts[8]; o += 2) {
      block.observations[o].kind = ObservationKind::mark;
      block.observations[o].sigma_px = sigma_px;
      block.observations[o].pixel += shift;
    }
    return block;
  };
  AdjustOptions options;
  options.loss = Loss::squared;
  options.fix_poses = true;
  options.free_parameters = {};
  options.observation_sigma_px = 0.5;
  const auto moved = [&](float sigma_px) {
    return (adjust(with_marks(sigma_px), options, Executor(2)).block.points[7] - truth.points[7]).norm();
  };
  const double as_features = moved(0), vague = moved(50), sure = moved(0.005f);
  EXPECT_EQ(moved(0.5f), as_features);
  EXPECT_LT(vague, 0.01 * as_features);
  EXPECT_GT(sure, 1.3 * as_features);
  // And what is said of the point follows.
  UncertaintyOptions known;
  known.observation_sigma_px = 0.5;
  const auto said = [&](float sigma_px) {
    return uncertainty(with_marks(sigma_px), options, known, Executor(2)).points[7].trace();
  };
  EXPECT_LT(said(0.005f), 0.01 * said(0));
  EXPECT_GT(said(50), 1.3 * said(0));
  // The noise of features is not told by marks.
  EXPECT_LT(residual_sigma(with_marks(1)), 1e-6);
}

TEST(Adjust, WhatIsFixedStays) {
  Block start = test::ring_block(8, 100, 0.3);
  test::disturb(start, 0.02);
  Monitor monitor;
  AdjustOptions options;
  options.fixed_photos = {PosedIndex(0), PosedIndex(3)};
  options.free_parameters = {};
  const Block moved = adjust(start, options, Executor(2), monitor).block;
  EXPECT_EQ(moved.photos[0].pose.centre, start.photos[0].pose.centre);
  EXPECT_EQ(moved.photos[3].pose.centre, start.photos[3].pose.centre);
  EXPECT_NE(moved.photos[1].pose.centre, start.photos[1].pose.centre);
  EXPECT_EQ(moved.cameras[0], start.cameras[0]);
  options.fix_poses = true;
  options.fix_points = true;
  options.free_parameters = {true};
  const Block focal_only = adjust(start, options, Executor(2), monitor).block;
  EXPECT_EQ(focal_only.points[5], start.points[5]);
  EXPECT_NE(focal_only.cameras[0].focal(), start.cameras[0].focal());
}

TEST(Adjust, SeveralCamerasAreKeptApart) {
  Block truth = test::ring_block(12, 300, 0);
  // Photos 6 to 11 belong to a second camera of another focal length.
  Camera second = truth.cameras[0];
  second.parameters[0] = 1300;
  truth.cameras.push_back(second);
  for (std::size_t i = 6; i < 12; ++i) truth.photos[i].camera = CameraIndex(1);
  for (std::size_t i = 0; i < truth.points.size(); ++i)
    for (std::uint64_t o = truth.starts[i]; o < truth.starts[i + 1]; ++o) {
      Observation& observation = truth.observations[o];
      const PosedPhoto& photo = truth.photos[observation.photo];
      observation.pixel = *project(truth.camera_of(photo), photo.pose.to_camera(truth.points[i]));
    }
  Block start = truth;
  start.cameras[0].parameters[0] *= 1.03;
  start.cameras[1].parameters[0] *= 0.97;
  test::disturb(start, 0.02);
  Monitor monitor;
  AdjustOptions options;
  options.cost_tolerance = 1e-14;
  options.loss = Loss::squared;
  const Block moved = adjust(start, options, Executor(2), monitor).block;
  EXPECT_NEAR(moved.cameras[0].focal(), 900, 0.01);
  EXPECT_NEAR(moved.cameras[1].focal(), 1300, 0.01);
}

TEST(Adjust, PriorsPull) {
  Block start = test::ring_block(3, 30, 0.5);
  Monitor monitor;
  AdjustOptions options;
  options.priors = {{CameraIndex(0), 0, 950, 0.001}};
  EXPECT_NEAR(adjust(start, options, Executor(1), monitor).block.cameras[0].focal(), 950, 0.5);
}

TEST(Adjust, RefusesWhatTheBlockDoesNotHave) {
  const Block block = test::ring_block(5, 40, 0);
  Monitor monitor;
  const auto refused = [&](const Block& of, const AdjustOptions& options, const std::string& subject) {
    try {
      adjust(of, options, Executor(1), monitor);
      ADD_FAILURE() << "taken: " << subject;
    } catch (const Error& error) {
      EXPECT_EQ(error.kind(), ErrorKind::usage);
      EXPECT_NE(error.subject().find(subject), std::string::npos) << error.what();
    }
    EXPECT_THROW(uncertainty(of, options, {}, Executor(1), monitor), Error) << subject;
  };
  const auto with = [](const auto& change) {
    AdjustOptions options;
    change(options);
    return options;
  };
  refused(block, with([](AdjustOptions& o) { o.fixed_photos = {PosedIndex(5)}; }), "fixed photo");
  refused(block, with([](AdjustOptions& o) { o.priors = {{CameraIndex(1), 0, 1000, 10}}; }), "prior");
  refused(block, with([](AdjustOptions& o) { o.priors = {{CameraIndex(0), 99, 0, 1}}; }), "parameter 99");
  refused(block, with([](AdjustOptions& o) { o.priors = {{CameraIndex(0), 0, 1000, 0}}; }), "parameter 0");
  refused(block, with([](AdjustOptions& o) {
            o.position_priors = {{PosedIndex(5), {}, Eigen::Matrix3d::Identity()}};
          }),
          "known position");
  refused(block, with([](AdjustOptions& o) {
            o.direction_priors = {{PosedIndex(7), -Eigen::Vector3d::UnitY(), 0.1}};
          }),
          "known direction");
  refused(block, with([](AdjustOptions& o) { o.free_by_camera = {{true}, {true}}; }), "by camera");
  refused(block, with([](AdjustOptions& o) { o.observation_sigma_px = 0; }), "standard deviation");
  Block broken = block;
  broken.observations[3].photo = PosedIndex(5);
  refused(broken, {}, "observation 3");
  broken = block;
  broken.starts.pop_back();
  refused(broken, {}, "observations of the block");
  broken = block;
  broken.photos[2].camera = CameraIndex(4);
  refused(broken, {}, "photo 2");
  broken = block;
  broken.tracks = {TrackIndex(0)};
  refused(broken, {}, "tracks");
}

TEST(Adjust, NothingToAdjustIsSaid) {
  Monitor monitor;
  const AdjustResult result = adjust(Block{}, {}, Executor(1), monitor);
  EXPECT_FALSE(result.summary.valid);
  EXPECT_EQ(result.summary.outcome, "nothing to adjust");
  EXPECT_EQ(AdjustSummary{}.outcome, "nothing done yet");
}

TEST(Adjust, StopsOnRequest) {
  struct Stopped : Monitor {
    bool cancelled() const override { return true; }
  } monitor;
  try {
    adjust(test::ring_block(5, 50, 0.5), {}, Executor(1), monitor);
    FAIL();
  } catch (const Error& e) {
    EXPECT_EQ(e.kind(), ErrorKind::interrupted);
  }
}

}  // namespace
}  // namespace icefield
