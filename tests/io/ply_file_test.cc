#include "icefield/io/ply_file.h"

#include <gtest/gtest.h>

#include <fstream>

#include "icefield/base/error.h"
#include "icefield/base/random.h"
#include "icefield/cloud/clean.h"
#include "icefield/io/text_file.h"
#include "tests/tools/programs.h"
#include "tests/tools/scenes.h"

namespace icefield {
namespace {

PointCloud some_cloud(const Eigen::Vector3d& origin = Eigen::Vector3d::Zero()) {
  CounterRandom random(1);
  PointCloud cloud;
  cloud.origin = origin;
  for (int i = 0; i < 100; ++i) {
    cloud.positions.emplace_back(random.uniformf(), random.uniformf(), random.uniformf());
    cloud.normals.push_back(Eigen::Vector3f(random.uniformf(), random.uniformf(), 1).normalized());
    cloud.colours.push_back({static_cast<std::uint8_t>(i), static_cast<std::uint8_t>(2 * i), 7});
    cloud.views.push_back(static_cast<std::uint16_t>(3 + i % 5));
    cloud.gsd.push_back(0.01f);
    cloud.counted.push_back(i % 2);
    cloud.classes.push_back(static_cast<std::uint8_t>(i % 10));
    cloud.class_confidence.push_back(static_cast<std::uint8_t>(100 - i));
  }
  return cloud;
}

class PlyFile : public testing::TestWithParam<PlyEncoding> {};
INSTANTIATE_TEST_SUITE_P(Encodings, PlyFile, testing::Values(PlyEncoding::ascii, PlyEncoding::binary));

TEST_P(PlyFile, RoundTrip) {
  const auto file = test::scratch_folder() / "cloud.ply";
  for (const Eigen::Vector3d& origin : {Eigen::Vector3d(0, 0, 0), Eigen::Vector3d(642000, 5184000, 2300)}) {
    const PointCloud cloud = some_cloud(origin);
    write_ply(file, cloud, GetParam());
    const PointCloud back = read_ply(file);
    ASSERT_EQ(back.size(), cloud.size());
    for (std::size_t i = 0; i < cloud.size(); ++i) {
      EXPECT_LT((back.position(i) - cloud.position(i)).norm(), origin.isZero() ? 1e-7 : 1e-4);
      EXPECT_LT((back.normals[i] - cloud.normals[i]).norm(), 2e-4f);
    }
    EXPECT_EQ(back.colours, cloud.colours);
    EXPECT_EQ(back.views, cloud.views);
    EXPECT_EQ(back.counted, cloud.counted);
    EXPECT_EQ(back.classes, cloud.classes);
    EXPECT_EQ(back.class_confidence, cloud.class_confidence);
    EXPECT_FLOAT_EQ(back.gsd[5], 0.01f);
  }
}

TEST_P(PlyFile, CarriesItsDatumAndLosesNothingOfLargeCoordinates) {
  const auto file = test::scratch_folder() / "placed.ply";
  PointCloud cloud = some_cloud({642000, 5184000, 2300});
  cloud.datum = {"EPSG:25832", "EPSG:5773", "m", Axes::east_north_up};
  write_ply(file, cloud, GetParam());
  const PointCloud back = read_ply(file);
  EXPECT_EQ(back.datum, cloud.datum);
  EXPECT_EQ(back.origin, cloud.origin);
  if (GetParam() == PlyEncoding::binary) {
    EXPECT_EQ(back.positions, cloud.positions);
  }
  // Operations keep it.
  const PointCloud part = crop(back, upright_box(std::array{642000.5, 5184000.5, 2300.5, 0.9, 0.9, 0.9}));
  EXPECT_GT(part.size(), 10u);
  EXPECT_EQ(part.datum, cloud.datum);
  EXPECT_EQ(clean(part, {}, Executor(1)).kept.datum, cloud.datum);
}

TEST_P(PlyFile, TruncatedFilesAreRefused) {
  const auto file = test::scratch_folder() / "cut.ply";
  write_ply(file, some_cloud(), GetParam());
  const std::string whole = test::content_of(file);
  for (const double share : {0.0, 0.02, 0.5, 0.95}) {
    std::ofstream(file, std::ios::binary | std::ios::trunc)
        << whole.substr(0, static_cast<std::size_t>(share * static_cast<double>(whole.size())));
    EXPECT_THROW(read_ply(file), Error) << share;
  }
}

TEST(PlyFileReading, HostileHeadersAreRefused) {
  const auto file = test::scratch_folder() / "hostile.ply";
  const std::string start = "ply\nformat binary_little_endian 1.0\n";
  for (const std::string& text :
       {start + "element vertex 99999999999999\nproperty float x\nproperty float y\nproperty float z\nend_header\n",
        start + "element vertex 1\nproperty list uchar int x\nend_header\n0000",
        start + "element vertex 1\nproperty float x\nproperty float y\nend_header\n00000000",
        start + "element face 1\nelement vertex 1\nproperty float x\nend_header\n",
        std::string("ply\nformat binary_big_endian 1.0\nelement vertex 0\nproperty float x\nproperty float y\nproperty "
                    "float z\nend_header\n"),
        std::string("plain text")}) {
    write_file(file, text);
    EXPECT_THROW(read_ply(file), Error) << text;
  }
}

TEST(PlyFileReading, OtherOrdersAndTypes) {
  const auto file = test::scratch_folder() / "other.ply";
  write_file(file,
             "ply\nformat ascii 1.0\nelement vertex 2\nproperty uchar red\nproperty double z\nproperty double "
             "y\nproperty double x\nproperty int extra\nend_header\n9 3 2 1 0\n8 6 5 4 0\n");
  const PointCloud cloud = read_ply(file);
  ASSERT_EQ(cloud.size(), 2u);
  EXPECT_EQ(cloud.positions[1], Eigen::Vector3f(4, 5, 6));
  EXPECT_TRUE(cloud.colours.empty());
}

}  // namespace
}  // namespace icefield
