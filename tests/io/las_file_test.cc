#include "icefield/io/las_file.h"

#include <gtest/gtest.h>

#include <cstring>
#include <fstream>

#include "icefield/base/error.h"
#include "icefield/base/random.h"
#include "icefield/io/cloud_file.h"
#include "icefield/io/text_file.h"
#include "icefield/io/tiled_cloud.h"
#include "tests/tools/scenes.h"

namespace icefield {
namespace {
namespace fs = std::filesystem;

PointCloud made_up(std::size_t count) {
  CounterRandom random(14);
  PointCloud cloud;
  cloud.origin = {652000, 5211000, 2400};
  cloud.datum = {"EPSG:25832", "EPSG:7837", "m", Axes::east_north_up};
  for (std::size_t i = 0; i < count; ++i) {
    cloud.positions.emplace_back(static_cast<float>(random.uniform(-40, 40)),
                                 static_cast<float>(random.uniform(-40, 40)), static_cast<float>(random.uniform(0, 9)));
    cloud.normals.push_back(Eigen::Vector3f(0.6f, 0, 0.8f));
    cloud.colours.push_back({static_cast<std::uint8_t>(random.below(256)), 40, 7});
    cloud.views.push_back(static_cast<std::uint16_t>(2 + random.below(9)));
    cloud.errors.push_back(static_cast<float>(random.uniform(0.001, 0.01)));
    cloud.classes.push_back(static_cast<std::uint8_t>(2 + random.below(5)));
    cloud.class_confidence.push_back(static_cast<std::uint8_t>(random.below(101)));
  }
  return cloud;
}

void expect_same(const PointCloud& read, const PointCloud& cloud, double step) {
  ASSERT_EQ(read.size(), cloud.size());
  double worst = 0;
  for (std::size_t i = 0; i < cloud.size(); ++i)
    worst = std::max(worst, (read.position(i) - cloud.position(i)).cwiseAbs().maxCoeff());
  EXPECT_LE(worst, step);
  EXPECT_EQ(read.colours, cloud.colours);
  EXPECT_EQ(read.classes, cloud.classes);
}

TEST(LasFile, ComesBackAsItWasWritten) {
  const PointCloud cloud = made_up(40000);
  const fs::path file = test::scratch_folder() / "las_back.las";
  write_cloud(file, CloudFormat::las, cloud, 0.02);
  const PointCloud read = read_cloud(file);
  expect_same(read, cloud, 1e-4);
  EXPECT_EQ(read.views, cloud.views);
  EXPECT_EQ(read.errors, cloud.errors);
  EXPECT_EQ(read.class_confidence, cloud.class_confidence);
  EXPECT_EQ(read.normals, cloud.normals);
  EXPECT_EQ(read.datum.crs, "EPSG:25832");
  EXPECT_EQ(read.datum.units, "m");
  // From the middle, and as tiles.
  LasReader reader(file);
  PointCloud part;
  reader.go_to(39990);
  ASSERT_TRUE(reader.read(part, 100));
  ASSERT_EQ(part.size(), 10u);
  EXPECT_NEAR((part.position(3) - cloud.position(39993)).norm(), 0, 2e-4);
  EXPECT_FALSE(reader.read(part, 100));
  const TiledCloud tiled(file);
  EXPECT_EQ(tiled.points(), 40000u);
  Bounds box;
  box.centre = cloud.origin, box.half_size = Eigen::Vector3d(10, 10, 20);
  const PointCloud within = tiled.read(box);
  std::size_t expected = 0;
  for (std::size_t i = 0; i < read.size(); ++i) expected += box.contains(read.position(i));
  EXPECT_EQ(within.size(), expected);
  EXPECT_GT(expected, 1000u);
  // And by way of the older format, whose CRS is a code.
  const fs::path old = test::scratch_folder() / "las_old.las";
  EXPECT_EQ(copy_cloud(file, old, CloudFormat::las_12, 0.02), 40000u);
  const PointCloud again = read_cloud(old);
  expect_same(again, cloud, 2e-4);
  EXPECT_EQ(again.datum.crs.substr(0, 10), "EPSG:25832");
}

// A file as other programs write it: format 3, colours of 8 bits against the standard, withheld points, padding.
TEST(LasFile, OthersAreRead) {
  std::string las(227 + 10, '\0');
  const auto put = [&](std::size_t at, auto value) { std::memcpy(las.data() + at, &value, sizeof value); };
  las.replace(0, 4, "LASF");
  las[24] = 1, las[25] = 2;
  put(94, std::uint16_t{227}), put(96, std::uint32_t{237}), put(100, std::uint32_t{0});
  las[104] = 3;
  put(105, std::uint16_t{36}), put(107, std::uint32_t{3});
  for (std::size_t c = 0; c < 3; ++c) put(131 + 8 * c, 0.01), put(155 + 8 * c, c == 2 ? 0.0 : 1000.0);
  for (int i = 0; i < 3; ++i) {
    std::string point(36, '\0');
    const auto in_point = [&](std::size_t at, auto value) { std::memcpy(point.data() + at, &value, sizeof value); };
    for (std::size_t c = 0; c < 3; ++c) in_point(4 * c, static_cast<std::int32_t>(100 * i + static_cast<int>(c)));
    point[15] = static_cast<char>(i == 2 ? 0x82 : 0x22);  // ground; withheld, synthetic
    in_point(28, static_cast<std::uint16_t>(200)), in_point(30, static_cast<std::uint16_t>(100 + i));
    las += point;
  }
  const fs::path file = test::scratch_folder() / "las_others.las";
  std::ofstream(file, std::ios::binary) << las;
  const PointCloud cloud = read_cloud(file);
  ASSERT_EQ(cloud.size(), 3u);
  EXPECT_NEAR((cloud.position(1) - Eigen::Vector3d(1001, 1001.01, 1.02)).norm(), 0, 1e-4);
  EXPECT_EQ(cloud.colours[1], (std::array<std::uint8_t, 3>{200, 101, 0}));
  EXPECT_EQ(cloud.classes[1], 2);
  EXPECT_EQ(cloud.classes[2], static_cast<std::uint8_t>(PointClass::noise));
  EXPECT_FALSE(cloud.datum.known());
}

TEST(LasFile, HostileOnesAreRefused) {
  const fs::path good = test::scratch_folder() / "las_good.las", bad = test::scratch_folder() / "las_bad.las";
  write_cloud(good, CloudFormat::las, made_up(50), 0.02);
  const std::string whole = read_file(good);
  const auto fault_of = [&](const std::string& bytes) {
    std::ofstream(bad, std::ios::binary) << bytes;
    try {
      read_cloud(bad);
      return std::string("none");
    } catch (const Error& error) {
      EXPECT_EQ(error.kind(), ErrorKind::input);
      return std::string(error.what());
    }
  };
  const auto with = [&](std::size_t at, auto value) {
    std::string bytes = whole;
    std::memcpy(bytes.data() + at, &value, sizeof value);
    return bytes;
  };
  EXPECT_NE(fault_of(whole.substr(0, 200)).find("too short"), std::string::npos);
  EXPECT_NE(fault_of(whole.substr(0, whole.size() - 1)).find("has room for 49 points"), std::string::npos);
  EXPECT_NE(fault_of(with(247, ~std::uint64_t{0})).find("has room"), std::string::npos);
  EXPECT_NE(fault_of(with(104, std::uint8_t{0x87})).find("LAZ"), std::string::npos);
  EXPECT_NE(fault_of(with(104, std::uint8_t{11})).find("format 11"), std::string::npos);
  EXPECT_NE(fault_of(with(105, std::uint16_t{4})).find("of 4 bytes"), std::string::npos);
  EXPECT_NE(fault_of(with(96, std::uint32_t{3})).find("begin at byte 3"), std::string::npos);
  EXPECT_NE(fault_of(with(131, std::nan(""))).find("steps"), std::string::npos);
  EXPECT_NE(fault_of(with(25, std::uint8_t{7})).find("version 1.7"), std::string::npos);
  // Records that reach beyond the points are passed over.
  EXPECT_EQ(fault_of(with(100, ~std::uint32_t{0})), "none");
  EXPECT_EQ(fault_of(with(243, ~std::uint32_t{0})), "none");
  EXPECT_EQ(fault_of(with(375 + 20, std::uint16_t{65535})), "none");
}

}  // namespace
}  // namespace icefield
