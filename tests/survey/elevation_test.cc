#include "icefield/survey/make_elevation.h"

#include <gtest/gtest.h>

#include <cmath>

#include "icefield/base/error.h"
#include "icefield/base/random.h"
#include "icefield/io/raster_file.h"
#include "icefield/io/text_file.h"
#include "tests/tools/scenes.h"

namespace icefield {
namespace {
namespace fs = std::filesystem;

using Eigen::Vector2d;
using Eigen::Vector3d;

// A wall 8 m long and 4 m high that stands askew to the axes, with squares of 0.5 m on it, a ledge of 0.4 m along its
// middle, and photos of it.
struct Wall {
  Vector3d corner{20, 30, 5}, along = Vector3d(3, 2, 0).normalized(), up = Vector3d::UnitZ(),
                              out = along.cross(up).normalized();
  static double stands_out(double y) { return std::abs(y - 2) < 0.2 ? 0.4 : 0; }
  static bool is_dark(double x, double y) {
    return (static_cast<int>(std::floor(2 * x)) + static_cast<int>(std::floor(2 * y))) % 2 == 0;
  }
  Vector3d at(double x, double y) const { return corner + x * along + y * up + stands_out(y) * out; }
};

class PhotosOfWall : public PhotoSource {
 public:
  PhotosOfWall(const Wall& wall, const Block& block) : wall_(wall), block_(block) {}
  ImageU8 load(PhotoIndex index) override {
    const PosedPhoto& photo = block_.photos[index.value];
    const Camera& camera = block_.camera_of(photo);
    ImageU8 image(camera.width, camera.height, 3);
    for (int v = 0; v < camera.height; ++v)
      for (int u = 0; u < camera.width; ++u) {
        const auto ray = unproject(camera, {u + 0.5, v + 0.5});
        const Vector3d way = photo.pose.orientation.conjugate() * Vector3d(ray->x(), ray->y(), 1),
                       eye = photo.pose.centre - wall_.corner;
        // The ledge's face first, then the wall behind.
        std::uint8_t tone = 128;
        for (const double depth : {0.4, 0.0}) {
          const double t = (depth - eye.dot(wall_.out)) / way.dot(wall_.out);
          const Vector3d p = eye + t * way;
          const double x = p.dot(wall_.along), y = p.dot(wall_.up);
          if (Wall::stands_out(y) != depth || x < 0 || x > 8 || y < 0 || y > 4) continue;
          tone = Wall::is_dark(x, y) ? 60 : 200;
          break;
        }
        for (int c = 0; c < 3; ++c) image.at(u, v, c) = tone;
      }
    return image;
  }

 private:
  const Wall& wall_;
  const Block& block_;
};

struct Made {
  Wall wall;
  Block block;
  fs::path cloud = test::scratch_folder() / "wall.ply";
  Made() {
    block.cameras = {make_camera(CameraModel::radial, 500, 400, 400)};
    for (std::uint32_t k = 0; k < 5; ++k) {
      Pose pose;
      pose.centre = wall.corner + (0.5 + 1.75 * k) * wall.along + 2.2 * wall.up + 5 * wall.out;
      Eigen::Matrix3d turn;
      turn.row(0) = wall.along, turn.row(1) = -wall.up, turn.row(2) = -wall.out;
      pose.orientation = Eigen::Quaterniond(turn);
      block.photos.push_back({PhotoIndex(k), CameraIndex(0), pose});
    }
    block.datum.units = "m";
    PointCloud points;
    points.datum = block.datum;
    CounterRandom random(9);
    for (double y = 0; y < 4; y += 0.02)
      for (double x = 0; x < 8; x += 0.02) {
        points.positions.push_back((wall.at(x, y) + 0.003 * random.normal() * wall.out).cast<float>());
        points.errors.push_back(0.003f);
      }
    // Ground before it, and a tree far before it that belongs to neither.
    for (double x = 0; x < 8; x += 0.05)
      for (double z = 3; z < 5; z += 0.05) {
        points.positions.push_back((wall.corner + x * wall.along + 0.3 * wall.up + z * wall.out).cast<float>());
        points.errors.push_back(0.003f);
      }
    write_cloud(cloud, CloudFormat::ply, points, 0.02);
  }
  ElevationReport draw(const ElevationOptions& options, const ElevationFiles& files, int threads = 2,
                       std::size_t memory = 0) {
    const TiledCloud tiled(cloud);
    PhotosOfWall photos(wall, block);
    const WorldFrame frame(block.datum, Vector3d::Zero());
    Monitor silent;
    return make_elevation({tiled, block, photos, frame, {"a", "b", "c", "d", "e"}, 0.0125}, options, {}, files,
                          Executor(threads, memory), silent);
  }
};

Made& made() {
  static Made all;
  return all;
}

TEST(Elevation, IsToScaleAndRelievesWhatStandsOut) {
  const Wall& wall = made().wall;
  ElevationOptions options;
  options.corners = {wall.at(1, 0.25), wall.at(7, 0.25), wall.at(7, 3.5), wall.at(1, 3.5)};
  const ElevationFiles files{test::scratch_folder() / "wall.tif", test::scratch_folder() / "relief.tif"};
  const ElevationReport report = made().draw(options, files);
  EXPECT_EQ(report.outcome, "made");
  EXPECT_NEAR(report.plane_rms, 0, 1e-6);
  EXPECT_NEAR((report.right - wall.along).norm(), 0, 1e-6);
  EXPECT_NEAR((report.towards - wall.out).norm(), 0, 1e-6);
  EXPECT_NEAR(report.columns * report.cell, 6, 0.05);
  EXPECT_NEAR(report.rows * report.cell, 3.25, 0.05);
  const RasterReader picture(files.picture), relief(files.relief);
  const GridFrame& frame = picture.content().frame;
  const ImageU8 drawn = picture.read_picture(0, 0, frame.columns, frame.rows);
  const ImageF out = relief.read();
  std::size_t seen = 0, right = 0;
  double worst = 0;
  for (int y = 0; y < frame.rows; ++y)
    for (int x = 0; x < frame.columns; ++x) {
      // In the wall's own coordinates.
      const Vector2d at = frame.middle(x, y) + Vector2d(4, 1.875);
      const double from_edge = std::min(std::abs(std::remainder(at.x(), 0.5)), std::abs(std::remainder(at.y(), 0.5))),
                   from_ledge = std::min(std::abs(at.y() - 1.8), std::abs(at.y() - 2.2));
      if (from_ledge < 0.1) continue;
      if (std::isfinite(out.at(x, y))) worst = std::max(worst, std::abs(out.at(x, y) - Wall::stands_out(at.y())));
      if (from_edge < 1.5 * frame.cell || drawn.at(x, y, 3) == 0) continue;
      ++seen, right += (drawn.at(x, y, 0) < 128) == Wall::is_dark(at.x(), at.y());
    }
  EXPECT_LT(worst, 0.02);
  EXPECT_GT(seen, static_cast<std::size_t>(frame.columns) * static_cast<std::size_t>(frame.rows) / 2);
  EXPECT_GT(static_cast<double>(right) / static_cast<double>(seen), 0.999);
  // The same bytes, whatever threads and memory.
  const ElevationFiles again{test::scratch_folder() / "wall7.tif", test::scratch_folder() / "relief7.tif"};
  made().draw(options, again, 7, 64 << 20);
  EXPECT_EQ(read_file(files.picture), read_file(again.picture));
  EXPECT_EQ(read_file(files.relief), read_file(again.relief));
  EXPECT_FALSE(fs::exists(files.picture.string() + ".points"));
}

TEST(Elevation, OfThreeCornersDrawsAllThatLiesNear) {
  const Wall& wall = made().wall;
  ElevationOptions options;
  options.corners = {wall.at(2, 1), wall.at(6, 1), wall.at(4, 3)};
  options.cell = 0.05;
  const ElevationReport report = made().draw(options, {test::scratch_folder() / "three.tif", {}});
  EXPECT_NEAR(report.columns * report.cell, 8, 0.2);
  EXPECT_NEAR(report.rows * report.cell, 4, 0.2);
  EXPECT_FALSE(fs::exists(test::scratch_folder() / "three.tif.relief.tif"));
}

TEST(Elevation, WhatCannotBeIsSaid) {
  const Wall& wall = made().wall;
  const ElevationFiles files{test::scratch_folder() / "bad.tif", {}};
  ElevationOptions options;
  options.corners = {wall.at(1, 1), wall.at(2, 1)};
  EXPECT_THROW(made().draw(options, files), Error);
  options.corners = {wall.at(1, 1), wall.at(2, 1), wall.at(3, 1)};
  EXPECT_THROW(made().draw(options, files), Error);  // on one line
  options.corners = {wall.at(1, 1), wall.at(5, 3), wall.at(5, 1), wall.at(1, 3)};
  EXPECT_THROW(made().draw(options, files), Error);  // crosses itself
  for (Vector3d& c : options.corners) c += 100 * wall.out;
  options.corners.resize(3);
  EXPECT_THROW(made().draw(options, files), Error);  // nothing there
  EXPECT_FALSE(fs::exists(files.picture));
  EXPECT_FALSE(fs::exists(files.picture.string() + ".points"));
}

}  // namespace
}  // namespace icefield
