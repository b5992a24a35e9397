#include "icefield/world/local_frame.h"

#include <gtest/gtest.h>

namespace icefield {
namespace {

TEST(LocalFrame, EastNorthUpInMetres) {
  const GpsPosition origin{46.8, 10.75, 2310};
  const LocalFrame frame(origin);
  EXPECT_LT(frame.to_local(origin).norm(), 1e-8);
  // Lengths of a degree at 46.8 degrees on the WGS 84 ellipsoid, at sea level: 111,169 m of latitude, 76,350 m of
  // longitude.
  const LocalFrame low({46.8, 10.75, 0});
  const Eigen::Vector3d north = low.to_local({46.801, 10.75, 0}), east = low.to_local({46.8, 10.751, 0});
  EXPECT_NEAR(north.y(), 111.169, 0.005);
  EXPECT_NEAR(north.x(), 0, 1e-6);
  EXPECT_NEAR(east.x(), 76.350, 0.02);
  EXPECT_NEAR(east.y(), 0, 0.001);
  EXPECT_NEAR(low.to_local({46.8, 10.75, 50}).z(), 50, 1e-6);
}

TEST(EarthCentred, PolesAndEquator) {
  EXPECT_LT((earth_centred({0, 0, 0}) - Eigen::Vector3d(6378137, 0, 0)).norm(), 1e-6);
  EXPECT_LT((earth_centred({0, 90, 100}) - Eigen::Vector3d(0, 6378237, 0)).norm(), 1e-6);
  EXPECT_NEAR(earth_centred({90, 0, 0}).z(), 6356752.314, 0.001);
}

}  // namespace
}  // namespace icefield
