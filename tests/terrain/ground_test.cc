#include "icefield/terrain/ground.h"

#include <gtest/gtest.h>

#include <cmath>
#include <limits>

#include "icefield/base/random.h"
#include "src/terrain/plate.h"

namespace icefield {
namespace {

enum Kind { kGround, kHut, kBush, kStray };

struct Field {
  PointCloud cloud;
  std::vector<Kind> kinds;
};

// A slope of 35 degrees with ridges across it, seen from above: a hut of 8 by 6 by 4 metres, bushes, strays far below.
double slope_at(double x, double y) {
  return 0.7 * y + 1.5 * std::sin(0.35 * x) + 0.8 * std::sin(0.5 * y + 0.3 * x);
}
Field made_up(std::uint64_t seed) {
  Field field;
  field.cloud.origin = {600000, 5200000, 2300};
  CounterRandom random(seed);
  std::vector<Eigen::Vector3d> bushes;
  for (int i = 0; i < 25; ++i)
    bushes.emplace_back(random.uniform(-28, 28), random.uniform(-28, 28), random.uniform(0.7, 1.4));
  const auto add = [&](double x, double y, double z, Kind kind) {
    field.cloud.positions.emplace_back(static_cast<float>(x), static_cast<float>(y), static_cast<float>(z));
    field.kinds.push_back(kind);
  };
  constexpr double kSpacing = 0.12;
  for (double y = -30; y < 30; y += kSpacing)
    for (double x = -30; x < 30; x += kSpacing) {
      const double px = x + random.uniform(0, kSpacing), py = y + random.uniform(0, kSpacing);
      double z = slope_at(px, py);
      Kind kind = kGround;
      if (std::abs(px - 5) < 4 && std::abs(py + 3) < 3) z = slope_at(5, -3) + 4, kind = kHut;
      for (const Eigen::Vector3d& b : bushes)
        if (const double d = std::hypot(px - b.x(), py - b.y()); kind != kHut && d < 0.9 * b.z())
          z = std::max(z, slope_at(b.x(), b.y()) + 0.4 + std::sqrt(b.z() * b.z() - d * d)), kind = kBush;
      add(px, py, z + 0.02 * random.normal(), kind);
    }
  for (int i = 0; i < 40; ++i) {
    const double x = random.uniform(-29, 29), y = random.uniform(-29, 29);
    add(x, y, slope_at(x, y) - random.uniform(6, 60), kStray);
  }
  return field;
}

GroundFinder found_in(const PointCloud& cloud, int threads, std::size_t parts = 1) {
  Eigen::AlignedBox3d box;
  for (std::size_t i = 0; i < cloud.size(); ++i) box.extend(cloud.position(i));
  GroundFinder finder(box.min(), box.max(), 0.12, {});
  // In parts, the last one first.
  for (std::size_t k = parts; k-- > 0;) {
    std::vector<std::uint32_t> some;
    for (std::size_t i = k; i < cloud.size(); i += parts) some.push_back(static_cast<std::uint32_t>(i));
    finder.add(pick(cloud, some));
  }
  finder.solve(Executor(threads));
  return finder;
}

TEST(Ground, IsToldFromWhatStandsOnASteepSlope) {
  for (const std::uint64_t seed : {1u, 2u, 3u}) {
    Field field = made_up(seed);
    const GroundFinder finder = found_in(field.cloud, 2);
    EXPECT_EQ(finder.summary().outcome, "found");
    finder.classify(field.cloud, Executor(2));
    std::array<std::size_t, 4> count{}, ground{}, noise{};
    std::size_t under_hut = 0;
    double worst = 0;
    for (std::size_t i = 0; i < field.cloud.size(); ++i) {
      const Kind kind = field.kinds[i];
      ++count[kind];
      ground[kind] += field.cloud.classes[i] == static_cast<std::uint8_t>(PointClass::ground);
      noise[kind] += field.cloud.classes[i] == static_cast<std::uint8_t>(PointClass::noise);
      if (kind != kHut) continue;
      // The surface goes on under the hut, from its rim.
      const Eigen::Vector3d p = field.cloud.position(i), own = p - field.cloud.origin;
      worst = std::max(worst,
                       std::abs(finder.height_at(p.head<2>()) - field.cloud.origin.z() - slope_at(own.x(), own.y())));
      ++under_hut;
    }
    const auto share = [](std::size_t part, std::size_t whole) {
      return static_cast<double>(part) / static_cast<double>(whole);
    };
    EXPECT_GT(share(ground[kGround], count[kGround]), 0.97) << seed;
    EXPECT_LT(share(ground[kHut] + ground[kBush], count[kHut] + count[kBush]), 0.03) << seed;
    EXPECT_EQ(ground[kStray], 0u) << seed;
    EXPECT_EQ(noise[kStray], count[kStray]) << seed;
    EXPECT_LT(share(noise[kGround], count[kGround]), 1e-3) << seed;
    EXPECT_GT(under_hut, 1000u);
    EXPECT_LT(worst, 1.5) << seed;  // its ridges are 1.5 and 0.8 metres high
  }
}

// Low willows among grey stones, so low that they pass for ground by their heights; a green meadow that lies level.
Field willows(std::uint64_t seed, bool coloured) {
  Field field;
  CounterRandom random(seed);
  std::vector<Eigen::Vector3d> bushes;
  for (int i = 0; i < 40; ++i)
    bushes.emplace_back(random.uniform(-28, 10), random.uniform(-28, 28), random.uniform(0.6, 1.4));
  const auto grain = [&](int base) { return static_cast<std::uint8_t>(base + random.uniform(-12, 12)); };
  for (double y = -30; y < 30; y += 0.12)
    for (double x = -30; x < 30; x += 0.12) {
      double z = slope_at(x, y);
      Kind kind = kGround;
      for (const Eigen::Vector3d& b : bushes)
        if (const double d = std::hypot(x - b.x(), y - b.y()); d < b.z())
          z = std::max(z, slope_at(x, y) + 0.35 * b.z() * (1 - d * d / (b.z() * b.z()))), kind = kBush;
      field.cloud.positions.emplace_back(static_cast<float>(x), static_cast<float>(y),
                                         static_cast<float>(z + 0.02 * random.normal()));
      field.kinds.push_back(kind);
      if (!coloured) continue;
      const bool green = kind == kBush || std::hypot(x - 20, y) < 3;
      field.cloud.colours.push_back(green ? std::array<std::uint8_t, 3>{grain(95), grain(118), grain(66)}
                                          : std::array<std::uint8_t, 3>{grain(140), grain(136), grain(128)});
    }
  return field;
}

TEST(Ground, LowBushesAreToldByTheirColour) {
  std::array<double, 2> taken{};
  for (const bool coloured : {false, true}) {
    Field field = willows(5, coloured);
    const GroundFinder finder = found_in(field.cloud, 2, coloured ? 3 : 1);
    finder.classify(field.cloud, Executor(2));
    std::array<std::size_t, 4> count{}, ground{}, plants{};
    std::size_t meadow = 0, meadow_ground = 0;
    for (std::size_t i = 0; i < field.cloud.size(); ++i) {
      const auto of = static_cast<PointClass>(field.cloud.classes[i]);
      ++count[field.kinds[i]], ground[field.kinds[i]] += of == PointClass::ground;
      plants[field.kinds[i]] += of == PointClass::low_vegetation || of == PointClass::medium_vegetation;
      const auto& p = field.cloud.positions[i];
      if (field.kinds[i] == kGround && std::hypot(p.x() - 20, p.y()) < 3)
        ++meadow, meadow_ground += of == PointClass::ground;
    }
    const auto share = [](std::size_t part, std::size_t whole) {
      return static_cast<double>(part) / static_cast<double>(whole);
    };
    taken[coloured] = share(ground[kBush], count[kBush]);
    EXPECT_GT(share(ground[kGround], count[kGround]), 0.97) << coloured;
    // Green that lies level with its surroundings stays ground.
    EXPECT_GT(share(meadow_ground, meadow), 0.95) << coloured;
    if (coloured) {
      EXPECT_GT(finder.summary().cells_by_colour, 20u);
      EXPECT_GT(share(plants[kBush], count[kBush]), 0.7);
    }
    EXPECT_LT(share(plants[kGround], count[kGround]), 0.01);
  }
  EXPECT_GT(taken[0], 0.4);  // by heights alone
  EXPECT_LT(taken[1], 0.5 * taken[0]);
}

TEST(Ground, RoofsAreBuildingsAndDomesAreNot) {
  PointCloud cloud;
  std::vector<int> kinds;
  CounterRandom random(6);
  for (double y = -20; y < 20; y += 0.12)
    for (double x = -20; x < 20; x += 0.12) {
      double z = 0.1 * x;
      int kind = 0;
      // A gabled roof of 8 by 6 metres, and a boulder as large.
      if (std::abs(x + 8) < 4 && std::abs(y) < 3) z = 3.5 - 0.5 * std::abs(y), kind = 1;
      if (const double d = std::hypot(x - 8, y); d < 2.5) z = 0.8 + std::sqrt(2.6 * 2.6 - d * d), kind = 2;
      cloud.positions.emplace_back(static_cast<float>(x), static_cast<float>(y),
                                   static_cast<float>(z + 0.02 * random.normal()));
      kinds.push_back(kind);
    }
  const GroundFinder finder = found_in(cloud, 2);
  finder.classify(cloud, Executor(2));
  std::array<std::size_t, 3> count{}, building{}, ground{};
  for (std::size_t i = 0; i < cloud.size(); ++i) {
    const auto kind = static_cast<std::size_t>(kinds[i]);
    ++count[kind], building[kind] += cloud.classes[i] == static_cast<std::uint8_t>(PointClass::building);
    ground[kind] += cloud.classes[i] == static_cast<std::uint8_t>(PointClass::ground);
  }
  EXPECT_GT(building[1] * 10, count[1] * 9);
  EXPECT_EQ(building[2], 0u);
  EXPECT_EQ(building[0], 0u);
  EXPECT_EQ(ground[1] + ground[2], 0u);
}

TEST(Ground, HintsAreObeyed) {
  Field field = made_up(7);
  Eigen::AlignedBox3d box;
  for (std::size_t i = 0; i < field.cloud.size(); ++i) box.extend(field.cloud.position(i));
  const auto corner = [&](double x, double y) -> Eigen::Vector2d {
    return field.cloud.origin.head<2>() + Eigen::Vector2d(x, y);
  };
  GroundOptions options;
  options.ground_within = {{corner(2, -5), corner(8, -5), corner(8, -1), corner(2, -1)}};  // on the hut's roof
  options.other_within = {{corner(-20, -20), corner(-10, -20), corner(-10, -10), corner(-20, -10)}};
  GroundFinder finder(box.min(), box.max(), 0.12, options);
  finder.add(field.cloud);
  finder.solve(Executor(2));
  finder.classify(field.cloud, Executor(2));
  std::size_t roof = 0, roof_ground = 0, other = 0, other_ground = 0;
  for (std::size_t i = 0; i < field.cloud.size(); ++i) {
    const auto& p = field.cloud.positions[i];
    const bool ground = field.cloud.classes[i] == static_cast<std::uint8_t>(PointClass::ground);
    if (field.kinds[i] == kHut && std::abs(p.x() - 5) < 2 && std::abs(p.y() + 3) < 1) ++roof, roof_ground += ground;
    if (field.kinds[i] == kGround && p.x() > -19 && p.x() < -11 && p.y() > -19 && p.y() < -11)
      ++other, other_ground += ground;
  }
  ASSERT_GT(roof, 100u);
  EXPECT_GT(roof_ground * 10, roof * 9);
  ASSERT_GT(other, 100u);
  EXPECT_EQ(other_ground, 0u);
}

TEST(Ground, IsTheSameForAnyThreadsAndParts) {
  for (Field field : {made_up(4), willows(8, true)}) {
    const GroundFinder one = found_in(field.cloud, 1);
    one.classify(field.cloud, Executor(1));
    const std::vector<std::uint8_t> classes = field.cloud.classes;
    for (const int threads : {2, 7}) {
      const GroundFinder other = found_in(field.cloud, threads, static_cast<std::size_t>(threads));
      EXPECT_EQ(one.surface().values(), other.surface().values());
      EXPECT_EQ(one.is_ground().values(), other.is_ground().values());
      other.classify(field.cloud, Executor(threads));
      EXPECT_EQ(field.cloud.classes, classes);
    }
  }
}

TEST(Ground, KnowsWhatLiesOutside) {
  // An L with a gap in it: the missing quarter is outside, the gap is not.
  PointCloud cloud;
  for (double y = 0; y < 30; y += 0.12)
    for (double x = 0; x < 30; x += 0.12) {
      if ((x > 15 && y > 15) || std::hypot(x - 7, y - 7) < 3) continue;
      cloud.positions.emplace_back(static_cast<float>(x), static_cast<float>(y), static_cast<float>(0.1 * x));
    }
  GroundFinder finder({0, 0, 0}, {30, 30, 3}, 0.12, {});
  finder.add(cloud);
  finder.solve(Executor(2));
  EXPECT_GT(finder.distance_at({25, 25}), 1e6);
  EXPECT_GT(finder.distance_at({18, 18}), 1e6);
  EXPECT_NEAR(finder.distance_at({7, 7}), 3, 0.6);
  EXPECT_NEAR(finder.distance_at({7, 8.5}), 1.5, 0.6);
  EXPECT_NEAR(finder.distance_at({20, 5}), 0, 1e-6);
}

TEST(Ground, WhatCannotBeIsSaid) {
  const Eigen::Vector3d low(0, 0, 0), high(10, 10, 1);
  GroundFinder empty(low, high, 0.1, {});
  empty.solve();
  EXPECT_NE(empty.summary().outcome.find("no point"), std::string::npos);
  PointCloud lone;
  lone.positions = {{5, 5, 0}, {std::numeric_limits<float>::quiet_NaN(), 1, 1}};
  empty.classify(lone);
  EXPECT_EQ(lone.classes[0], static_cast<std::uint8_t>(PointClass::never));
  // One point alone is ground.
  GroundFinder single(low, high, 0.1, {});
  single.add(lone);
  single.solve();
  EXPECT_EQ(single.summary().points, 1u);
  single.classify(lone);
  EXPECT_EQ(lone.classes[0], static_cast<std::uint8_t>(PointClass::ground));
  EXPECT_NE(lone.classes[1], static_cast<std::uint8_t>(PointClass::ground));
  EXPECT_THROW(GroundFinder(low, high, 0, {}), Error);
  GroundOptions options;
  options.bend_deg = 90;
  EXPECT_THROW(GroundFinder(low, high, 0.1, options), Error);
  options = {};
  options.cell = 1e-6;  // 10^14 cells
  EXPECT_THROW(GroundFinder(low, high, 0.1, options), Error);
}

TEST(Plate, DistancesAreThoseToTheNearest) {
  CounterRandom random(11);
  for (const double share : {0.002, 0.05, 0.6}) {
    ImageU8 cells(53, 31);
    for (std::uint8_t& c : cells.values()) c = random.uniform(0, 1) < share;
    cells.at(40, 3) = 1;
    const ImageF found = distances_to(cells, Executor(2));
    for (int y = 0; y < cells.height(); ++y)
      for (int x = 0; x < cells.width(); ++x) {
        double least = 1e9;
        for (int v = 0; v < cells.height(); ++v)
          for (int u = 0; u < cells.width(); ++u)
            if (cells.at(u, v)) least = std::min(least, std::hypot(u - x, v - y));
        ASSERT_NEAR(found.at(x, y), least, 1e-4) << x << " " << y;
      }
  }
  const ImageF none = distances_to(ImageU8(7, 5), Executor(1));
  for (const float d : none.data()) EXPECT_GE(d, 1e8f);
}

TEST(Grid, LiesOnMultiplesOfItsCells) {
  const GridFrame frame = grid_over({100.3, 49.9}, {103.2, 52.4}, 0.5);
  EXPECT_EQ(frame.corner, Eigen::Vector2d(100, 52.5));
  EXPECT_EQ(frame.columns, 7);
  EXPECT_EQ(frame.rows, 6);
  EXPECT_EQ(frame.middle(0, 0), Eigen::Vector2d(100.25, 52.25));
  EXPECT_EQ(frame.at(frame.middle(3, 2)), Eigen::Vector2d(3.5, 2.5));
  EXPECT_THROW(grid_over({0, 0}, {1, 1}, 0), Error);
  EXPECT_THROW(grid_over({0, 0}, {1, 1}, -1), Error);
  EXPECT_THROW(grid_over({0, 0}, {1e6, 1e6}, 1e-6), Error);
}

// What is missing goes on as what is around: a plane exactly, a dome with its curvature; nothing known stays 0.
TEST(Plate, FillsAsWhatIsAroundBends) {
  constexpr int kSide = 61;
  Monitor silent;
  for (const bool dome : {false, true}) {
    const auto truth = [&](int x, int y) {
      return dome ? 5 - 0.004 * ((x - 30) * (x - 30) + (y - 30) * (y - 30)) : 0.3 * x - 0.7 * y + 4;
    };
    ImageF heights(kSide, kSide);
    ImageU8 known(kSide, kSide);
    for (int y = 0; y < kSide; ++y)
      for (int x = 0; x < kSide; ++x)
        if (std::hypot(x - 30, y - 26) > 8) heights.at(x, y) = static_cast<float>(truth(x, y)), known.at(x, y) = 1;
    ImageF filled = heights;
    fill_by_plate(filled, known, Executor(2), silent);
    double worst = 0;
    for (int y = 0; y < kSide; ++y)
      for (int x = 0; x < kSide; ++x) {
        if (known.at(x, y)) {
          EXPECT_EQ(filled.at(x, y), heights.at(x, y));
        }
        worst = std::max(worst, std::abs(filled.at(x, y) - truth(x, y)));
      }
    EXPECT_LT(worst, dome ? 0.05 : 0.01);  // the dome rises by 0.26 within the gap
    ImageF again = heights;
    fill_by_plate(again, known, Executor(7), silent);
    EXPECT_EQ(again.values(), filled.values());
  }
  ImageF nothing(5, 5, 1, 3.0f);
  fill_by_plate(nothing, ImageU8(5, 5), Executor(1), silent);
  EXPECT_EQ(nothing.values(), std::vector<float>(25, 0.0f));
}

}  // namespace
}  // namespace icefield
