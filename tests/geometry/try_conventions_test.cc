#include "icefield/geometry/try_conventions.h"

#include <gtest/gtest.h>

#include <cmath>
#include <numbers>

#include "icefield/base/random.h"
#include "icefield/camera/pose_convention.h"

namespace icefield {
namespace {

using Eigen::Quaterniond;
using Eigen::Vector2d;
using Eigen::Vector3d;

Pose some_pose(CounterRandom& random) {
  Pose pose;
  pose.centre = {random.uniform(-50, 50), random.uniform(-50, 50), random.uniform(-20, 90)};
  pose.orientation = Quaterniond(random.normal(), random.normal(), random.normal(), random.normal()).normalized();
  return pose;
}

constexpr RotationForm kForms[] = {RotationForm::quaternion,     RotationForm::quaternion_xyzw,
                                   RotationForm::matrix,         RotationForm::omega_phi_kappa,
                                   RotationForm::yaw_pitch_roll, RotationForm::yaw_pitch_roll_down};

TEST(PoseConvention, ThereAndBackToTheLastDigits) {
  CounterRandom random(1);
  std::size_t conventions = 0;
  for (const RotationForm form : kForms)
    for (const PoseConvention& c : conventions_like(usual_convention(form))) {
      ++conventions;
      for (int k = 0; k < 30; ++k) {
        const Pose pose = some_pose(random);
        const auto back = pose_of(written(pose, c), c);
        ASSERT_TRUE(back) << describe(c);
        EXPECT_LT(rotation_angle(pose.orientation, back->orientation), 1e-9) << describe(c);
        EXPECT_LT((pose.centre - back->centre).norm(), 1e-9) << describe(c);
      }
      // Where two axes of turns fall together.
      for (const Vector3d& axis : {Vector3d(1, 0, 0), Vector3d(0, 1, 0), Vector3d(0, 0, 1)})
        for (int quarter = 0; quarter < 4; ++quarter) {
          Pose pose;
          pose.orientation = Quaterniond(Eigen::AngleAxisd(0.5 * std::numbers::pi * quarter, axis));
          pose.centre = {1, 2, 3};
          const auto back = pose_of(written(pose, c), c);
          ASSERT_TRUE(back);
          EXPECT_LT(rotation_angle(pose.orientation, back->orientation), 1e-7) << describe(c);
        }
    }
  EXPECT_GE(conventions, 60u);
}

// Known cases, by hand.
TEST(PoseConvention, MeansWhatTheTradeMeans) {
  // All zero: photogrammetry's camera looks straight down, north is up in the photo.
  const auto down = pose_of({{1, 2, 30}, {0, 0, 0}}, usual_convention(RotationForm::omega_phi_kappa));
  ASSERT_TRUE(down);
  EXPECT_LT((down->viewing_direction() - Vector3d(0, 0, -1)).norm(), 1e-12);
  EXPECT_LT((down->orientation.conjugate() * Vector3d::UnitX() - Vector3d(1, 0, 0)).norm(), 1e-12);
  EXPECT_EQ(down->centre, Vector3d(1, 2, 30));
  // Kappa turns it about the vertical, counter-clockwise from above: the photo's right side to the north.
  const auto turned = pose_of({{0, 0, 30}, {0, 0, 90}}, usual_convention(RotationForm::omega_phi_kappa));
  EXPECT_LT((turned->orientation.conjugate() * Vector3d::UnitX() - Vector3d(0, 1, 0)).norm(), 1e-12);
  // Heading east, level: the camera looks east, its right side is south.
  const auto ahead = pose_of({{0, 0, 0}, {90, 0, 0}}, usual_convention(RotationForm::yaw_pitch_roll));
  EXPECT_LT((ahead->viewing_direction() - Vector3d(1, 0, 0)).norm(), 1e-12);
  EXPECT_LT((ahead->orientation.conjugate() * Vector3d::UnitX() - Vector3d(0, -1, 0)).norm(), 1e-12);
  // Pitch up 30 degrees.
  const auto up = pose_of({{0, 0, 0}, {0, 30, 0}}, usual_convention(RotationForm::yaw_pitch_roll));
  EXPECT_NEAR(up->viewing_direction().z(), 0.5, 1e-12);
  // A camera below a body that heads north looks down, its upper side to the north.
  const auto below = pose_of({{0, 0, 0}, {0, 0, 0}}, usual_convention(RotationForm::yaw_pitch_roll_down));
  EXPECT_LT((below->viewing_direction() - Vector3d(0, 0, -1)).norm(), 1e-12);
  EXPECT_LT((below->orientation.conjugate() * Vector3d(0, -1, 0) - Vector3d(0, 1, 0)).norm(), 1e-12);
}

TEST(PoseConvention, WhatIsNoRotationIsNamed) {
  const PoseConvention matrix = usual_convention(RotationForm::matrix);
  EXPECT_NE(rotation_fault({{}, {1, 0, 0, 0, 1, 0, 0, 0, -1}}, matrix).find("mirrored"), std::string::npos);
  EXPECT_NE(rotation_fault({{}, {1, 0, 0, 0, 1.2, 0, 0, 0, 1}}, matrix).find("0.44"), std::string::npos);
  EXPECT_EQ(rotation_fault({{}, {1, 0, 0, 0, 1, 0, 0, 0, 1}}, matrix), "");
  EXPECT_NE(rotation_fault({{}, {1, 1, 0, 0}}, usual_convention(RotationForm::quaternion)).find("length is 1.414"),
            std::string::npos);
  PoseConvention radians = usual_convention(RotationForm::omega_phi_kappa);
  radians.radians = true;
  EXPECT_NE(rotation_fault({{}, {0.1, -2, 178}}, radians).find("degrees"), std::string::npos);
  EXPECT_NE(rotation_fault({{NAN, 0, 0}, {0, 0, 0}}, radians).find("not finite"), std::string::npos);
  EXPECT_FALSE(pose_of({{}, {1, 0, 0, 0, 1, 0, 0, 0, -1}}, matrix));
}

// Photos from above and from the side, matches with noise, and a claim that is true or not: in a hundred trials of each
// kind what was meant comes first.
TEST(TryConventions, NamesTheOneThatFits) {
  int trials_made = 0, found = 0, wrongly_refused = 0;
  for (int trial = 0; trial < 100; ++trial)
    for (const RotationForm form : kForms) {
      CounterRandom random(combine_keys(static_cast<std::uint64_t>(trial), static_cast<std::uint64_t>(form)));
      const auto all = conventions_like(usual_convention(form));
      const PoseConvention meant = all[random.below(static_cast<std::uint32_t>(all.size()))];
      const bool from_above = random.below(2) == 0;
      std::vector<Pose> poses;
      for (int k = 0; k < 6; ++k) {
        const Vector3d around(random.uniform(-20, 20), random.uniform(-20, 20), 0);
        const double a = 0.25 * k + random.uniform(-0.1, 0.1);
        const Vector3d from = from_above ? Vector3d(around.x(), around.y(), 40 + random.uniform(-3, 3))
                                         : Vector3d(30 * std::cos(a), 30 * std::sin(a), 4 + random.uniform(-2, 2));
        const Vector3d to = from_above ? Vector3d(from.x() + 3 * random.normal(), from.y() + 3 * random.normal(), 0)
                                       : Vector3d(2 * random.normal(), 2 * random.normal(), 2);
        poses.push_back(
            look_at(from, to, from_above ? Vector3d(random.normal(), random.normal(), 0) : Vector3d::UnitZ()));
      }
      std::vector<WrittenPose> rows;
      for (const Pose& pose : poses) rows.push_back(written(pose, meant));
      std::vector<RayMatch> matches;
      while (matches.size() < 200) {
        const auto i = random.below(6), j = random.below(6);
        if (i == j) continue;
        const Vector3d p(random.uniform(-15, 15), random.uniform(-15, 15), random.uniform(0, 5));
        const Vector3d a = poses[i].to_camera(p), b = poses[j].to_camera(p);
        if (a.z() < 1 || b.z() < 1) continue;
        RayMatch match{i, j, a.head<2>() / a.z(), b.head<2>() / b.z(), 1000};
        if (match.first_direction.norm() > 0.8 || match.second_direction.norm() > 0.8) continue;
        for (Vector2d* d : {&match.first_direction, &match.second_direction})
          *d += 5e-4 * Vector2d(random.normal(), random.normal());
        matches.push_back(match);
      }
      // The claim: one of those that the numbers could mean too.
      PoseConvention claimed = all[random.below(static_cast<std::uint32_t>(all.size()))];
      const auto trials = try_conventions(rows, claimed, matches);
      ASSERT_FALSE(trials.empty());
      ++trials_made;
      const bool same = trials[0].convention == meant;
      found += same;
      if (!same) ADD_FAILURE() << describe(meant) << " was taken for " << describe(trials[0].convention);
      EXPECT_LT(trials[0].distance_px, 1.5);
      EXPECT_GT(trials[0].front_percent, 99);
      if (claimed == meant) wrongly_refused += trials.size() > 1 && trials[1].cost < 2 * trials[0].cost;
    }
  EXPECT_EQ(trials_made, 600);
  EXPECT_EQ(found, 600);
  EXPECT_EQ(wrongly_refused, 0);
}

}  // namespace
}  // namespace icefield
