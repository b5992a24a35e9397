#include "icefield/terrain/height_model.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <cmath>

#include "icefield/base/random.h"
#include "icefield/base/statistics.h"

namespace icefield {
namespace {

constexpr double kSpacing = 0.2;

double slope_at(double x, double y) {
  return 0.6 * x - 0.3 * y + 0.4 * std::sin(0.7 * x + 0.4 * y);
}

// Points on a slope between 0 and 30 each way, with a block of 8 by 6 by 3 metres on it, and a gap of 3 by 3 metres.
bool on_block(double x, double y) {
  return x > 10 && x < 18 && y > 12 && y < 18;
}
PointCloud made_up(double noise, bool block = true, bool gap = true) {
  PointCloud cloud;
  cloud.origin = {600000, 5200000, 2000};
  CounterRandom random(7);
  for (double y = 0; y < 30; y += kSpacing)
    for (double x = 0; x < 30; x += kSpacing) {
      const double px = x + random.uniform(0, kSpacing), py = y + random.uniform(0, kSpacing),
                   e = noise * random.normal();
      if (gap && std::abs(px - 22) < 1.5 && std::abs(py - 22) < 1.5) continue;
      const bool up = block && on_block(px, py);
      const double z = (up ? slope_at(14, 15) + 5 : slope_at(px, py)) + e;
      cloud.positions.emplace_back(static_cast<float>(px), static_cast<float>(py), static_cast<float>(z));
      cloud.classes.push_back(static_cast<std::uint8_t>(up ? PointClass::other : PointClass::ground));
      cloud.errors.push_back(static_cast<float>(noise));
    }
  return cloud;
}
GridFrame frame_of(double cell) {
  return grid_over({600000, 5200000}, {600030, 5200030}, cell);
}
HeightModel whole(const PointCloud& cloud, double cell, const HeightOptions& options = {}, int threads = 2) {
  const GridFrame frame = frame_of(cell);
  return surface_heights(cloud, frame, {0, 0, frame.columns, frame.rows}, kSpacing, options, Executor(threads));
}

TEST(SurfaceHeights, FollowASlopeAndSayHowWell) {
  constexpr double kNoise = 0.03;
  const HeightModel model = whole(made_up(kNoise, false, false), 0.2);
  std::vector<double> off, ratio;
  for (int y = 2; y + 2 < model.frame.rows; ++y)
    for (int x = 2; x + 2 < model.frame.columns; ++x) {
      const Eigen::Vector2d p = model.frame.middle(x, y) - Eigen::Vector2d(600000, 5200000);
      const double d = model.heights.at(x, y) - 2000 - slope_at(p.x(), p.y());
      ASSERT_TRUE(std::isfinite(d)) << x << " " << y;
      EXPECT_LT(std::abs(d), 6 * kNoise);
      EXPECT_EQ(model.distance.at(x, y), 0);
      EXPECT_GT(model.points.at(x, y), 0);
      off.push_back(d), ratio.push_back(std::abs(d) / model.sigma.at(x, y) / 0.6745);
    }
  const double middle = median(off);
  for (double& d : off) d = std::abs(d);
  EXPECT_LT(std::abs(middle), 0.1 * kNoise);  // a slope of 34 degrees moves nothing up or down
  EXPECT_LT(1.4826 * median(off), 0.9 * kNoise);
  EXPECT_GT(median(ratio), 0.4);  // what is said holds where neighbours share their errors, and these do not
  EXPECT_LT(median(ratio), 1.3);
}

TEST(SurfaceHeights, KeepARoofToItsEdge) {
  const PointCloud cloud = made_up(0.01);
  const HeightModel model = whole(cloud, 0.2);
  const double roof = 2000 + slope_at(14, 15) + 5;
  int wrong = 0;
  for (int y = 2; y + 2 < model.frame.rows; ++y)
    for (int x = 2; x + 2 < model.frame.columns; ++x) {
      const Eigen::Vector2d p = model.frame.middle(x, y) - Eigen::Vector2d(600000, 5200000);
      const double ground = 2000 + slope_at(p.x(), p.y());
      const bool up = model.heights.at(x, y) > 0.5 * (ground + std::max(roof, ground + 1));
      if (up == on_block(p.x(), p.y())) continue;
      ++wrong;
      // No farther than a spacing and a half from the edge.
      const double dx = std::max({10 - p.x(), p.x() - 18, -std::min(p.x() - 10, 18 - p.x())}),
                   dy = std::max({12 - p.y(), p.y() - 18, -std::min(p.y() - 12, 18 - p.y())});
      EXPECT_LT(std::abs(std::max(dx, dy)), 1.5 * kSpacing + 0.1) << p.transpose();
    }
  EXPECT_LT(wrong, 140);  // of a rim of 140 cells
}

TEST(SurfaceHeights, FillGapsAsFarAsToldAndSayFromWhere) {
  const PointCloud cloud = made_up(0.01, false);
  HeightOptions options;
  options.fill = 4;
  const HeightModel filled = whole(cloud, 0.25, options);
  options.fill = 0.8;
  const HeightModel open = whole(cloud, 0.25, options);
  const Eigen::Vector2d at = filled.frame.at(Eigen::Vector2d(600022, 5200022));
  const int x = static_cast<int>(at.x()), y = static_cast<int>(at.y());
  // The wave bends by up to 0.26 for each metre: a surface that is drawn taut over 1.5 metres is off by so much.
  EXPECT_NEAR(filled.heights.at(x, y), 2000 + slope_at(22, 22), 0.5 * 0.26 * 1.5 * 1.5);
  EXPECT_NEAR(filled.distance.at(x, y), 1.4, 0.35);
  EXPECT_EQ(filled.points.at(x, y), 0);
  EXPECT_GT(filled.sigma.at(x, y), 3 * filled.sigma.at(x + 20, y));
  EXPECT_TRUE(std::isnan(open.heights.at(x, y)));
  // Nothing grows beyond the rim of what was seen.
  PointCloud half;
  half.origin = cloud.origin;
  std::vector<std::uint32_t> west;
  for (std::uint32_t i = 0; i < cloud.size(); ++i)
    if (cloud.positions[i].x() < 15) west.push_back(i);
  options.fill = 4;
  const HeightModel rim = whole(pick(cloud, west), 0.25, options);
  for (int row = 0; row < rim.frame.rows; ++row)
    for (int column = 64; column < rim.frame.columns; ++column) EXPECT_TRUE(std::isnan(rim.heights.at(column, row)));
}

TEST(SurfaceHeights, AreTheSameInAnyWindowOrderAndThreads) {
  const PointCloud cloud = made_up(0.02);
  HeightOptions options;
  options.fill = 2.5;
  const HeightModel all = whole(cloud, 0.3, options, 1);
  PointCloud turned = cloud;
  std::reverse(turned.positions.begin(), turned.positions.end());
  std::reverse(turned.classes.begin(), turned.classes.end());
  const HeightModel other = whole(turned, 0.3, options, 7);
  const auto same = [](const ImageF& a, const ImageF& b) {
    return std::equal(a.data().begin(), a.data().end(), b.data().begin(), b.data().end(),
                      [](float u, float v) { return u == v || (std::isnan(u) && std::isnan(v)); });
  };
  EXPECT_TRUE(same(all.heights, other.heights));
  EXPECT_TRUE(same(all.sigma, other.sigma));
  const GridFrame frame = frame_of(0.3);
  const double margin = height_margin(0.3, kSpacing, options);
  for (int row = 0; row < frame.rows; row += 31)
    for (int column = 0; column < frame.columns; column += 43) {
      const Window window{column, row, std::min(43, frame.columns - column), std::min(31, frame.rows - row)};
      // Of the points those alone that are told to be needed.
      std::vector<std::uint32_t> near;
      for (std::uint32_t i = 0; i < cloud.size(); ++i) {
        const Eigen::Vector2d at = frame.at(cloud.position(i).head<2>());
        if (at.x() > column - margin / 0.3 && at.x() < column + window.width + margin / 0.3 &&
            at.y() > row - margin / 0.3 && at.y() < row + window.height + margin / 0.3)
          near.push_back(i);
      }
      const HeightModel part = surface_heights(pick(cloud, near), frame, window, kSpacing, options, Executor(2));
      ASSERT_EQ(part.heights.width(), window.width);
      for (int y = 0; y < window.height; ++y)
        for (int x = 0; x < window.width; ++x) {
          const float a = part.heights.at(x, y), b = all.heights.at(column + x, row + y);
          ASSERT_TRUE(a == b || (std::isnan(a) && std::isnan(b))) << column + x << " " << row + y;
          ASSERT_EQ(part.distance.at(x, y), all.distance.at(column + x, row + y));
        }
    }
}

TEST(SurfaceHeights, LeaveNoiseOutAndRefuseWhatIsNone) {
  PointCloud cloud = made_up(0.01, false, false);
  for (int i = 0; i < 50; ++i) {
    cloud.positions.emplace_back(5 + 0.3f * static_cast<float>(i % 7), 5 + 0.3f * static_cast<float>(i / 7), 60.0f);
    cloud.classes.push_back(static_cast<std::uint8_t>(PointClass::noise));
    cloud.errors.push_back(0.01f);
  }
  cloud.positions.emplace_back(NAN, 1.0f, 1.0f);
  cloud.classes.push_back(0), cloud.errors.push_back(0.01f);
  const HeightModel model = whole(cloud, 0.25);
  for (const float z : model.heights.data()) EXPECT_TRUE(std::isnan(z) || z < 2025);
  const GridFrame frame = frame_of(0.5);
  EXPECT_THROW(surface_heights(cloud, frame, {50, 0, 20, 10}, kSpacing, {}), Error);
  EXPECT_THROW(surface_heights(cloud, frame, {0, 0, 10, 10}, 0, {}), Error);
  const HeightModel none = surface_heights(PointCloud(), frame, {0, 0, 60, 60}, kSpacing, {});
  for (const float z : none.heights.data()) EXPECT_TRUE(std::isnan(z));
}

TEST(GroundHeights, GoOnBeneathWhatStandsThere) {
  const PointCloud cloud = made_up(0.02);
  const GridFrame frame = frame_of(0.25);
  // The ground below, a little off, as a coarse surface is.
  GroundBelow below;
  below.height = [](const Eigen::Vector2d& p) { return 2000.1 + slope_at(p.x() - 600000, p.y() - 5200000); };
  below.distance = [](const Eigen::Vector2d& p) {
    const double x = p.x() - 600000, y = p.y() - 5200000;
    return on_block(x, y) ? std::min({x - 10, 18 - x, y - 12, 18 - y}) : 0.0;
  };
  HeightOptions options;
  options.fill = 2;
  const Window all{0, 0, frame.columns, frame.rows};
  const HeightModel model = ground_heights(cloud, below, frame, all, kSpacing, options, Executor(2));
  int beneath = 0, none = 0;
  for (int y = 0; y < frame.rows; ++y)
    for (int x = 0; x < frame.columns; ++x) {
      const Eigen::Vector2d p = frame.middle(x, y) - Eigen::Vector2d(600000, 5200000);
      const double z = model.heights.at(x, y), depth = below.distance(frame.middle(x, y));
      if (!std::isfinite(z)) {
        EXPECT_GT(depth, 1.9);  // no ground far from ground
        ++none;
        continue;
      }
      EXPECT_NEAR(z, 2000 + slope_at(p.x(), p.y()), model.distance.at(x, y) > 0 ? 0.25 : 0.12) << p.transpose();
      if (depth > 1) {
        ++beneath;
        EXPECT_GT(model.distance.at(x, y), 0.5);
        EXPECT_EQ(model.points.at(x, y), 0);
      }
    }
  EXPECT_GT(beneath, 100);
  EXPECT_GT(none, 50);
  const HeightModel again = ground_heights(cloud, below, frame, {30, 20, 40, 40}, kSpacing, options, Executor(7));
  for (int y = 0; y < 40; ++y)
    for (int x = 0; x < 40; ++x) {
      const float a = again.heights.at(x, y), b = model.heights.at(30 + x, 20 + y);
      ASSERT_TRUE(a == b || (std::isnan(a) && std::isnan(b)));
    }
}

}  // namespace
}  // namespace icefield
