#include "icefield/camera/camera.h"

#include <gtest/gtest.h>

#include "icefield/base/random.h"
#include "icefield/camera/pose.h"

namespace icefield {
namespace {

Camera lens(CameraModel model) {
  Camera camera = make_camera(model, 1200, 800, 1100);
  if (model == CameraModel::radial || model == CameraModel::brown)
    camera.parameters[3] = -0.08, camera.parameters[4] = 0.03;
  if (model == CameraModel::brown)
    camera.parameters[5] = -0.004, camera.parameters[6] = 0.0012, camera.parameters[7] = -0.0008;
  if (model == CameraModel::fisheye) {
    const double angular[] = {0.03, -0.012, 0.004, -0.001};
    std::copy_n(angular, 4, camera.parameters.begin() + 3);
  }
  return camera;
}

class CameraModels : public testing::TestWithParam<CameraModel> {};
INSTANTIATE_TEST_SUITE_P(All, CameraModels,
                         testing::Values(CameraModel::pinhole, CameraModel::radial, CameraModel::brown,
                                         CameraModel::fisheye));

TEST_P(CameraModels, DerivativesAgreeWithCentralDifferences) {
  const Camera camera = lens(GetParam());
  CounterRandom random(1);
  for (int repeat = 0; repeat < 50; ++repeat) {
    const Eigen::Vector3d p(random.uniform(-2, 2), random.uniform(-1.5, 1.5), random.uniform(3, 6));
    Matrix2x3 d_point;
    Matrix2xParameters d_parameters;
    const auto pixel = project(camera, p, d_point, d_parameters);
    ASSERT_TRUE(pixel);
    EXPECT_LT((*pixel - *project(camera, p)).norm(), 1e-12);
    const double h = 1e-6;
    for (int c = 0; c < 3; ++c) {
      const Eigen::Vector3d step = h * Eigen::Vector3d::Unit(c);
      const Eigen::Vector2d difference = (*project(camera, p + step) - *project(camera, p - step)) / (2 * h);
      EXPECT_LT((difference - d_point.col(c)).norm(), 1e-5);
    }
    for (std::size_t k = 0; k < camera_parameters(camera.model).size(); ++k) {
      Camera more = camera, less = camera;
      const double size = 1e-6 * std::max(1.0, std::abs(camera.parameters[k]));
      more.parameters[k] += size, less.parameters[k] -= size;
      const Eigen::Vector2d difference = (*project(more, p) - *project(less, p)) / (2 * size);
      EXPECT_LT((difference - d_parameters.col(static_cast<int>(k))).norm(), 1e-4) << k;
    }
  }
}

TEST_P(CameraModels, UnprojectInverts) {
  const Camera camera = lens(GetParam());
  for (double x = 0; x <= 1200; x += 100)
    for (double y = 0; y <= 800; y += 100) {
      const auto direction = unproject(camera, {x, y});
      ASSERT_TRUE(direction);
      EXPECT_LT((*project(camera, 7.0 * direction->homogeneous()) - Eigen::Vector2d(x, y)).norm(), 1e-8);
    }
}

TEST_P(CameraModels, NothingBehind) {
  EXPECT_FALSE(project(lens(GetParam()), {0.1, 0.1, -1}));
  EXPECT_FALSE(project(lens(GetParam()), {0.1, 0.1, 0}));
}

TEST(Camera, AFisheyeSeesNearlyHalfTheWorld) {
  Camera camera = lens(CameraModel::fisheye);
  camera.parameters[0] = 400;
  const double wide = std::tan(83 * 3.14159265358979 / 180);
  const auto pixel = project(camera, {wide, 0, 1});
  ASSERT_TRUE(pixel);
  EXPECT_LT(pixel->x(), 1300);  // a pinhole would put it 3,000 pixels out
  EXPECT_NEAR(unproject(camera, *pixel)->x(), wide, 1e-8 * wide);
  EXPECT_EQ(*project(camera, {0, 0, 2}), camera.principal_point());
  Matrix2x3 d_point;
  Matrix2xParameters d_parameters;
  project(camera, {0, 0, 2}, d_point, d_parameters);
  EXPECT_NEAR(d_point(0, 0), 200, 1e-9);
  EXPECT_EQ(d_point(0, 2), 0);
}

TEST(Camera, TheMiddleOfTheFirstPixelIsAtOneHalf) {
  // A point on the optical axis falls on the corner between the four middle pixels of an even image.
  EXPECT_EQ(*project(make_camera(CameraModel::pinhole, 4, 2, 10), {0, 0, 5}), Eigen::Vector2d(2, 1));
}

TEST(Camera, DistortionThatFoldsBackProjectsNothing) {
  Camera camera = lens(CameraModel::radial);
  camera.parameters[3] = -0.5;
  camera.parameters[4] = 0;
  EXPECT_TRUE(project(camera, {0.5, 0, 1}));
  EXPECT_FALSE(project(camera, {1.5, 0, 1}));  // beyond the largest radius that the lens reaches
  EXPECT_FALSE(unproject(camera, {4000, 400}));
}

TEST(Camera, FieldOfView) {
  const Camera camera = make_camera(CameraModel::pinhole, 800, 1200, focal_from_field_of_view(800, 1200, 60));
  EXPECT_NEAR(field_of_view_deg(camera), 60, 1e-9);
}

TEST(Pose, LookAtPutsTheTargetInFrontAndUpUp) {
  const Pose pose = look_at({3, 4, 2}, {0, 0, 1}, Eigen::Vector3d::UnitZ());
  const Eigen::Vector3d target = pose.to_camera({0, 0, 1});
  EXPECT_NEAR(target.x(), 0, 1e-12);
  EXPECT_NEAR(target.y(), 0, 1e-12);
  EXPECT_GT(target.z(), 0);
  EXPECT_LT(pose.to_camera({0, 0, 2}).y(), 0);  // y points down
  EXPECT_LT((pose.to_world(pose.to_camera({7, 8, 9})) - Eigen::Vector3d(7, 8, 9)).norm(), 1e-12);
}

TEST(Pose, RotationFromVector) {
  const Eigen::Vector3d v(0.3, -0.2, 0.5);
  EXPECT_NEAR(rotation_angle(rotation_from_vector(v), Eigen::Quaterniond::Identity()), v.norm(), 1e-12);
  EXPECT_LT((rotation_from_vector(1e-9 * v) * Eigen::Vector3d::UnitX() -
             (Eigen::Vector3d::UnitX() + 1e-9 * v.cross(Eigen::Vector3d::UnitX())))
                .norm(),
            1e-16);
  EXPECT_LT((skew(v) * Eigen::Vector3d(1, 2, 3) - v.cross(Eigen::Vector3d(1, 2, 3))).norm(), 1e-14);
}

}  // namespace
}  // namespace icefield
