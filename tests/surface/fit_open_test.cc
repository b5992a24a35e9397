// Open surfaces from depth maps.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cmath>
#include <numbers>

#include "icefield/base/error.h"
#include "icefield/base/random.h"
#include "icefield/surface/check_mesh.h"
#include "icefield/surface/fit_open.h"

namespace icefield {
namespace {

using Eigen::Vector3d;
using testing::HasSubstr;

// A wall at x = 0 with a square opening, and before it a round pole that stands upright.
constexpr double kOpening = 0.5, kPole = 0.04, kPoleAt = 0.8;

struct Seen {
  double distance = 0;
  Vector3d normal = Vector3d::Zero();
};
Seen see(const Vector3d& from, const Vector3d& along) {
  Seen best;
  const auto take = [&](double d, const Vector3d& n) {
    if (d > 0 && (best.distance == 0 || d < best.distance)) best = {d, n};
  };
  if (along.x() < 0) {
    const double d = -from.x() / along.x();
    const Vector3d p = from + d * along;
    if (std::abs(p.y()) < 2 && std::abs(p.z()) < 2 && !(std::abs(p.y()) < kOpening && std::abs(p.z()) < kOpening))
      take(d, Vector3d::UnitX());
  }
  const Eigen::Vector2d o(from.x() - kPoleAt, from.y()), w(along.x(), along.y());
  const double a = w.squaredNorm(), b = o.dot(w), c = o.squaredNorm() - kPole * kPole, root = b * b - a * c;
  if (root > 0 && a > 0) {
    const double d = (-b - std::sqrt(root)) / a;
    const Vector3d p = from + d * along;
    if (std::abs(p.z()) < 1.5) take(d, Vector3d((p.x() - kPoleAt) / kPole, p.y() / kPole, 0));
  }
  return best;
}

// From places on an arc before it, all looking at the middle; some pixels are wrong.
std::vector<DepthMap> maps(double wrong) {
  std::vector<DepthMap> all;
  for (int i = 0; i < 9; ++i) {
    const double turn = (i - 4) * 0.22, up = i % 2 ? 0.6 : -0.6;
    DepthMap map;
    map.camera.model = CameraModel::pinhole;
    map.camera.width = 300, map.camera.height = 240;
    map.camera.parameters[0] = 330, map.camera.parameters[1] = 150, map.camera.parameters[2] = 120;
    map.pose.centre = Vector3d(5 * std::cos(turn), 5 * std::sin(turn), up);
    const Vector3d ahead = (Vector3d(0.3, 0, 0) - map.pose.centre).normalized(),
                   right = ahead.cross(Vector3d::UnitZ()).normalized(), down = ahead.cross(right);
    Eigen::Matrix3d rotation;
    rotation << right.transpose(), down.transpose(), ahead.transpose();
    map.pose.orientation = Eigen::Quaterniond(rotation);
    map.depth = ImageF(300, 240), map.normal = Image<std::int8_t>(300, 240, 3), map.cost = ImageU8(300, 240);
    map.support = Image<std::uint16_t>(300, 240);
    CounterRandom random(combine_keys(5, static_cast<std::uint64_t>(i)));
    for (int y = 0; y < 240; ++y)
      for (int x = 0; x < 300; ++x) {
        const Vector3d line((x + 0.5 - 150) / 330, (y + 0.5 - 120) / 330, 1), way = rotation.transpose() * line;
        const Seen seen = see(map.pose.centre, way);
        if (seen.distance == 0) continue;
        const bool off = random.uniform() < wrong;
        const Vector3d n = rotation * seen.normal;
        if (n.dot(line) > -0.1 * line.norm()) continue;
        map.depth.at(x, y) =
            static_cast<float>(off ? 3 + 3 * random.uniform() : seen.distance * (1 + 0.0007 * random.normal()));
        for (int c = 0; c < 3; ++c) map.normal.at(x, y, c) = static_cast<std::int8_t>(std::lround(127 * n[c]));
        map.cost.at(x, y) = 20;
        map.support.at(x, y) = 7;
      }
    map.colour = ImageU8(300, 240, 3, std::uint8_t{120});
    all.push_back(std::move(map));
  }
  return all;
}

struct Scene {
  std::vector<DepthMap> seen = maps(0.02);
  PointCloud cloud;
  Scene() {
    std::vector<PointCloud> parts;
    for (const DepthMap& map : maps(0)) parts.push_back(points_of(map));
    cloud = thin(merge(parts), 0.012);
  }
  OpenSurface fit(const FitOpenOptions& options = {}, int threads = 2, std::uint64_t memory = 0) const {
    return fit_open_surface(
        seen.size(), [&](std::size_t i) -> std::optional<DepthMap> { return seen[i]; }, cloud, Vector3d::Zero(),
        options, std::nullopt, Executor(threads, memory));
  }
};
const Scene& scene() {
  static const Scene made;
  return made;
}

TEST(FitOpen, OpeningsStayAndThinThingsAreAsThickAsTheyAre) {
  const OpenSurface open = scene().fit();
  ASSERT_EQ(open.summary.outcome, "fitted");
  EXPECT_EQ(open.summary.maps, 9u);
  const MeshCheck check = check_mesh(open.mesh);
  EXPECT_TRUE(check.manifold()) << check.in_a_line();
  EXPECT_TRUE(check.oriented()) << check.in_a_line();
  EXPECT_GT(check.holes, 0u);
  ASSERT_EQ(open.mesh.colours.size(), open.mesh.positions.size());
  EXPECT_EQ(open.mesh.colours[0][0], 120);
  // Where vertices lie: on the wall but not in its opening, or about the pole at its radius.
  std::size_t on_wall = 0, on_pole = 0, elsewhere = 0, in_opening = 0;
  double thickness = 0, wall_off = 0;
  for (std::size_t v = 0; v < open.mesh.positions.size(); ++v) {
    const Vector3d p = open.mesh.position(v);
    const double from_pole = std::hypot(p.x() - kPoleAt, p.y());
    if (from_pole < 3 * kPole && std::abs(p.z()) < 1.4) {
      ++on_pole;
      thickness += from_pole;
    } else if (std::abs(p.x()) < 0.05) {
      ++on_wall;
      wall_off += std::abs(p.x());
      in_opening += std::abs(p.y()) < kOpening - 0.03 && std::abs(p.z()) < kOpening - 0.03;
    } else {
      ++elsewhere;
    }
  }
  EXPECT_GT(on_wall, 20000u);
  EXPECT_GT(on_pole, 500u);
  EXPECT_EQ(in_opening, 0u);
  EXPECT_LT(elsewhere, (on_wall + on_pole) / 100);
  EXPECT_LT(wall_off / static_cast<double>(on_wall), 0.003);
  // Its radius is two and a half pixels.
  EXPECT_GT(thickness / static_cast<double>(on_pole), 0.7 * kPole);
  EXPECT_LT(thickness / static_cast<double>(on_pole), 1.5 * kPole);
  // It faces where it was seen from.
  std::size_t outwards = 0;
  for (std::size_t f = 0; f < open.mesh.faces.size(); ++f)
    outwards += std::abs(open.mesh.position(open.mesh.faces[f][0]).x()) > 0.05 || face_normal(open.mesh, f).x() > 0;
  EXPECT_GT(outwards, open.mesh.faces.size() * 98 / 100);
}

TEST(FitOpen, GivesTheSameBytesForAnyNumberOfThreads) {
  FitOpenOptions options;
  options.step_spacings = 2;
  const Bytes one = scene().fit(options, 1).mesh.to_bytes();
  for (const int threads : {2, 7}) EXPECT_EQ(scene().fit(options, threads).mesh.to_bytes(), one) << threads;
}

TEST(FitOpen, SaysWhatItCannotDo) {
  FitOpenOptions options;
  EXPECT_THROW(scene().fit(options, 1, 1'000'000), Error);  // of memory
  options.min_support = 5;
  EXPECT_THAT(scene().fit(options).summary.outcome, HasSubstr("no depth map has a pixel"));
  options.min_support = 1, options.step_spacings = 0;
  EXPECT_THROW(scene().fit(options), Error);
  const auto none = [](std::size_t) { return std::optional<DepthMap>(); };
  EXPECT_THAT(fit_open_surface(3, none, PointCloud(), Vector3d::Zero()).summary.outcome, HasSubstr("0 points"));
  EXPECT_TRUE(fit_open_surface(3, none, scene().cloud, Vector3d::Zero()).mesh.empty());
}

}  // namespace
}  // namespace icefield
