// Meshes moved to where photos agree, of ground whose height is known everywhere.
#include "icefield/surface/sharpen.h"

#include <gtest/gtest.h>

#include <cmath>
#include <map>
#include <mutex>

#include "icefield/base/error.h"
#include "src/surface/bend_less.h"
#include "src/surface/mesh_in_photo.h"

namespace icefield {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;
using Eigen::Vector3f;

// A swell with a ridge; a pixel of the photos below is about 0.01.
constexpr double kPixel = 0.01;

double height(double x, double y) {
  return 0.08 * std::sin(2 * x + 1) * std::cos(3 * y) + 0.05 * std::exp(-200 * std::pow(x + 0.3 * y, 2));
}

Vector3f colour(double x, double y) {
  double sum = 0;
  for (int k = 1; k <= 5; ++k)
    sum += std::sin(23.0 * k * x + 5 * k * k) * std::cos(19.0 * k * y + 3 * k) / std::sqrt(k);
  return Vector3f::Constant(static_cast<float>(std::clamp(128 + 45 * sum, 0.0, 255.0)));
}

// A square of 2 by 2 around the origin; `off`: how far the mesh lies above the ground.
template <class Off>
Mesh ground(int steps, const Off& off) {
  Mesh mesh;
  const auto at = [&](int i) { return -1 + 2.0 * i / steps; };
  for (int j = 0; j <= steps; ++j)
    for (int i = 0; i <= steps; ++i)
      mesh.positions.emplace_back(Vector3d(at(i), at(j), height(at(i), at(j)) + off(at(i), at(j))).cast<float>());
  for (int j = 0; j < steps; ++j)
    for (int i = 0; i < steps; ++i) {
      const auto a = static_cast<std::uint32_t>(j * (steps + 1) + i), b = a + static_cast<std::uint32_t>(steps) + 1;
      mesh.faces.push_back({a, a + 1, b + 1});
      mesh.faces.push_back({a, b + 1, b});
    }
  return mesh;
}

class GroundPhotos : public PhotoSource {
 public:
  Block block;
  std::vector<std::uint32_t> gone;
  ImageU8 masked;  // of all photos

  GroundPhotos() {
    block.cameras.push_back(make_camera(CameraModel::radial, 300, 240, 300));
    block.cameras[0].parameters[3] = -0.05;
    for (int j = 0; j < 2; ++j)
      for (int i = 0; i < 3; ++i) {
        const Vector3d centre(-0.9 + 0.9 * i, -0.4 + 0.8 * j, 3 + 0.1 * i);
        block.photos.push_back({PhotoIndex(block.photos.size()), CameraIndex(0),
                                look_at(centre, Vector3d(0.3 * centre.x(), 0.3 * centre.y(), 0), Vector3d::UnitY())});
      }
  }
  ImageU8 load(PhotoIndex photo) override {
    if (std::find(gone.begin(), gone.end(), photo.value) != gone.end())
      throw Error(ErrorKind::input, "ground.jpg", "is not there", "bring it back");
    static std::map<std::uint32_t, ImageU8> made;  // the same for all cases
    static std::mutex mutex;
    const std::lock_guard lock(mutex);
    const auto [known, is_new] = made.try_emplace(photo.value);
    if (is_new) known->second = make(photo);
    return known->second;
  }
  ImageU8 mask(PhotoIndex) override { return masked; }

 private:
  ImageU8 make(PhotoIndex photo) const {
    const Camera& camera = block.cameras[0];
    const Pose& pose = block.photos[photo.value].pose;
    ImageU8 image(camera.width, camera.height, 1);
    for (int y = 0; y < camera.height; ++y)
      for (int x = 0; x < camera.width; ++x) {
        // Four rays a pixel, each brought to the ground.
        double sum = 0;
        for (const auto& [dx, dy] : {std::pair(0.25, 0.25), {0.75, 0.25}, {0.25, 0.75}, {0.75, 0.75}}) {
          const Vector3d d = pose.orientation.conjugate() * unproject(camera, {x + dx, y + dy})->homogeneous();
          double t = -pose.centre.z() / d.z();
          for (int k = 0; k < 12; ++k) {
            const Vector3d p = pose.centre + t * d;
            t += (height(p.x(), p.y()) - p.z()) / d.z();
          }
          const Vector3d p = pose.centre + t * d;
          // Photos differ in exposure.
          sum += static_cast<double>(colour(p.x(), p.y())[0]) * (0.9 + 0.03 * photo.value) / 4;
        }
        image.at(x, y) = static_cast<std::uint8_t>(std::clamp(sum, 0.0, 255.0));
      }
    return image;
  }
};

// Root mean square off the ground, away from the rim.
double off_ground(const Mesh& mesh, double reach = 0.7) {
  double squares = 0, count = 0;
  for (const Vector3f& p : mesh.positions) {
    const double x = static_cast<double>(p.x()), y = static_cast<double>(p.y());
    if (std::abs(x) > reach || std::abs(y) > reach) continue;
    squares += std::pow(static_cast<double>(p.z()) - height(x, y), 2), ++count;
  }
  return std::sqrt(squares / count);
}

double ripple(double x, double y) {
  return 0.012 * std::sin(9 * x + 1) * std::sin(7 * y);
}

TEST(Sharpen, BringsTheSurfaceToWhereThePhotosAgree) {
  Mesh mesh = ground(150, ripple);
  GroundPhotos photos;
  const double before = off_ground(mesh);
  SharpenOptions options;
  options.rounds = 5;
  const SharpenSummary done = sharpen(mesh, photos.block, photos, options, Executor(2));
  EXPECT_EQ(done.outcome, "sharpened");
  EXPECT_EQ(done.photos, 6u);
  EXPECT_EQ(done.pairs, 18u);
  EXPECT_EQ(done.rounds, 7);
  EXPECT_GT(done.agreement_after, done.agreement_before);
  EXPECT_GT(done.vertices_seen, mesh.positions.size() * 9 / 10);
  EXPECT_GT(before, 0.5 * kPixel);
  EXPECT_LT(off_ground(mesh), 0.25 * before);  // an eighth of one
  EXPECT_EQ(mesh.normals.size(), mesh.positions.size());
  // A surface that is right stays so.
  Mesh right = ground(150, [](double, double) { return 0.0; });
  sharpen(right, photos.block, photos, options, Executor(2));
  EXPECT_LT(off_ground(right), 0.1 * kPixel);
}

TEST(Sharpen, IsTheSameForAnyThreadsAndMemory) {
  std::vector<Mesh> made;
  SharpenOptions options;
  options.rounds = options.coarse_rounds = 1;
  for (const auto& [threads, memory] : {std::pair(1, std::uint64_t{0}), {2, 0}, {7, 1}}) {
    made.push_back(ground(100, ripple));
    GroundPhotos photos;
    sharpen(made.back(), photos.block, photos, options, Executor(threads, memory));
  }
  for (std::size_t k = 1; k < made.size(); ++k) {
    EXPECT_EQ(made[0].positions, made[k].positions);
    EXPECT_EQ(made[0].normals, made[k].normals);
  }
}

TEST(Sharpen, WhatNoPhotoSaysStays) {
  // A mask over all but the left part; photos that are not there.
  GroundPhotos photos;
  photos.masked = ImageU8(300, 240, 1, 0);
  Mesh mesh = ground(100, ripple);
  const std::vector<Vector3f> before = mesh.positions;
  SharpenOptions options;
  options.rounds = 2;
  SharpenSummary done = sharpen(mesh, photos.block, photos, options, Executor(2));
  EXPECT_EQ(done.vertices_seen, 0u);
  EXPECT_EQ(mesh.positions, before);
  photos.masked = ImageU8();
  photos.gone = {1, 4};
  done = sharpen(mesh, photos.block, photos, options, Executor(2));
  EXPECT_EQ(done.photos, 4u);
  ASSERT_EQ(done.photos_missing.size(), 2u);
  EXPECT_NE(done.photos_missing[0].find("ground.jpg"), std::string::npos);
  EXPECT_LT(off_ground(mesh, 0.5), 0.5 * kPixel);
  photos.gone = {0, 1, 2, 3, 4};
  mesh.positions = before;
  done = sharpen(mesh, photos.block, photos, options, Executor(2));
  EXPECT_EQ(done.outcome, "fewer than two photos can be read");
  EXPECT_EQ(mesh.positions, before);
  // Far away from all that the photos see.
  photos.gone.clear();
  for (Vector3f& p : mesh.positions) p.x() += 100;
  done = sharpen(mesh, photos.block, photos, options, Executor(2));
  EXPECT_EQ(done.rounds, 0);
  EXPECT_NE(done.outcome.find("no two photos"), std::string::npos);
}

TEST(Sharpen, RefusesWhatMeansNothing) {
  GroundPhotos photos;
  Mesh none;
  EXPECT_THROW(sharpen(none, photos.block, photos), Error);
  Mesh mesh = ground(10, ripple);
  SharpenOptions options;
  options.window = 0;
  EXPECT_THROW(sharpen(mesh, photos.block, photos, options), Error);
  options = {};
  options.max_angle = 2;
  EXPECT_THROW(sharpen(mesh, photos.block, photos, options), Error);
}

TEST(MeshInPhoto, HasTheDepthsThatRaysWouldFind) {
  const GroundPhotos photos;
  const Mesh mesh = ground(120, [](double, double) { return 0.0; });
  const Pose& pose = photos.block.photos[4].pose;
  const MeshInPhoto drawn = draw_in_photo(mesh, photos.block.cameras[0], pose, 2, true, Executor(2));
  ASSERT_EQ(drawn.depth.width(), 150);
  std::size_t seen = 0;
  for (int y = 0; y < 120; ++y)
    for (int x = 0; x < 150; ++x) {
      ASSERT_EQ(drawn.faces.at(x, y) == MeshInPhoto::kNoFace, std::isinf(drawn.depth.at(x, y)));
      if (std::isinf(drawn.depth.at(x, y))) continue;
      const auto way = unproject(photos.block.cameras[0], {2 * x + 1.0, 2 * y + 1.0});
      const Vector3d p = pose.to_world(static_cast<double>(drawn.depth.at(x, y)) * way->homogeneous());
      EXPECT_NEAR(p.z(), height(p.x(), p.y()), 0.004);
      ++seen;
    }
  EXPECT_GT(seen, 3000u);
}

TEST(MovesWithLeastBending, SolveTheirEquations) {
  const Mesh mesh = ground(12, [](double, double) { return 0.0; });
  const VertexRings rings(mesh);
  const std::size_t n = rings.size();
  std::vector<float> weights(n), wanted(n), bend(n);
  for (std::size_t v = 0; v < n; ++v) {
    weights[v] = v % 3 == 0 ? 0.0f : 1.0f + static_cast<float>(v % 5);
    wanted[v] = static_cast<float>(std::sin(0.3 * static_cast<double>(v)));
    bend[v] = 0.1f * static_cast<float>(std::cos(static_cast<double>(v)));
  }
  constexpr double kSmooth = 0.7, kLeast = 0.05;
  const std::vector<float> moves = moves_with_least_bending(rings, weights, wanted, bend, kSmooth, kLeast, Executor(2));
  // The function that they make smallest.
  const auto cost = [&](const std::vector<float>& d) {
    double sum = 0;
    for (std::size_t v = 0; v < n; ++v) {
      const double x = static_cast<double>(d[v]);
      sum += (static_cast<double>(weights[v]) + kLeast) * x * x - 2 * static_cast<double>(wanted[v]) * x;
      if (rings.on_rim(v)) continue;
      double around = 0;
      for (const std::uint32_t u : rings.of(v)) around += static_cast<double>(d[u]);
      const double bent = static_cast<double>(bend[v]) + around / static_cast<double>(rings.of(v).size()) - x;
      sum += kSmooth * bent * bent;
    }
    return sum;
  };
  const double least = cost(moves);
  EXPECT_LT(least, cost(std::vector<float>(n, 0.0f)) - 1);
  for (const std::size_t v : {std::size_t{0}, std::size_t{20}, std::size_t{84}, n - 1})
    for (const float step : {-0.02f, 0.02f}) {
      std::vector<float> other = moves;
      other[v] += step;
      EXPECT_GT(cost(other), least);
    }
}

}  // namespace
}  // namespace icefield
