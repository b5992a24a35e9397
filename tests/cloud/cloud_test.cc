#include "icefield/cloud/cloud.h"

#include <gtest/gtest.h>

#include <array>
#include <cmath>
#include <set>

#include "icefield/base/random.h"
#include "icefield/cloud/clean.h"

namespace icefield {
namespace {

// A sheet of points `step` apart with a little noise, in the plane z = height.
void add_sheet(PointCloud& cloud, int columns, int rows, float step, const Eigen::Vector3f& corner,
               std::uint64_t seed) {
  CounterRandom random(seed);
  for (int y = 0; y < rows; ++y)
    for (int x = 0; x < columns; ++x) {
      const Eigen::Vector3f noise(random.uniformf() - 0.5f, random.uniformf() - 0.5f, random.uniformf() - 0.5f);
      cloud.positions.push_back(
          corner + step * (Eigen::Vector3f(static_cast<float>(x), static_cast<float>(y), 0) + 0.3f * noise));
    }
}

std::array<std::size_t, kFaults> counts_of(const std::vector<Fault>& faults) {
  std::array<std::size_t, kFaults> counts{};
  for (const Fault f : faults) ++counts[static_cast<std::size_t>(f)];
  return counts;
}

TEST(Clean, TakesIslandsAndLonelyPointsAndLeavesTheSheet) {
  PointCloud cloud;
  add_sheet(cloud, 60, 60, 0.01f, {0, 0, 0}, 1);
  add_sheet(cloud, 5, 5, 0.01f, {0.3f, 0.3f, 0.5f}, 2);  // floats above it
  for (int i = 0; i < 40; ++i)
    cloud.positions.emplace_back(0.015f * static_cast<float>(i), 0.2f,
                                 0.06f + 0.05f * static_cast<float>(i % 7));  // strewn
  const auto faults = find_faults(cloud, {}, Executor(2));
  for (std::size_t i = 0; i < 3600; ++i) ASSERT_EQ(faults[i], Fault::none) << i;
  for (std::size_t i = 3600; i < cloud.size(); ++i) EXPECT_NE(faults[i], Fault::none) << i;
  EXPECT_GT(counts_of(faults)[static_cast<std::size_t>(Fault::island)], 24u);
  // A sheet of another spacing is no fault: distances are held against those nearby.
  PointCloud coarse = cloud;
  add_sheet(coarse, 30, 30, 0.05f, {3, 0, 0}, 3);
  const auto again = find_faults(coarse, {}, Executor(2));
  for (std::size_t i = cloud.size(); i < coarse.size(); ++i) ASSERT_EQ(again[i], Fault::none);
  EXPECT_EQ(again, find_faults(coarse, {}, Executor(7)));
  // Each part can be switched off.
  CleanOptions off;
  off.max_loneliness = 0, off.min_island_points = 0;
  EXPECT_EQ(counts_of(find_faults(cloud, off, Executor(2)))[0], cloud.size());
}

TEST(Clean, StraysInThinAirDoNotHangTogether) {
  // As far from each other as from all else, in the space above a sheet: so many that they would be no island by their
  // number.
  PointCloud cloud;
  add_sheet(cloud, 100, 100, 0.01f, {0, 0, 0}, 1);
  CounterRandom random(4);
  for (int i = 0; i < 90; ++i) {
    const Eigen::Vector3f middle(random.uniformf(), random.uniformf(), 0.4f + random.uniformf());
    for (int k = 0; k < 3; ++k)
      cloud.positions.emplace_back(middle +
                                   0.01f * Eigen::Vector3f(random.uniformf(), random.uniformf(), random.uniformf()));
  }
  const auto faults = find_faults(cloud, {}, Executor(2));
  for (std::size_t i = 0; i < 10000; ++i) ASSERT_EQ(faults[i], Fault::none) << i;
  for (std::size_t i = 10000; i < cloud.size(); ++i) EXPECT_NE(faults[i], Fault::none) << i;
}

TEST(Clean, AnIslandThatGoesOnElsewhereStays) {
  PointCloud cloud;
  add_sheet(cloud, 40, 40, 0.01f, {0, 0, 0}, 1);
  add_sheet(cloud, 6, 6, 0.01f, {2, 0, 0}, 2);
  std::vector<std::uint8_t> open(cloud.size(), 0);
  EXPECT_EQ(counts_of(find_faults(cloud, {}, Executor(1), open))[static_cast<std::size_t>(Fault::island)], 36u);
  open[1605] = 1;
  EXPECT_EQ(counts_of(find_faults(cloud, {}, Executor(1), open))[static_cast<std::size_t>(Fault::island)], 0u);
}

TEST(Clean, PointsThatPhotosSeePastGoFirst) {
  PointCloud cloud;
  add_sheet(cloud, 40, 40, 0.01f, {0, 0, 0}, 1);
  cloud.views.assign(cloud.size(), 4);
  cloud.conflicts.assign(cloud.size(), 2);
  for (std::size_t i = 100; i < 110; ++i) cloud.conflicts[i] = 3;
  const Cleaned cleaned = clean(cloud, {}, Executor(2));
  EXPECT_EQ(cleaned.counts[static_cast<std::size_t>(Fault::see_through)], 10u);
  EXPECT_EQ(cleaned.kept.size() + cleaned.aside.size(), cloud.size());
  ASSERT_EQ(cleaned.aside.faults.size(), cleaned.aside.size());
  EXPECT_TRUE(cleaned.kept.faults.empty());
  // What was set aside comes back by merging.
  const PointCloud parts[] = {cleaned.kept, cleaned.aside};
  const PointCloud whole = merge(parts);
  EXPECT_EQ(whole.size(), cloud.size());
  EXPECT_EQ(whole.conflicts.size(), cloud.size());
  EXPECT_TRUE(whole.faults.empty()) << "only one of them carries reasons";
}

TEST(Clean, FewPointsAreNoError) {
  for (const std::size_t n : {0, 1, 2, 3}) {
    PointCloud cloud;
    for (std::size_t i = 0; i < n; ++i) cloud.positions.emplace_back(static_cast<float>(i), 0.0f, 0.0f);
    EXPECT_EQ(find_faults(cloud, {}, Executor(1)).size(), n);
  }
  PointCloud same;
  same.positions.assign(500, Eigen::Vector3f(1, 2, 3));
  EXPECT_EQ(counts_of(find_faults(same, {}, Executor(1)))[0], 500u);
}

TEST(Crop, ByBoxAndByOutline) {
  PointCloud cloud;
  cloud.origin = {1000, 2000, 0};
  add_sheet(cloud, 50, 50, 0.1f, {0, 0, 0}, 1);
  cloud.views.resize(cloud.size());
  for (std::size_t i = 0; i < cloud.size(); ++i) cloud.views[i] = static_cast<std::uint16_t>(i);
  Bounds box;
  box.centre = {1002, 2002, 0};
  box.half_size = {1, 0.5, 1};
  box.orientation = Eigen::AngleAxisd(0.5, Eigen::Vector3d::UnitZ());
  const PointCloud inside = crop(cloud, box), outside = crop(cloud, box, true);
  EXPECT_EQ(inside.size() + outside.size(), cloud.size());
  EXPECT_NEAR(static_cast<double>(inside.size()), 200, 20);
  for (std::size_t i = 0; i < inside.size(); ++i) {
    ASSERT_TRUE(box.contains(inside.position(i)));
    ASSERT_EQ(inside.position(i), cloud.position(inside.views[i])) << "attributes go with their points";
  }
  // An L: the notch is outside.
  const std::vector<Eigen::Vector2d> outline = {{1000, 2000}, {1004, 2000}, {1004, 2002},
                                                {1002, 2002}, {1002, 2004}, {1000, 2004}};
  EXPECT_TRUE(within_outline({1001, 2003}, outline));
  EXPECT_FALSE(within_outline({1003, 2003}, outline));
  EXPECT_NEAR(static_cast<double>(crop(cloud, outline).size()), 1200, 60);
  EXPECT_FALSE(within_outline({0, 0}, {}));
}

TEST(Split, PutsEachPointInItsSquare) {
  PointCloud cloud;
  cloud.origin = {-3, 5, 0};
  add_sheet(cloud, 50, 30, 0.1f, {0, 0, 0}, 1);
  std::size_t sum = 0;
  for (const CloudTile& tile : split(cloud, 2)) {
    sum += tile.cloud.size();
    for (std::size_t i = 0; i < tile.cloud.size(); ++i) {
      const Eigen::Vector3d p = tile.cloud.position(i);
      ASSERT_EQ(std::floor(p.x() / 2), tile.column);
      ASSERT_EQ(std::floor(p.y() / 2), tile.row);
    }
  }
  EXPECT_EQ(sum, cloud.size());
}

TEST(Merge, BringsCloudsIntoOneFrame) {
  PointCloud a, b;
  a.origin = {100, 0, 0}, b.origin = {200, 0, 0};
  a.positions = {{1, 2, 3}}, b.positions = {{4, 5, 6}, {7, 8, 9}};
  a.views = {3}, b.views = {4, 5};
  a.errors = {0.1f};
  const PointCloud both[] = {a, b};
  const PointCloud all = merge(both);
  ASSERT_EQ(all.size(), 3u);
  EXPECT_EQ(all.position(1), Eigen::Vector3d(204, 5, 6));
  EXPECT_EQ(all.views, (std::vector<std::uint16_t>{3, 4, 5}));
  EXPECT_TRUE(all.errors.empty());
}

TEST(Normals, OfASlopeStandOnIt) {
  PointCloud cloud;
  CounterRandom random(4);
  for (int i = 0; i < 3000; ++i) {
    const float x = random.uniformf(), y = random.uniformf();
    cloud.positions.emplace_back(x, y, 0.5f * x - 0.25f * y);
  }
  const Eigen::Vector3f slope = Eigen::Vector3f(-0.5f, 0.25f, 1).normalized();
  estimate_normals(cloud, 12, Eigen::Vector3f::UnitZ(), Executor(2));
  for (const Eigen::Vector3f& n : cloud.normals) ASSERT_GT(n.dot(slope), 0.999f);
  // The side that normals pointed to stays theirs.
  for (Eigen::Vector3f& n : cloud.normals) n = Eigen::Vector3f(0, 0, -1);
  estimate_normals(cloud, 12, Eigen::Vector3f::UnitZ(), Executor(2));
  for (const Eigen::Vector3f& n : cloud.normals) ASSERT_LT(n.dot(slope), -0.999f);
}

TEST(Thin, KeepsOnePointACell) {
  PointCloud cloud;
  for (int i = 0; i < 1000; ++i) cloud.positions.emplace_back(0.001f * static_cast<float>(i), 0.0f, 0.0f);
  const PointCloud thinned = thin(cloud, 0.1);
  EXPECT_EQ(thinned.size(), 10u);
  EXPECT_NEAR(typical_spacing(cloud), 0.001, 1e-5);
}

TEST(Distances, ToTheNearestWhateverTheOrigins) {
  PointCloud here, there;
  here.origin = {1000, 2000, 0}, there.origin = {1000, 1990, 5};
  for (int i = 0; i < 5000; ++i) here.positions.push_back({static_cast<float>(i), 0, 0});
  for (int i = 0; i < 100; ++i)
    there.positions.push_back({static_cast<float>(i), 10, -2});  // 3 above the first hundred
  const std::vector<double> one = distances(here, there, Executor(1)), many = distances(here, there, Executor(5));
  ASSERT_EQ(one.size(), 5000u);
  EXPECT_NEAR(one[50], 3, 1e-6);
  EXPECT_NEAR(one[103], 5, 1e-6);
  EXPECT_EQ(one, many);
}

TEST(PointCloud, GoesThroughBytes) {
  PointCloud cloud;
  cloud.origin = {642000, 5184000, 2300};
  cloud.datum.units = "m", cloud.datum.crs = "EPSG:25832", cloud.datum.axes = Axes::east_north_up;
  for (int i = 0; i < 20; ++i) {
    cloud.positions.emplace_back(0.5f * static_cast<float>(i), -1, 2);
    cloud.normals.emplace_back(0, 0.6f, 0.8f);
    cloud.errors.push_back(0.1f * static_cast<float>(i));
  }
  const Bytes bytes = cloud.to_bytes();
  const PointCloud back = PointCloud::from_bytes(bytes);
  EXPECT_EQ(back.to_bytes(), bytes);
  EXPECT_EQ(back.positions, cloud.positions);
  EXPECT_EQ(back.normals, cloud.normals);
  EXPECT_EQ(back.datum, cloud.datum);
  EXPECT_EQ(back.origin, cloud.origin);
  EXPECT_TRUE(back.colours.empty());
  for (std::size_t n = 0; n < bytes.size(); n += 31)
    EXPECT_THROW(PointCloud::from_bytes(std::span<const std::byte>(bytes).first(n)), Error);
  cloud.errors.pop_back();
  EXPECT_THROW(PointCloud::from_bytes(cloud.to_bytes()), Error);
}

TEST(CloudLevels, EachHasOnePointForEachCube) {
  PointCloud cloud;
  CounterRandom random(3);
  for (int i = 0; i < 3000; ++i)
    cloud.positions.emplace_back(random.uniformf(), random.uniformf(), 0.2f * random.uniformf());
  const double spacing = 0.02;
  const CloudLevels levels = in_levels(cloud, spacing);
  EXPECT_EQ(std::set<std::uint32_t>(levels.order.begin(), levels.order.end()).size(), cloud.size());
  EXPECT_EQ(levels.end.back(), cloud.size());
  for (int level = 0; level + 1 < kCloudLevels; ++level) {
    const auto cubes = [&](std::size_t count) {
      std::set<std::array<int, 3>> occupied;
      for (std::size_t k = 0; k < count; ++k) {
        const Eigen::Vector3f& p = cloud.positions[levels.order[k]];
        std::array<int, 3> cube;
        for (int c = 0; c < 3; ++c)
          cube[static_cast<std::size_t>(c)] =
              static_cast<int>(std::floor(static_cast<double>(p[c]) / level_spacing(spacing, level)));
        occupied.insert(cube);
      }
      return occupied.size();
    };
    const std::uint64_t end = levels.end[static_cast<std::size_t>(level)];
    EXPECT_EQ(end, cubes(cloud.size())) << level;
    EXPECT_EQ(end, cubes(end)) << level;
  }
}

}  // namespace
}  // namespace icefield
