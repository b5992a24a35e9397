#include "icefield/geometry/resection.h"

#include <gtest/gtest.h>

#include "icefield/base/random.h"

namespace icefield {
namespace {

struct Made {
  Pose pose;
  std::vector<PointView> views;
};

Made make(std::uint64_t seed, int count, double noise = 0) {
  CounterRandom random(seed);
  Made made;
  made.pose =
      look_at(Eigen::Vector3d(random.normal(), random.normal(), random.normal()).normalized() * random.uniform(4, 8),
              {0, 0, 0}, {0.1, 0.2, 1});
  for (int i = 0; i < count; ++i) {
    const Eigen::Vector3d p(random.uniform(-1.5, 1.5), random.uniform(-1.5, 1.5), random.uniform(-1.5, 1.5));
    made.views.push_back(
        {p, made.pose.to_camera(p).hnormalized() + noise * Eigen::Vector2d(random.normal(), random.normal())});
  }
  return made;
}

TEST(PosesFromThree, TheTruthIsAmongThem) {
  int exact = 0;
  constexpr int kTrials = 1000;
  for (int seed = 1; seed <= kTrials; ++seed) {
    const Made made = make(static_cast<std::uint64_t>(seed), 3);
    const auto poses = poses_from_three(made.views);
    EXPECT_LE(poses.size(), 4u);
    bool found = false;
    for (const Pose& pose : poses) {
      for (const PointView& view : made.views)
        EXPECT_LT((pose.to_camera(view.point).hnormalized() - view.direction).norm(), 1e-4);
      found = found || ((pose.centre - made.pose.centre).norm() < 1e-5 &&
                        rotation_angle(pose.orientation, made.pose.orientation) < 1e-5);
    }
    exact += found;
  }
  EXPECT_GE(exact, kTrials * 99 / 100);
}

TEST(PosesFromThree, PointsOnALineGiveNothing) {
  Made made = make(3, 3);
  made.views[2].point = 2 * made.views[1].point - made.views[0].point;
  made.views[2].direction = made.pose.to_camera(made.views[2].point).hnormalized();
  EXPECT_TRUE(poses_from_three(made.views).empty());
}

TEST(Resect, HalfOfTheViewsWrong) {
  Made made = make(7, 200, 0.5 / 1000);
  CounterRandom random(1);
  for (int i = 0; i < 100; ++i)
    made.views[static_cast<std::size_t>(i)].direction = {random.uniform(-0.4, 0.4), random.uniform(-0.4, 0.4)};
  ResectionOptions options;
  options.max_error = 3.0 / 1000;
  const Resection found = resect(made.views, options, 1);
  EXPECT_GE(found.inliers.size(), 95u);
  EXPECT_LE(found.inliers.size(), 106u);
  EXPECT_LT((found.pose.centre - made.pose.centre).norm(), 0.01);
  EXPECT_LT(rotation_angle(found.pose.orientation, made.pose.orientation), 0.002);
  EXPECT_EQ(resect(made.views, options, 1).inliers, found.inliers);
}

TEST(PosesFromFour, TheTruthIsAmongThem) {
  int found = 0;
  constexpr int kTrials = 300;
  for (int seed = 1; seed <= kTrials; ++seed) {
    Made made = make(static_cast<std::uint64_t>(seed), 4);
    const double focal = 600 + 5 * seed;
    for (PointView& view : made.views) view.direction *= focal;
    for (const FocalPose& pose : poses_from_four(made.views, 350, 8000)) {
      for (const PointView& view : made.views)
        EXPECT_LT((pose.focal * pose.pose.to_camera(view.point).hnormalized() - view.direction).norm(),
                  1e-3 * pose.focal);
      if (std::abs(pose.focal / focal - 1) < 1e-4 && (pose.pose.centre - made.pose.centre).norm() < 1e-2) {
        ++found;
        break;
      }
    }
  }
  // The search by steps may pass over solutions that lie close together; samples are many.
  EXPECT_GE(found, kTrials * 85 / 100);
}

TEST(ResectFocal, FindsBothAmongOutliers) {
  Made made = make(7, 200);
  CounterRandom random(1);
  const double focal = 1340;
  for (PointView& view : made.views)
    view.direction = focal * view.direction + 0.5 * Eigen::Vector2d(random.normal(), random.normal());
  for (int i = 0; i < 80; ++i)
    made.views[static_cast<std::size_t>(i)].direction = {random.uniform(-500, 500), random.uniform(-500, 500)};
  ResectionOptions options;
  options.max_error = 4;
  const FocalResection found = resect_focal(made.views, options, 400, 9000, 1);
  EXPECT_GE(found.inliers.size(), 112u);
  EXPECT_NEAR(found.pose.focal, focal, 0.01 * focal);
  EXPECT_LT((found.pose.pose.centre - made.pose.centre).norm(), 0.08);
  // Nothing but noise: few agree.
  for (PointView& view : made.views) view.direction = {random.uniform(-500, 500), random.uniform(-500, 500)};
  EXPECT_LT(resect_focal(made.views, options, 400, 9000, 1).inliers.size(), 20u);
}

TEST(RefinePose, ConvergesToTheTruth) {
  const Made made = make(9, 30);
  Pose start = made.pose;
  start.centre += Eigen::Vector3d(0.2, -0.1, 0.3);
  start.orientation = (rotation_from_vector({0.03, 0.02, -0.04}) * start.orientation).normalized();
  const Pose refined = refine_pose(start, made.views, 0.01, 20);
  EXPECT_LT((refined.centre - made.pose.centre).norm(), 1e-8);
}

}  // namespace
}  // namespace icefield
