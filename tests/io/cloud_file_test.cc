#include "icefield/io/cloud_file.h"

#include <gtest/gtest.h>

#include <cstring>

#include "icefield/base/error.h"
#include "icefield/base/random.h"
#include "icefield/io/ply_file.h"
#include "icefield/io/text_file.h"
#include "tests/tools/scenes.h"

namespace icefield {
namespace {
namespace fs = std::filesystem;

PointCloud made_up(std::size_t count, const Eigen::Vector3d& origin) {
  CounterRandom random(4);
  PointCloud cloud;
  cloud.origin = origin;
  for (std::size_t i = 0; i < count; ++i) {
    cloud.positions.emplace_back(static_cast<float>(random.uniform(-40, 40)),
                                 static_cast<float>(random.uniform(-40, 40)), static_cast<float>(random.uniform(0, 9)));
    cloud.normals.push_back(
        Eigen::Vector3f(static_cast<float>(random.normal()), static_cast<float>(random.normal()), 1).normalized());
    cloud.colours.push_back(
        {static_cast<std::uint8_t>(random.below(256)), static_cast<std::uint8_t>(random.below(256)), 7});
    cloud.views.push_back(static_cast<std::uint16_t>(2 + random.below(9)));
    cloud.errors.push_back(static_cast<float>(random.uniform(0.001, 0.01)));
  }
  return cloud;
}

template <class T>
T at(const std::string& bytes, std::size_t place) {
  T value;
  std::memcpy(&value, bytes.data() + place, sizeof value);
  return value;
}

TEST(CloudFile, LasHoldsWhatTheSpecificationSays) {
  const PointCloud cloud = made_up(1000, {652000, 5211000, 2400});
  const fs::path file = test::scratch_folder() / "cloud.las";
  write_cloud(file, CloudFormat::las, cloud, 0.02);
  const std::string las = read_file(file);
  EXPECT_EQ(las.substr(0, 4), "LASF");
  EXPECT_EQ(at<std::uint8_t>(las, 24), 1);
  EXPECT_EQ(at<std::uint8_t>(las, 25), 4);
  EXPECT_EQ(at<std::uint16_t>(las, 94), 375);
  const auto data = at<std::uint32_t>(las, 96);
  const auto record = at<std::uint16_t>(las, 105);
  EXPECT_EQ(at<std::uint8_t>(las, 104), 7);
  EXPECT_EQ(record, 36 + 2 + 4 + 12);
  EXPECT_EQ(at<std::uint64_t>(las, 247), 1000u);
  EXPECT_EQ(at<std::uint64_t>(las, 255), 1000u);
  ASSERT_EQ(las.size(), data + 1000u * record);
  // The extra bytes are told by a record between header and points.
  ASSERT_EQ(at<std::uint32_t>(las, 100), 1u);
  EXPECT_STREQ(las.data() + 375 + 2, "LASF_Spec");
  EXPECT_EQ(at<std::uint16_t>(las, 375 + 18), 4);
  EXPECT_EQ(at<std::uint16_t>(las, 375 + 20), 5 * 192);
  EXPECT_EQ(375u + 54 + 5 * 192, data);
  EXPECT_STREQ(las.data() + 375 + 54 + 4, "views");
  EXPECT_EQ(at<std::uint8_t>(las, 375 + 54 + 2), 3);
  EXPECT_STREQ(las.data() + 375 + 54 + 192 + 4, "error");
  double low = 1e9, high = -1e9;
  for (std::size_t i = 0; i < cloud.size(); ++i) {
    const std::size_t p = data + i * record;
    for (std::size_t c = 0; c < 3; ++c) {
      const double value =
          at<std::int32_t>(las, p + 4 * c) * at<double>(las, 131 + 8 * c) + at<double>(las, 155 + 8 * c);
      ASSERT_NEAR(value, cloud.position(i)[static_cast<int>(c)], 0.0002);
      if (c == 2) low = std::min(low, value), high = std::max(high, value);
    }
    EXPECT_EQ(at<std::uint8_t>(las, p + 14), 0x11);
    EXPECT_EQ(at<std::uint16_t>(las, p + 30), cloud.colours[i][0] * 257);
    EXPECT_EQ(at<std::uint16_t>(las, p + 36), cloud.views[i]);
    EXPECT_EQ(at<float>(las, p + 38), cloud.errors[i]);
    EXPECT_EQ(at<float>(las, p + 50), cloud.normals[i].z());
  }
  EXPECT_DOUBLE_EQ(at<double>(las, 211), high);
  EXPECT_DOUBLE_EQ(at<double>(las, 219), low);
}

// The class of a point stands where each form of records has it, and how sure it is in an extra byte.
TEST(CloudFile, LasHoldsTheClass) {
  PointCloud cloud = made_up(50, {652000, 5211000, 2400});
  cloud.views.clear(), cloud.errors.clear(), cloud.normals.clear();
  for (std::size_t i = 0; i < cloud.size(); ++i) {
    cloud.classes.push_back(static_cast<std::uint8_t>(i % 10));
    cloud.class_confidence.push_back(static_cast<std::uint8_t>(2 * i));
  }
  const fs::path file = test::scratch_folder() / "classes.las";
  for (const CloudFormat format : {CloudFormat::las, CloudFormat::las_12}) {
    write_cloud(file, format, cloud, 0.02);
    const std::string las = read_file(file);
    const auto data = at<std::uint32_t>(las, 96);
    const auto record = at<std::uint16_t>(las, 105);
    const bool old = format == CloudFormat::las_12;
    EXPECT_EQ(record, old ? 26 : 37);
    for (std::size_t i = 0; i < cloud.size(); ++i) {
      EXPECT_EQ(at<std::uint8_t>(las, data + i * record + (old ? 15 : 16)), i % 10);
      if (!old) {
        EXPECT_EQ(at<std::uint8_t>(las, data + i * record + 36), 2 * i);
      }
    }
  }
}

TEST(CloudFile, StreamsComeOutAsWholeClouds) {
  const PointCloud cloud = made_up(5000, Eigen::Vector3d::Zero());
  const fs::path folder = test::scratch_folder();
  for (const CloudFormat format : {CloudFormat::ply, CloudFormat::ply_ascii, CloudFormat::las, CloudFormat::xyz}) {
    write_cloud(folder / "whole", format, cloud);
    CloudWriter writer(folder / "parts", format, content_of(cloud));
    for (std::size_t begin = 0; begin < cloud.size(); begin += 700) {
      PointCloud part;
      for (std::size_t i = begin; i < std::min(begin + 700, cloud.size()); ++i) part.append(cloud, i);
      writer.add(part);
    }
    EXPECT_FALSE(fs::exists(folder / "parts"));  // not before it is whole
    EXPECT_EQ(writer.points(), cloud.size());
    writer.finish();
    EXPECT_EQ(read_file(folder / "whole"), read_file(folder / "parts"));
    fs::remove(folder / "parts");
  }
  write_cloud(folder / "back.ply", CloudFormat::ply, cloud);
  const PointCloud back = read_ply(folder / "back.ply");
  ASSERT_EQ(back.size(), cloud.size());
  EXPECT_EQ(back.errors, cloud.errors);
  EXPECT_EQ(back.views, cloud.views);
  EXPECT_EQ(back.positions[77], cloud.positions[77]);
}

// A cloud in the frame of its block, in files whose coordinates are whole.
TEST(CloudFile, PositionsCountFromTheOriginThatWasAnnounced) {
  const PointCloud local = made_up(50, Eigen::Vector3d::Zero());
  CloudContent content = content_of(local);
  content.origin = {642000, 5184000, 2300};
  content.datum.units = "m";
  PointCloud placed = local;
  placed.origin = content.origin, placed.datum = content.datum;
  const fs::path folder = test::scratch_folder();
  for (const CloudFormat format : {CloudFormat::ply, CloudFormat::las, CloudFormat::xyz}) {
    CloudWriter writer(folder / "local", format, content);
    writer.add(local);
    writer.finish();
    write_cloud(folder / "placed", format, placed);
    EXPECT_EQ(read_file(folder / "local"), read_file(folder / "placed"));
  }
}

TEST(CloudFile, TextHasALineForEachPoint) {
  PointCloud cloud;
  cloud.positions = {{1.5f, -2, 3}, {0, 0.25f, 10}};
  cloud.colours = {{1, 2, 3}, {255, 0, 9}};
  const fs::path file = test::scratch_folder() / "cloud.xyz";
  write_cloud(file, CloudFormat::xyz, cloud);
  EXPECT_EQ(read_file(file), "1.5 -2 3 1 2 3\n0 0.25 10 255 0 9\n");
}

TEST(CloudFile, FormatsFollowTheName) {
  EXPECT_EQ(cloud_format_of("a.PLY", false), CloudFormat::ply);
  EXPECT_EQ(cloud_format_of("a.ply", true), CloudFormat::ply_ascii);
  EXPECT_EQ(cloud_format_of("b.las", false), CloudFormat::las);
  EXPECT_EQ(cloud_format_of("c.xyz", false), CloudFormat::xyz);
  EXPECT_EQ(cloud_format_of("/dev/stdout", false), CloudFormat::ply);
  EXPECT_THROW(cloud_format_of("d.doc", false), Error);
}

TEST(CloudFile, NothingIsLeftBehindWithoutFinish) {
  const fs::path file = test::scratch_folder() / "unfinished.ply";
  write_file(file, "what was there");
  {
    CloudWriter writer(file, CloudFormat::ply, {});
    writer.add(PointCloud{});
  }
  EXPECT_EQ(read_file(file), "what was there");
  EXPECT_FALSE(fs::exists(file.string() + ".part"));
}

TEST(CloudFile, AFullDiskIsSaid) {
  for (const CloudFormat format : {CloudFormat::ply, CloudFormat::las, CloudFormat::xyz}) try {
      write_cloud("/dev/full", format, made_up(100000, Eigen::Vector3d::Zero()));
      FAIL();
    } catch (const Error& e) {
      EXPECT_EQ(e.kind(), ErrorKind::resource);
      EXPECT_EQ(e.subject(), "/dev/full");
    }
}

TEST(CloudFile, PointsTooFarForLasAreRefused) {
  PointCloud cloud;
  cloud.positions = {{0, 0, 0}, {9e6f, 0, 0}};
  const fs::path file = test::scratch_folder() / "far.las";
  EXPECT_THROW(write_cloud(file, CloudFormat::las, cloud, 0.001), Error);
  EXPECT_FALSE(fs::exists(file));
}

}  // namespace
}  // namespace icefield
