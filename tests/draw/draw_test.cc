// Pictures: what is drawn is where it should be.
#include "icefield/draw/draw.h"

#include <gtest/gtest.h>

#include "tests/tools/made_up.h"

namespace icefield {
namespace {

// Mean place of the pixels of one colour, and their number.
struct Spot {
  double x = 0, y = 0;
  int count = 0;
};
Spot find(const ImageU8& image, int red, int green, int blue) {
  Spot spot;
  for (int y = 0; y < image.height(); ++y)
    for (int x = 0; x < image.width(); ++x)
      if (image.at(x, y, 0) == red && image.at(x, y, 1) == green && image.at(x, y, 2) == blue) spot.x += x, spot.y += y, ++spot.count;
  if (spot.count > 0) spot.x /= spot.count, spot.y /= spot.count;
  return spot;
}

PointCloud three_blobs() {
  // Red in the middle, green above it, blue towards +y.
  PointCloud cloud;
  CounterRandom random(1);
  const auto blob = [&](const Eigen::Vector3f& at, std::array<std::uint8_t, 3> colour) {
    for (int i = 0; i < 400; ++i) {
      cloud.positions.push_back(at + 0.05f * Eigen::Vector3f(random.uniformf(), random.uniformf(), random.uniformf()));
      cloud.colours.push_back(colour);
    }
  };
  blob({0, 0, 0}, {255, 0, 0});
  blob({0, 0, 1}, {0, 255, 0});
  blob({0, 1, 0}, {0, 0, 255});
  return cloud;
}

TEST(DrawCloud, UpIsUpAndSidesAreRight) {
  DrawOptions options;
  options.elevation_deg = 10;
  options.azimuth_deg = 0;  // the eye on the side of +x: +y is to the right
  const ImageU8 front = draw_cloud(three_blobs(), {}, std::nullopt, options);
  EXPECT_EQ(front.width(), 1280);
  EXPECT_EQ(front.height(), 800);
  const Spot red = find(front, 255, 0, 0), green = find(front, 0, 255, 0), blue = find(front, 0, 0, 255);
  ASSERT_GT(red.count, 20);
  ASSERT_GT(green.count, 20);
  ASSERT_GT(blue.count, 20);
  EXPECT_LT(green.y, red.y - 100);
  EXPECT_NEAR(green.x, red.x, 40);
  EXPECT_GT(blue.x, red.x + 100);
  // From behind they change sides.
  options.azimuth_deg = 180;
  const ImageU8 back = draw_cloud(three_blobs(), {}, std::nullopt, options);
  EXPECT_LT(find(back, 0, 0, 255).x, find(back, 255, 0, 0).x - 100);
}

TEST(DrawCloud, WhatIsNearerHidesWhatIsBehind) {
  PointCloud cloud;
  for (int i = -40; i <= 40; ++i)
    for (int j = -40; j <= 40; ++j)
      for (int front = 0; front < 2; ++front) {
        cloud.positions.push_back({front ? 0.5f : 0.0f, 0.01f * static_cast<float>(i), 0.01f * static_cast<float>(j)});
        cloud.colours.push_back(front ? std::array<std::uint8_t, 3>{0, 200, 0} : std::array<std::uint8_t, 3>{200, 0, 0});
      }
  DrawOptions options;
  options.azimuth_deg = 0;
  options.elevation_deg = 0;
  const ImageU8 image = draw_cloud(cloud, {}, std::nullopt, options);
  const Spot near = find(image, 0, 200, 0), far = find(image, 200, 0, 0);
  EXPECT_GT(near.count, 20000);
  EXPECT_LT(far.count, near.count / 20);  // a sheet without holes
}

TEST(DrawCloud, PhotosStandWhereTheyStood) {
  const Block block = test::ring_block(12, 300, 0);
  PointCloud cloud;
  for (const Eigen::Vector3d& p : block.points) cloud.positions.push_back(p.cast<float>());
  DrawOptions options;
  const ImageU8 with = draw_cloud(cloud, block.photos, std::nullopt, options), without = draw_cloud(cloud, {}, std::nullopt, options);
  int changed = 0;
  for (int y = 0; y < 750; ++y)
    for (int x = 0; x < with.width(); ++x) changed += with.at(x, y, 0) != without.at(x, y, 0);
  EXPECT_GT(changed, 500);
  EXPECT_NO_THROW(draw_cloud(PointCloud{}, {}, std::nullopt, options));  // nothing is drawn of nothing
}

TEST(DrawDepth, NearAndFarDifferAndEmptyStaysDark) {
  DepthMap map;
  map.depth = ImageF(60, 40);
  for (int y = 0; y < 40; ++y)
    for (int x = 0; x < 60; ++x) map.depth.at(x, y) = x < 20 ? 0.0f : x < 40 ? 1.0f : 4.0f;
  const ImageU8 image = draw_depth(map, {});
  const auto colour = [&](int x) { return std::array<int, 3>{image.at(x, 300, 0), image.at(x, 300, 1), image.at(x, 300, 2)}; };
  EXPECT_EQ(colour(50), (std::array<int, 3>{51, 51, 51}));
  EXPECT_GT(colour(560)[2], colour(560)[0]);   // near: blue
  EXPECT_GT(colour(1000)[0], colour(1000)[2]); // far: red
  DepthMap empty;
  empty.depth = ImageF(60, 40);
  EXPECT_NO_THROW(draw_depth(empty, {}));
}

}  // namespace
}  // namespace icefield
