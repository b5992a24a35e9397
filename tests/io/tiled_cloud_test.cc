#include "icefield/io/tiled_cloud.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <thread>

#include "icefield/base/random.h"
#include "icefield/io/ply_file.h"
#include "icefield/io/text_file.h"
#include "tests/tools/scenes.h"

namespace icefield {
namespace {

namespace fs = std::filesystem;

constexpr double kSpacing = 0.1;

// A square of ground, its points about kSpacing apart.
PointCloud ground(double left, int side, const Eigen::Vector3d& origin = Eigen::Vector3d::Zero()) {
  PointCloud cloud;
  cloud.origin = origin;
  CounterRandom random(static_cast<std::uint64_t>(left * 10) + 3);
  for (int y = 0; y < side; ++y)
    for (int x = 0; x < side; ++x) {
      cloud.positions.emplace_back(static_cast<float>(left + kSpacing * (x + 0.4 * random.uniform(-1, 1))),
                                   static_cast<float>(kSpacing * (y + 0.4 * random.uniform(-1, 1))),
                                   static_cast<float>(0.01 * random.uniform(0, 1)));
      cloud.views.push_back(static_cast<std::uint16_t>(cloud.size()));
    }
  return cloud;
}

fs::path two_tiles(const Eigen::Vector3d& origin = Eigen::Vector3d::Zero()) {
  const fs::path file = test::scratch_folder() / "tiled.ply";
  const PointCloud left = ground(0, 64, origin), right = ground(6.4, 64, origin);
  CloudContent content = content_of(left);
  content.tiled = true, content.fingerprint = "0123";
  CloudWriter writer(file, CloudFormat::ply, content);
  writer.add_tile(left, kSpacing);
  writer.add_tile(right, kSpacing);
  writer.finish();
  return file;
}

std::vector<std::uint16_t> sorted(std::vector<std::uint16_t> numbers) {
  std::sort(numbers.begin(), numbers.end());
  return numbers;
}

TEST(TiledCloud, GivesTilesAtEachLevel) {
  for (const Eigen::Vector3d& origin : {Eigen::Vector3d(0, 0, 0), Eigen::Vector3d(642000, 5184000, 2300)}) {
    const TiledCloud tiled(two_tiles(origin));
    ASSERT_EQ(tiled.tiles().size(), 2u);
    EXPECT_EQ(tiled.points(), 2u * 64 * 64);
    EXPECT_EQ(tiled.content().fingerprint, "0123");
    EXPECT_EQ(tiled.content().origin, origin);
    for (std::size_t t = 0; t < 2; ++t) {
      const PointCloud truth = ground(t == 0 ? 0 : 6.4, 64, origin), whole = tiled.read(t);
      EXPECT_EQ(whole.origin, origin);
      EXPECT_EQ(sorted(whole.views), sorted(truth.views));
      const TiledCloud::Tile& tile = tiled.tiles()[t];
      for (std::size_t i = 0; i < truth.size(); ++i) {
        ASSERT_TRUE((truth.position(i).array() >= tile.low.array() - 1e-6).all());
        ASSERT_TRUE((truth.position(i).array() <= tile.high.array() + 1e-6).all());
      }
      for (int level = 0; level < kCloudLevels; ++level) {
        const PointCloud part = tiled.read(t, level);
        // One for each cube that has one: an area of 6.4 by 6.4, in cubes of 6.4 down to 0.2.
        const double cubes = level == kCloudLevels - 1 ? 64 * 64 : std::pow(6.4 / level_spacing(kSpacing, level), 2);
        EXPECT_GE(static_cast<double>(part.size()), 0.9 * cubes) << level;
        EXPECT_LE(static_cast<double>(part.size()), 4 * std::max(4.0, cubes)) << level;
        for (std::size_t i = 0; i < part.size(); ++i) ASSERT_EQ(part.positions[i], whole.positions[i]);
      }
      EXPECT_EQ(tile.level_for(0.2), kCloudLevels - 2);
      EXPECT_EQ(tile.level_for(0.39), kCloudLevels - 2);
      EXPECT_EQ(tile.level_for(0.01), kCloudLevels - 1);
      EXPECT_EQ(tile.level_for(1e9), 0);
    }
  }
}

TEST(TiledCloud, GivesWhatLiesInABox) {
  const TiledCloud tiled(two_tiles());
  Bounds box;
  box.centre = {6.4, 3, 0}, box.half_size = {1, 0.5, 1};
  box.orientation = Eigen::Quaterniond(Eigen::AngleAxisd(0.6, Eigen::Vector3d::UnitZ()));
  const PointCloud all = read_ply(tiled.file()), expected = crop(all, box), found = tiled.read(box);
  EXPECT_GT(found.size(), 150u);
  EXPECT_EQ(found.positions, expected.positions);
  EXPECT_EQ(found.views, expected.views);
  const PointCloud coarse = tiled.read(box, 0.25);
  EXPECT_LT(coarse.size(), found.size() / 2);
  EXPECT_GT(coarse.size(), found.size() / 8);
  box.centre = {60, 3, 0};
  EXPECT_EQ(tiled.read(box).size(), 0u);
}

TEST(TiledCloud, AnOverviewIsAsFineAsItMayBe) {
  const TiledCloud tiled(two_tiles());
  EXPECT_EQ(tiled.overview(1u << 20).size(), tiled.points());
  for (const std::uint64_t most : {6000u, 3000u, 500u}) {
    const PointCloud part = tiled.overview(most);
    EXPECT_LE(part.size(), most);
    EXPECT_GE(part.size(), most / 8);
  }
}

TEST(TiledCloud, MayBeReadByManyAtATime) {
  const TiledCloud tiled(two_tiles());
  const PointCloud expected[] = {tiled.read(0), tiled.read(1)};
  std::vector<std::thread> readers;
  std::array<bool, 6> same{};
  for (std::size_t k = 0; k < same.size(); ++k)
    readers.emplace_back([&, k] {
      const PointCloud read = tiled.read(k % 2);
      same[k] = read.positions == expected[k % 2].positions;
    });
  for (std::thread& reader : readers) reader.join();
  for (const bool s : same) EXPECT_TRUE(s);
}

TEST(TiledCloud, FilesWithoutATableAreTilesOfTheirOwn) {
  const fs::path folder = test::scratch_folder();
  const PointCloud cloud = ground(0, 64);
  for (const PlyEncoding encoding : {PlyEncoding::binary, PlyEncoding::ascii}) {
    write_ply(folder / "plain.ply", cloud, encoding);
    const TiledCloud tiled(folder / "plain.ply");
    ASSERT_EQ(tiled.tiles().size(), 1u);
    EXPECT_EQ(tiled.read(0, kCloudLevels - 1).views, cloud.views);
    Bounds box;
    box.centre = {1, 1, 0}, box.half_size = {0.5, 0.5, 1};
    EXPECT_EQ(tiled.read(box, 1).views, crop(cloud, box).views);
    // All over, not its beginning alone.
    const PointCloud part = tiled.overview(1000);
    EXPECT_EQ(part.size(), (64 * 64 + 4) / 5);
    EXPECT_EQ(part.views.front(), cloud.views.front());
    EXPECT_GT(part.views.back(), 64 * 64 - 5);
    EXPECT_EQ(tiled.overview(1 << 20).views, cloud.views);
  }
}

// A table that contradicts its points is not believed; one that is cut off is an error.
TEST(TiledCloud, WhatIsDamagedIsNotBelieved) {
  const fs::path file = two_tiles();
  const std::string content = read_file(file);
  std::string wrong = content;
  const double first = 17;
  const std::size_t row = (8 + kCloudLevels) * sizeof(double);
  std::copy_n(reinterpret_cast<const char*>(&first), sizeof first, wrong.end() - static_cast<std::ptrdiff_t>(row));
  write_file(file, wrong);
  const TiledCloud tiled(file);
  EXPECT_EQ(tiled.tiles().size(), 1u);
  EXPECT_EQ(tiled.read(0).size(), tiled.points());
  write_file(file, content.substr(0, content.size() - 8));
  EXPECT_THROW(TiledCloud{file}, Error);
}

}  // namespace
}  // namespace icefield
