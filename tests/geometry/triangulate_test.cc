#include "icefield/geometry/triangulate.h"

#include <gtest/gtest.h>

#include <numbers>

#include "icefield/base/random.h"

namespace icefield {
namespace {

std::vector<Ray> rays_to(const Eigen::Vector3d& point, int count, double noise = 0) {
  CounterRandom random(2);
  std::vector<Ray> rays;
  for (int i = 0; i < count; ++i) {
    const Pose pose =
        look_at({4 * std::cos(0.3 * i), 4 * std::sin(0.3 * i), 1.0 + 0.2 * i}, {0, 0, 0}, Eigen::Vector3d::UnitZ());
    rays.push_back(
        {pose, pose.to_camera(point).hnormalized() + noise * Eigen::Vector2d(random.normal(), random.normal())});
  }
  return rays;
}

TEST(Triangulate, ExactWithoutNoise) {
  const Eigen::Vector3d truth(0.3, -0.2, 0.4);
  for (const int count : {2, 3, 8}) {
    const auto point = triangulate(rays_to(truth, count));
    ASSERT_TRUE(point);
    EXPECT_LT((*point - truth).norm(), 1e-9);
  }
}

TEST(Triangulate, IsALeastSquaresMinimum) {
  const auto rays = rays_to({0.3, -0.2, 0.4}, 6, 1e-3);
  const auto point = triangulate(rays);
  ASSERT_TRUE(point);
  const auto cost = [&](const Eigen::Vector3d& p) {
    double sum = 0;
    for (const Ray& ray : rays) sum += (ray.pose.to_camera(p).hnormalized() - ray.direction).squaredNorm();
    return sum;
  };
  for (int c = 0; c < 3; ++c)
    for (const double step : {-1e-4, 1e-4}) EXPECT_LT(cost(*point), cost(*point + step * Eigen::Vector3d::Unit(c)));
}

TEST(Triangulate, RefusesParallelRaysAndPointsBehind) {
  Pose a, b;
  b.centre = {1, 0, 0};
  EXPECT_FALSE(triangulate(std::vector<Ray>{{a, {0.1, 0}}, {b, {0.1, 0}}}));
  EXPECT_FALSE(triangulate(std::vector<Ray>{{a, {-0.1, 0}}, {b, {0.1, 0}}}));  // meet behind
  EXPECT_FALSE(triangulate(std::vector<Ray>{{a, {0.1, 0}}, {a, {0.1, 0}}}));   // one place
}

TEST(TriangulationAngle, IsTheLargest) {
  Pose a, b, c;
  a.centre = {0, 0, 0}, b.centre = {1, 0, 0}, c.centre = {2, 0, 0};
  const std::vector<Ray> rays = {{a, {}}, {b, {}}, {c, {}}};
  EXPECT_NEAR(triangulation_angle(rays, {1, 0, 1}), std::numbers::pi / 2, 1e-12);
}

}  // namespace
}  // namespace icefield
