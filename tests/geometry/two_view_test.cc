#include "icefield/geometry/two_view.h"

#include <gtest/gtest.h>

#include <cmath>

#include "icefield/geometry/polynomial.h"
#include "icefield/geometry/similarity.h"
#include "src/geometry/decompositions.h"
#include "tests/tools/made_up.h"

namespace icefield {
namespace {

double distance_of(const Eigen::Matrix3d& a, const Eigen::Matrix3d& b) {
  return std::min((a - b).norm(), (a + b).norm());
}

double nearest(const std::vector<Eigen::Matrix3d>& solutions, const Eigen::Matrix3d& truth) {
  double best = 1e9;
  for (const auto& s : solutions) best = std::min(best, distance_of(s, truth));
  return best;
}

double angle_between(const Eigen::Vector3d& a, const Eigen::Vector3d& b) {
  return std::atan2(a.cross(b).norm(), a.dot(b));
}

TEST(RealRoots, FindsThemAll) {
  // (x - 1)(x + 2)(x - 3)(x^2 + 1)
  const std::vector<double> c = {6, -5, 4, -4, -2, 1};
  const auto roots = real_roots(c);
  ASSERT_EQ(roots.size(), 3u);
  EXPECT_NEAR(roots[0], -2, 1e-12);
  EXPECT_NEAR(roots[1], 1, 1e-12);
  EXPECT_NEAR(roots[2], 3, 1e-12);
  EXPECT_TRUE(real_roots(std::vector<double>{1, 0, 1}).empty());
  EXPECT_TRUE(real_roots(std::vector<double>{0, 0}).empty());
  EXPECT_TRUE(real_roots(std::vector<double>{4}).empty());
}

TEST(EssentialFromFive, FindsTheTruthAmongItsSolutions) {
  int exact = 0;
  for (std::uint64_t seed = 1; seed <= 300; ++seed) {
    const auto views = test::two_views(seed, 5);
    const auto solutions = essential_from_five(views.pairs);
    for (const auto& e : solutions) {
      // Each is an essential matrix through the five pairs.
      // (A few samples are so near to a degenerate one that six digits are all there is.)
      EXPECT_LT((2 * e * e.transpose() * e - (e * e.transpose()).trace() * e).norm(), 1e-5);
      for (const auto& p : views.pairs)
        EXPECT_LT(std::abs(p.second.homogeneous().dot(e * p.first.homogeneous())), 1e-7);
    }
    exact += nearest(solutions, essential_from_pose(views.second)) < 1e-6;
  }
  EXPECT_GE(exact, 297);
}

TEST(EssentialFromFive, WorksOnAPlane) {
  int exact = 0;
  for (std::uint64_t seed = 1; seed <= 100; ++seed) {
    const auto views = test::two_views(seed, 5, 0, true);
    exact += nearest(essential_from_five(views.pairs), essential_from_pose(views.second)) < 1e-5;
  }
  EXPECT_GE(exact, 97);
}

TEST(FundamentalFromSeven, FindsTheTruthAmongItsSolutions) {
  int exact = 0;
  for (std::uint64_t seed = 1; seed <= 200; ++seed) {
    const auto views = test::two_views(seed, 7);
    exact += nearest(fundamental_from_seven(views.pairs), essential_from_pose(views.second)) < 1e-5;
  }
  EXPECT_GE(exact, 196);
}

TEST(FundamentalFromMany, IsExactWithoutNoise) {
  const auto views = test::two_views(3, 30);
  EXPECT_LT(distance_of(fundamental_from_many(views.pairs), essential_from_pose(views.second)), 1e-9);
}

TEST(PoseFromEssential, PutsPointsInFront) {
  for (std::uint64_t seed = 1; seed <= 50; ++seed) {
    const auto views = test::two_views(seed, 20);
    const RelativePose found = pose_from_essential(essential_from_pose(views.second), views.pairs);
    EXPECT_EQ(found.in_front, 20u);
    EXPECT_LT(rotation_angle(found.pose.orientation, views.second.orientation), 1e-9);
    EXPECT_LT(angle_between(found.pose.centre, views.second.centre), 1e-7);
  }
}

class RobustFit : public testing::TestWithParam<double> {};
INSTANTIATE_TEST_SUITE_P(OutlierShares, RobustFit, testing::Values(0.0, 0.3, 0.6));

TEST_P(RobustFit, EssentialWithOutliersAndNoise) {
  const double noise = 0.5 / 1000;
  auto views = test::two_views(11, 300, noise);
  CounterRandom random(5);
  const auto wrong = static_cast<std::size_t>(GetParam() * 300);
  for (std::size_t i = 0; i < wrong; ++i)
    views.pairs[i].second = {random.uniform(-0.5, 0.5), random.uniform(-0.5, 0.5)};
  TwoViewOptions options;
  options.max_error = 2.0 / 1000;
  const TwoViewFit fit = fit_essential(views.pairs, options, 1);
  std::size_t right = 0;
  for (const auto i : fit.inliers) right += i >= wrong;
  EXPECT_GE(right, 0.97 * static_cast<double>(300 - wrong));
  EXPECT_LE(fit.inliers.size() - right, 0.06 * static_cast<double>(wrong) + 1);
  std::vector<PointPair> inliers;
  for (const auto i : fit.inliers) inliers.push_back(views.pairs[i]);
  const RelativePose pose = pose_from_essential(fit.matrix, inliers);
  EXPECT_LT(rotation_angle(pose.pose.orientation, views.second.orientation), 0.01);
  EXPECT_LT(angle_between(pose.pose.centre, views.second.centre), 0.03);
  // Same seed, same result; the fundamental matrix fits too.
  EXPECT_EQ(fit_essential(views.pairs, options, 1).inliers, fit.inliers);
  EXPECT_GE(fit_fundamental(views.pairs, options, 1).inliers.size(), 0.95 * static_cast<double>(300 - wrong));
}

TEST(RobustFit, TooFewPairsGiveNothing) {
  const auto views = test::two_views(1, 4);
  TwoViewOptions options;
  options.max_error = 0.01;
  EXPECT_TRUE(fit_essential(views.pairs, options, 1).inliers.empty());
}

TEST(FitSimilarity, RecoversWhatWasApplied) {
  CounterRandom random(8);
  Similarity truth;
  truth.scale = 2.5;
  truth.rotation = rotation_from_vector({0.3, -1.0, 0.4});
  truth.translation = {10, -20, 5};
  std::vector<Eigen::Vector3d> a, b;
  for (int i = 0; i < 10; ++i) {
    a.emplace_back(random.normal(), random.normal(), random.normal());
    b.push_back(truth * a.back());
  }
  const auto fit = fit_similarity(a, b);
  ASSERT_TRUE(fit);
  EXPECT_NEAR(fit->scale, 2.5, 1e-10);
  EXPECT_LT(rotation_angle(fit->rotation, truth.rotation), 1e-9);
  EXPECT_LT((fit->inverse() * b[3] - a[3]).norm(), 1e-9);
  // Poses go with the points: what a photo sees does not change.
  const Pose pose = look_at({3, 1, 2}, {0, 0, 0}, Eigen::Vector3d::UnitZ());
  EXPECT_LT(((truth * pose).to_camera(truth * a[0]) - 2.5 * pose.to_camera(a[0])).norm(), 1e-9);
}

TEST(FitSimilarity, RefusesALine) {
  std::vector<Eigen::Vector3d> a, b;
  for (int i = 0; i < 5; ++i) a.emplace_back(i, 2 * i, -i), b.emplace_back(i, 0, 0);
  EXPECT_FALSE(fit_similarity(a, b));
  EXPECT_FALSE(fit_similarity(std::span(a).first(2), std::span(b).first(2)));
}

TEST(TurnBetween, BringsOneDirectionOntoTheOther) {
  CounterRandom random(31);
  const auto any = [&] { return Eigen::Vector3d(random.normal(), random.normal(), random.normal()); };
  for (int i = 0; i < 50; ++i) {
    const Eigen::Vector3d from = any(), to = 7 * any();
    const Eigen::Quaterniond turn = turn_between(from, to);
    EXPECT_NEAR(turn.norm(), 1, 1e-12);
    EXPECT_LT(angle_between(turn * from, to), 1e-12);
    EXPECT_NEAR(rotation_angle(turn, Eigen::Quaterniond::Identity()), angle_between(from, to), 1e-9) << "the least";
    // Opposite ones too, exactly or nearly.
    EXPECT_LT(angle_between(turn_between(from, -3 * from) * from, -from), 1e-6);
    const Eigen::Vector3d nearly = -from + 1e-9 * to;
    EXPECT_LT(angle_between(turn_between(from, nearly) * from, nearly), 1e-6);
  }
  EXPECT_LT(turn_between({0, 0, 2}, {0, 0, 1}).vec().norm(), 1e-15);
}

}  // namespace
}  // namespace icefield
