#include "icefield/control/measure.h"

#include <gtest/gtest.h>

#include "icefield/base/random.h"

namespace icefield {
namespace {

using Eigen::Vector3d;

LocatedSpot spot(const Vector3d& at, const Vector3d& sigma) {
  LocatedSpot s;
  s.known = true;
  s.position = at;
  s.covariance = sigma.cwiseAbs2().asDiagonal();
  return s;
}
double spread(const std::vector<double>& values) {
  double sum = 0, squares = 0;
  for (const double v : values) sum += v;
  for (const double v : values) squares += std::pow(v - sum / static_cast<double>(values.size()), 2);
  return std::sqrt(squares / static_cast<double>(values.size() - 1));
}

TEST(Measure, DistancesAndAnglesWithTheirDeviations) {
  const Vector3d sa(0.01, 0.02, 0.05), sb(0.02, 0.01, 0.04), sc(0.01, 0.01, 0.02);
  const LocatedSpot a = spot({1, 2, 3}, sa), b = spot({4, 6, 3}, sb), c = spot({1, 7, 5}, sc);
  const SpotDistance d = distance_between(a, b);
  EXPECT_NEAR(d.length.value, 5, 1e-12);
  EXPECT_NEAR(d.plan.value, 5, 1e-12);
  EXPECT_NEAR(d.height.value, 0, 1e-12);
  EXPECT_NEAR(d.height.sigma, std::hypot(0.05, 0.04), 1e-12);
  EXPECT_NEAR(distance_between(a, c).slope_deg, std::atan2(2, 5) * 180 / M_PI, 1e-9);
  // What they say of themselves is what comes of trials.
  CounterRandom random(4);
  const auto shaken = [&](const LocatedSpot& s, const Vector3d& sigma) {
    LocatedSpot other = s;
    for (int k = 0; k < 3; ++k) other.position[k] += sigma[k] * random.normal();
    return other;
  };
  std::vector<double> lengths, plans, angles;
  for (int trial = 0; trial < 4000; ++trial) {
    const LocatedSpot x = shaken(a, sa), y = shaken(b, sb), z = shaken(c, sc);
    lengths.push_back(distance_between(x, z).length.value);
    plans.push_back(distance_between(x, z).plan.value);
    angles.push_back(angle_at(x, y, z).value);
  }
  EXPECT_NEAR(spread(lengths) / distance_between(a, c).length.sigma, 1, 0.05);
  EXPECT_NEAR(spread(plans) / distance_between(a, c).plan.sigma, 1, 0.05);
  EXPECT_NEAR(spread(angles) / angle_at(a, b, c).sigma, 1, 0.05);
}

TEST(Measure, SpotsOnEachOtherAndUnknownOnesGiveNumbers) {
  const LocatedSpot a = spot({1, 2, 3}, {0.1, 0.1, 0.1}), b = spot({2, 2, 3}, {0.1, 0.1, 0.1});
  EXPECT_EQ(distance_between(a, a).length.value, 0);
  EXPECT_GT(distance_between(a, a).length.sigma, 0);
  EXPECT_EQ(angle_at(a, a, b).value, 0);
  EXPECT_NEAR(angle_at(a, b, spot({0, 2, 3}, {0.1, 0.1, 0.1})).value, 180, 1e-9);
  EXPECT_EQ(distance_between(a, LocatedSpot()).length.sigma, 0);
}

}  // namespace
}  // namespace icefield
