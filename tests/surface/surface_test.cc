// Surfaces fitted to clouds.
#include <gtest/gtest.h>

#include <cmath>
#include <numbers>

#include "icefield/base/error.h"
#include "icefield/base/random.h"
#include "icefield/surface/check_mesh.h"
#include "icefield/surface/close_holes.h"
#include "icefield/surface/fit_surface.h"
#include "icefield/surface/flat_cut.h"
#include "icefield/surface/sample_mesh.h"
#include "icefield/surface/simplify.h"
#include "icefield/surface/smooth.h"
#include "icefield/surface/trim.h"
#include "src/surface/visit_edges.h"

namespace icefield {
namespace {

using Eigen::Vector3d;
using Eigen::Vector3f;

// Points all over a ball of radius 1 about `middle`, those that `keep` keeps.
PointCloud ball(std::size_t count, double noise, const std::function<bool(const Vector3d&)>& keep = {},
                const Vector3d& middle = Vector3d::Zero()) {
  PointCloud cloud;
  CounterRandom random(11);
  while (cloud.size() < count) {
    Vector3d n(random.normal(), random.normal(), random.normal());
    n.normalize();
    if (keep && !keep(n)) {
      --count;
      continue;
    }
    const Vector3d tilted = (n + 0.1 * Vector3d(random.normal(), random.normal(), random.normal())).normalized();
    cloud.positions.push_back((middle + (1 + noise * random.normal()) * n).cast<float>());
    cloud.normals.push_back(tilted.cast<float>());
    cloud.colours.push_back({static_cast<std::uint8_t>(n.z() > 0 ? 250 : 10), 100, 50});
    cloud.errors.push_back(0.25f);
  }
  return cloud;
}

// How far vertices are from the ball, root mean square, and the farthest.
std::pair<double, double> off_ball(const Mesh& mesh, const Vector3d& middle = Vector3d::Zero()) {
  double squares = 0, most = 0;
  for (std::size_t v = 0; v < mesh.positions.size(); ++v) {
    const double d = std::abs((mesh.position(v) - middle).norm() - 1);
    squares += d * d, most = std::max(most, d);
  }
  return {std::sqrt(squares / static_cast<double>(mesh.positions.size())), most};
}

TEST(FitSurface, ABallIsClosedManifoldAndRound) {
  const PointCloud cloud = ball(20000, 0.005);
  const FittedSurface fitted = fit_surface(cloud, {}, std::nullopt, Executor(2));
  ASSERT_EQ(fitted.summary.outcome, "fitted");
  const MeshCheck check = check_mesh(fitted.mesh, true, Executor(2));
  EXPECT_TRUE(check.closed());
  EXPECT_TRUE(check.manifold());
  EXPECT_TRUE(check.oriented());
  EXPECT_EQ(check.pieces, 1u);
  EXPECT_EQ(check.self_intersections, 0u);
  EXPECT_EQ(check.degenerate_faces, 0u);
  EXPECT_EQ(check.doubled_vertices, 0u);
  EXPECT_LT(off_ball(fitted.mesh).first, 0.003);  // the noise is averaged
  EXPECT_LT(off_ball(fitted.mesh).second, 0.02);
  EXPECT_NEAR(volume(fitted.mesh), 4 * std::numbers::pi / 3, 0.02);  // and it faces outwards
  EXPECT_NEAR(area(fitted.mesh), 4 * std::numbers::pi, 0.3);         // noise makes it rough
  std::size_t leaning = 0;  // by over 41 degrees: noise does that to a vertex in a thousand
  for (std::size_t v = 0; v < fitted.mesh.positions.size(); ++v) {
    const float upright = fitted.mesh.normals[v].dot(fitted.mesh.positions[v].normalized());
    EXPECT_GT(upright, 0);  // outwards
    leaning += upright < 0.75f;
  }
  EXPECT_LT(leaning, fitted.mesh.positions.size() / 1000);
  for (std::size_t v = 0; v < fitted.mesh.positions.size(); v += 37) {
    if (std::abs(fitted.mesh.positions[v].z()) > 0.1f) {
      EXPECT_EQ(fitted.mesh.colours[v][0] > 128, fitted.mesh.positions[v].z() > 0);
    }
    EXPECT_NEAR(fitted.mesh.errors[v], 0.25, 1e-5);
  }
}

// Around a closed object nothing else is closed: where the function's value at the points comes out a little above 0,
// the cube's sides, held at 0 once, became a surface of their own: of 29 seeds with 26.
TEST(FitSurface, NothingStandsAlongTheSidesOfItsCube) {
  for (const std::uint64_t seed : {1u, 2u}) {
    CounterRandom random(seed);
    PointCloud cloud;
    constexpr int kPoints = 150000;
    const auto noise = [&] { return static_cast<float>(0.0038 * random.normal()); };  // a third of the spacing
    for (int i = 0; i < kPoints; ++i) {
      const int side = static_cast<int>(random.below(6)), axis = side % 3;
      Vector3f p, normal = Vector3f::Zero();
      p[axis] = normal[axis] = side < 3 ? 1.0f : -1.0f;
      p[(axis + 1) % 3] = 2 * random.uniformf() - 1;
      p[(axis + 2) % 3] = 2 * random.uniformf() - 1;
      for (int c = 0; c < 3; ++c) p[c] += noise();
      cloud.positions.push_back(p);
      cloud.normals.push_back(normal);
    }
    FitSurfaceOptions whole;
    whole.min_support = 0;
    const Mesh mesh = fit_surface(cloud, whole, std::nullopt, Executor(2)).mesh;
    EXPECT_NEAR(area(mesh), 24, 1) << seed;
    EXPECT_EQ(check_mesh(mesh).pieces, 1u) << seed;
  }
}

TEST(FitSurface, GivesTheSameBytesForAnyNumberOfThreads) {
  const PointCloud cloud = ball(8000, 0.01);
  const Bytes one = fit_surface(cloud, {}, std::nullopt, Executor(1)).mesh.to_bytes();
  for (const int threads : {2, 7})
    EXPECT_EQ(fit_surface(cloud, {}, std::nullopt, Executor(threads)).mesh.to_bytes(), one) << threads;
  const Mesh back = Mesh::from_bytes(one);
  EXPECT_EQ(back.to_bytes(), one);
  Bytes cut = one;
  cut.resize(cut.size() / 2);
  EXPECT_THROW(Mesh::from_bytes(cut), Error);
}

// Points over the upper part alone: the surface ends with them, and the hole that was made in them stays closed or open
// by its size.
TEST(FitSurface, EndsWhereThePointsEnd) {
  const auto upper = [](const Vector3d& n) {
    return n.z() > -0.2 && !(n.dot(Vector3d(0.8, 0, 0.6)) > 0.95) && !(n.head<2>().norm() < 0.02);
  };
  const PointCloud cloud = ball(30000, 0.002, upper);
  const FittedSurface fitted = fit_surface(cloud, {}, std::nullopt, Executor(2));
  ASSERT_EQ(fitted.summary.outcome, "fitted");
  const MeshCheck check = check_mesh(fitted.mesh);
  EXPECT_TRUE(check.manifold());
  EXPECT_TRUE(check.oriented());
  EXPECT_EQ(check.pieces, 1u);
  const auto holes = holes_of(fitted.mesh);
  ASSERT_EQ(holes.size(), 2u);  // the lower rim and the large hole; the small one at the top is closed
  // Longer than the circle by the steps of whole faces.
  const double circle = 2 * std::numbers::pi * std::sqrt(1 - 0.04);
  EXPECT_GT(holes[0].perimeter, circle);
  EXPECT_LT(holes[0].perimeter, 1.5 * circle);
  EXPECT_NEAR(holes[1].middle.x(), 0.8 * 0.95, 0.05);
  // Nothing stands farther out than a few spacings of the points.
  for (std::size_t v = 0; v < fitted.mesh.positions.size(); ++v)
    EXPECT_GT(fitted.mesh.positions[v].z(), -0.2 - 3 * fitted.summary.spacing);
  EXPECT_GT(fitted.summary.trimmed_percent, 10);
  // Untrimmed it is closed, and vertices far from all points say so.
  FitSurfaceOptions whole;
  whole.min_support = 0;
  const Mesh closed = fit_surface(cloud, whole, std::nullopt, Executor(2)).mesh;
  EXPECT_TRUE(check_mesh(closed).closed());
  float least = 1;
  for (const float s : closed.support) least = std::min(least, s);
  EXPECT_LT(least, 0.01f);
  EXPECT_GT(least, 0.0f);
}

// Half of the points lie four times as far apart: cells follow them, and levels meet without a gap.
TEST(FitSurface, CellsFollowTheSpacing) {
  CounterRandom random(3);
  const PointCloud cloud =
      ball(40000, 0.001, [&](const Vector3d& n) { return n.z() > 0 || random.uniform(0, 1) < 0.06; });
  const FittedSurface fitted = fit_surface(cloud, {}, std::nullopt, Executor(2));
  const MeshCheck check = check_mesh(fitted.mesh, true, Executor(2));
  EXPECT_TRUE(check.closed()) << check.in_a_line();
  EXPECT_TRUE(check.manifold());
  EXPECT_EQ(check.self_intersections, 0u);
  std::size_t upper = 0, lower = 0;
  for (const Vector3f& p : fitted.mesh.positions) (p.z() > 0.1f ? upper : lower) += std::abs(p.z()) > 0.1f;
  EXPECT_GT(upper, 4 * lower);
  EXPECT_LT(off_ball(fitted.mesh).first, 0.005);
}

TEST(FitSurface, LargeCoordinatesLoseNothing) {
  PointCloud cloud = ball(8000, 0.002);
  cloud.origin = {600000, 5200000, 2300};
  const Mesh mesh = fit_surface(cloud, {}, std::nullopt, Executor(2)).mesh;
  EXPECT_LT(off_ball(mesh, cloud.origin).first, 0.004);
}

TEST(FitSurface, WhatCannotBeSurfacedIsSaid) {
  EXPECT_NE(fit_surface(PointCloud()).summary.outcome.find("0 usable points"), std::string::npos);
  EXPECT_TRUE(fit_surface(ball(5, 0)).mesh.empty());
  PointCloud same = ball(100, 0);
  for (Vector3f& p : same.positions) p.setZero();
  EXPECT_NE(fit_surface(same).summary.outcome.find("lie on each other"), std::string::npos);
  PointCloud broken = ball(5000, 0.005);
  broken.positions[7].x() = std::numeric_limits<float>::quiet_NaN();
  broken.normals[9].setZero();
  const FittedSurface mended = fit_surface(broken);
  EXPECT_EQ(mended.summary.points_left_out, 2u);
  EXPECT_TRUE(check_mesh(mended.mesh).closed());
  // Without normals some are made.
  broken = ball(5000, 0.002);
  broken.normals.clear();
  const FittedSurface made = fit_surface(broken);
  EXPECT_TRUE(made.summary.normals_made);
  EXPECT_LT(off_ball(made.mesh).first, 0.01);
  // Within bounds alone.
  Bounds upper;
  upper.centre = {0, 0, 1}, upper.half_size = {2, 2, 1};
  const FittedSurface half = fit_surface(ball(8000, 0.002), {}, upper);
  for (const Vector3f& p : half.mesh.positions) EXPECT_GT(p.z(), -0.15f);
  FitSurfaceOptions wrong;
  wrong.cell_spacings = 0;
  EXPECT_THROW(fit_surface(ball(100, 0), wrong), Error);
}

TEST(SampleMesh, SpreadsPointsEvenly) {
  const Mesh mesh = fit_surface(ball(8000, 0.002), {}, std::nullopt, Executor(2)).mesh;
  const PointCloud points = sample_mesh(mesh, 0.02, Executor(2));
  EXPECT_NEAR(static_cast<double>(points.size()), area(mesh) / (0.02 * 0.02), 2);
  std::size_t upper = 0;
  for (const Vector3f& p : points.positions) upper += p.z() > 0;
  EXPECT_NEAR(static_cast<double>(upper) / static_cast<double>(points.size()), 0.5, 0.02);
  EXPECT_EQ(sample_mesh(mesh, 0.02, Executor(7)).to_bytes(), points.to_bytes());
  EXPECT_EQ(sample_mesh(Mesh(), 1).size(), 0u);
  EXPECT_THROW(sample_mesh(mesh, 0), Error);
}

TEST(Simplify, KeepsTheShapeWithFewFaces) {
  Mesh mesh = fit_surface(ball(20000, 0), {}, std::nullopt, Executor(2)).mesh;
  const Mesh whole = mesh;
  SimplifyOptions options;
  options.faces = 2000;
  const SimplifySummary done = simplify(mesh, options);
  EXPECT_LE(done.faces_after, 2000u);
  EXPECT_GE(done.faces_after, 1990u);
  EXPECT_EQ(done.faces_after, mesh.faces.size());
  const MeshCheck check = check_mesh(mesh, true);
  EXPECT_TRUE(check.closed());
  EXPECT_TRUE(check.manifold());
  EXPECT_TRUE(check.oriented());
  EXPECT_EQ(check.self_intersections, 0u);
  EXPECT_EQ(mesh.colours.size(), mesh.positions.size());
  EXPECT_LT(distance_to(mesh, whole, 20000).q95, 0.006);  // chords of a ball of 2000 faces bow by 0.003
  EXPECT_NEAR(volume(mesh), volume(whole), 0.02);
  // The same again, and not more than asked for by an error.
  Mesh again = whole;
  simplify(again, options);
  EXPECT_EQ(again.to_bytes(), mesh.to_bytes());
  Mesh close = whole;
  SimplifyOptions by_error;
  by_error.error = 0.001;
  const SimplifySummary held = simplify(close, by_error);
  EXPECT_LE(held.error, 0.001);
  EXPECT_LT(held.faces_after, held.faces_before / 2);
  EXPECT_LT(distance_to(close, whole, 20000).q95, 0.004);
}

TEST(Simplify, InBlocksAsWellAsAtOnce) {
  const PointCloud points = ball(60000, 0.002);
  const Mesh whole = fit_surface(points, {}, std::nullopt, Executor(2)).mesh;
  SimplifyOptions options;
  options.faces = 4000;
  Mesh at_once = whole;
  ASSERT_EQ(simplify(at_once, options).faces_before, whole.faces.size());
  options.many = 32000;  // some sixty blocks
  Mesh mesh = whole;
  const SimplifySummary done = simplify(mesh, options, silent_monitor(), Executor(1));
  EXPECT_EQ(done.faces_before, whole.faces.size());
  EXPECT_EQ(done.faces_after, mesh.faces.size());
  EXPECT_LE(done.faces_after, 4000u);
  EXPECT_GE(done.faces_after, 3990u);
  const MeshCheck check = check_mesh(mesh, true);
  EXPECT_TRUE(check.closed());
  EXPECT_TRUE(check.manifold());
  EXPECT_TRUE(check.oriented());
  EXPECT_EQ(check.self_intersections, 0u);
  EXPECT_EQ(mesh.colours.size(), mesh.positions.size());
  EXPECT_EQ(mesh.normals.size(), mesh.positions.size());
  EXPECT_LT(distance_to(whole, mesh, 20000).rms, 1.1 * distance_to(whole, at_once, 20000).rms);
  EXPECT_NEAR(volume(mesh), volume(at_once), 0.002);
  for (const int threads : {2, 7}) {
    Mesh again = whole;
    simplify(again, options, silent_monitor(), Executor(threads));
    EXPECT_EQ(again.to_bytes(), mesh.to_bytes()) << threads;
  }
}

TEST(Simplify, BordersStayAndNothingTurnsOver) {
  // A square sheet of 40 x 40 cells with a step in it.
  Mesh sheet;
  constexpr std::uint32_t n = 41;
  for (std::uint32_t y = 0; y < n; ++y)
    for (std::uint32_t x = 0; x < n; ++x)
      sheet.positions.emplace_back(static_cast<float>(x), static_cast<float>(y), x > 20 ? 5.0f : 0.0f);
  for (std::uint32_t y = 0; y + 1 < n; ++y)
    for (std::uint32_t x = 0; x + 1 < n; ++x) {
      const std::uint32_t a = y * n + x;
      sheet.faces.push_back({a, a + 1, a + n + 1});
      sheet.faces.push_back({a, a + n + 1, a + n});
    }
  const double before = area(sheet);
  SimplifyOptions options;
  options.faces = 40;
  const SimplifySummary done = simplify(sheet, options);
  EXPECT_LE(done.faces_after, 40u);
  EXPECT_NEAR(area(sheet), before, 2);
  const auto holes = holes_of(sheet);
  ASSERT_EQ(holes.size(), 1u);
  EXPECT_NEAR(holes[0].perimeter, 2 * 40 + 2 * (39 + std::hypot(1, 5)), 1);
  for (std::size_t f = 0; f < sheet.faces.size(); ++f) EXPECT_GT(face_normal(sheet, f).z(), 0.1f);
  for (const std::size_t few : {std::size_t{3}, std::size_t{1}}) {
    SimplifyOptions least;
    least.faces = few;
    simplify(sheet, least);
    EXPECT_TRUE(check_mesh(sheet).manifold());
  }
  Mesh none;
  EXPECT_EQ(simplify(none, options).faces_after, 0u);
  options.error = -1;
  EXPECT_THROW(simplify(sheet, options), Error);
}

Mesh cube() {
  Mesh mesh;
  for (int k = 0; k < 8; ++k) mesh.positions.emplace_back(k & 1, k >> 1 & 1, k >> 2);
  const std::uint32_t sides[6][4] = {{0, 2, 3, 1}, {4, 5, 7, 6}, {0, 1, 5, 4},
                                     {2, 6, 7, 3}, {0, 4, 6, 2}, {1, 3, 7, 5}};
  for (const auto& s : sides) {
    mesh.faces.push_back({s[0], s[1], s[2]});
    mesh.faces.push_back({s[0], s[2], s[3]});
  }
  return mesh;
}

TEST(Mesh, EdgesAreTheSameInParts) {
  const Mesh mesh = fit_surface(ball(3000, 0), {}, std::nullopt, Executor(2)).mesh;
  const MeshEdges whole = edges_of(mesh);
  ASSERT_EQ(whole.edges.size(), mesh.faces.size() / 2 * 3);  // closed
  for (const std::size_t most : {std::size_t{1}, std::size_t{100}, std::size_t{5000}}) {
    std::size_t e = 0;
    visit_edges(
        mesh,
        [&](std::uint32_t low, std::uint32_t high, std::span<const std::uint32_t> faces) {
          ASSERT_LT(e, whole.edges.size());
          const MeshEdges::Edge& edge = whole.edges[e++];
          ASSERT_EQ(low, edge.low);
          ASSERT_EQ(high, edge.high);
          ASSERT_EQ(faces.size(), edge.count);
          for (std::size_t k = 0; k < faces.size(); ++k) ASSERT_EQ(faces[k], whole.faces[edge.first + k]);
        },
        [](std::size_t) {}, most);
    EXPECT_EQ(e, whole.edges.size()) << most;
  }
}

TEST(CheckMesh, FindsWhatIsWrong) {
  MeshCheck check = check_mesh(cube(), true);
  EXPECT_TRUE(check.closed() && check.manifold() && check.oriented());
  EXPECT_NEAR(check.area, 6, 1e-6);
  EXPECT_NEAR(volume(cube()), 1, 1e-6);
  Mesh open = cube();
  open.faces.erase(open.faces.begin(), open.faces.begin() + 2);
  check = check_mesh(open);
  EXPECT_EQ(check.open_edges, 4u);
  ASSERT_EQ(holes_of(open).size(), 1u);
  EXPECT_NEAR(holes_of(open)[0].perimeter, 4, 1e-6);
  EXPECT_NEAR(holes_of(open)[0].area, 1, 1e-6);
  Mesh flipped = cube();
  std::swap(flipped.faces[3][0], flipped.faces[3][1]);
  EXPECT_EQ(check_mesh(flipped).flipped_edges, 3u);
  // Two cubes that share a corner, or an edge.
  Mesh touching = cube();
  const Mesh other = cube();
  for (const Vector3f& p : other.positions) touching.positions.push_back(p + Vector3f(1, 1, 1));
  for (Face f : other.faces) {
    for (std::uint32_t& v : f) v = v == 0 ? 7 : v + 8;
    touching.faces.push_back(f);
  }
  check = check_mesh(touching);
  EXPECT_EQ(check.crowded_vertices, 1u);
  EXPECT_EQ(check.unused_vertices, 1u);
  EXPECT_EQ(check.pieces, 2u);
  // One through the other.
  Mesh through = cube();
  for (const Vector3f& p : other.positions) through.positions.push_back(p + Vector3f(0.5f, 0.4f, 0.3f));
  for (Face f : other.faces) {
    for (std::uint32_t& v : f) v += 8;
    through.faces.push_back(f);
  }
  EXPECT_GT(check_mesh(through, true).self_intersections, 3u);
  // A face that is huge against all others is held against them as well.
  Mesh sheet = fit_surface(ball(3000, 0), {}, std::nullopt, Executor(2)).mesh;
  ASSERT_EQ(check_mesh(sheet, true).self_intersections, 0u);
  const auto far = static_cast<std::uint32_t>(sheet.positions.size());
  sheet.normals.clear(), sheet.colours.clear(), sheet.support.clear(), sheet.errors.clear();
  for (const Vector3f& p : {Vector3f(-1000, -1000, 0.01f), Vector3f(1000, -1000, 0.01f), Vector3f(0, 2000, 0.01f)})
    sheet.positions.push_back(p);
  sheet.faces.push_back({far, far + 1, far + 2});
  EXPECT_GT(check_mesh(sheet, true, Executor(2)).self_intersections, 50u);
  Mesh wrong = cube();
  wrong.faces[0][0] = 99;
  EXPECT_THROW(check_mesh(wrong), Error);
}

TEST(RepairMesh, MendsWhatCanBeMended) {
  Mesh mesh = cube();
  // Each face with corners of its own, one turned, one twice, one without area, one with a place that is no number, and
  // a vertex that nobody needs.
  Mesh broken;
  for (const Face& f : mesh.faces) {
    const auto at = static_cast<std::uint32_t>(broken.positions.size());
    for (const std::uint32_t v : f) broken.positions.push_back(mesh.positions[v]);
    broken.faces.push_back({at, at + 1, at + 2});
  }
  std::swap(broken.faces[5][0], broken.faces[5][1]);
  broken.faces.push_back(broken.faces[2]);
  broken.faces.push_back({0, 1, 1});
  broken.positions.emplace_back(std::numeric_limits<float>::quiet_NaN(), 0.0f, 0.0f);
  broken.faces.push_back({0, 1, static_cast<std::uint32_t>(broken.positions.size() - 1)});
  broken.positions.emplace_back(3.0f, 3.0f, 3.0f);
  const MeshRepair repair = repair_mesh(broken);
  EXPECT_EQ(repair.faces_removed, 3u);
  EXPECT_EQ(repair.faces_turned, 1u);
  const MeshCheck check = check_mesh(broken, true);
  EXPECT_TRUE(check.closed() && check.manifold() && check.oriented()) << check.in_a_line();
  EXPECT_EQ(check.vertices, 8u);
  EXPECT_NEAR(volume(broken), 1, 1e-6);
  EXPECT_TRUE(repair_mesh(broken).nothing());
  // What is crowded is parted.
  Mesh fins = cube();
  fins.positions.emplace_back(2.0f, 2.0f, 0.5f);
  fins.faces.push_back({3, 7, 8});  // on an edge that has two faces already
  EXPECT_EQ(check_mesh(fins).crowded_edges, 1u);
  repair_mesh(fins);
  EXPECT_TRUE(check_mesh(fins).manifold());
  EXPECT_TRUE(check_mesh(fins).oriented());
  EXPECT_EQ(fins.faces.size(), 13u);
  // A strip with one side alone can be parted, not oriented otherwise.
  Mesh strip;
  constexpr int kParts = 12;
  for (int i = 0; i < kParts; ++i)
    for (const double s : {-0.3, 0.3}) {
      const double a = 2 * std::numbers::pi * i / kParts;
      strip.positions.emplace_back(static_cast<float>((1 + s * std::cos(a / 2)) * std::cos(a)),
                                   static_cast<float>((1 + s * std::cos(a / 2)) * std::sin(a)),
                                   static_cast<float>(s * std::sin(a / 2)));
    }
  for (std::uint32_t i = 0; i < kParts; ++i) {
    const bool last = i + 1 == kParts;
    const std::uint32_t a = 2 * i, b = 2 * i + 1, c = last ? 1 : 2 * i + 2, d = last ? 0 : 2 * i + 3;
    strip.faces.push_back({a, b, c});
    strip.faces.push_back({b, d, c});
  }
  repair_mesh(strip);
  EXPECT_TRUE(check_mesh(strip).manifold());
  EXPECT_TRUE(check_mesh(strip).oriented());
}

// A ball without a cap: the patch goes on as round as the ball is.
TEST(CloseHoles, GoesOnAsTheSurfaceAround) {
  Mesh mesh = fit_surface(ball(12000, 0), {}, std::nullopt, Executor(2)).mesh;
  SimplifyOptions fewer;
  fewer.faces = 4000;
  simplify(mesh, fewer);
  std::vector<std::uint8_t> keep(mesh.faces.size(), 1);
  for (std::size_t f = 0; f < keep.size(); ++f)
    for (const std::uint32_t v : mesh.faces[f])
      if (mesh.positions[v].z() > 0.85f || mesh.positions[v].x() > 0.97f) keep[f] = 0;
  mesh = pick_faces(mesh, keep);
  ASSERT_EQ(holes_of(mesh).size(), 2u);
  const std::size_t before = mesh.faces.size();
  // The smaller one alone, by its perimeter, then the rest.
  CloseHolesOptions small;
  small.max_perimeter = 0.5 * (holes_of(mesh)[0].perimeter + holes_of(mesh)[1].perimeter);
  EXPECT_EQ(close_holes(mesh, small).closed, 1u);
  EXPECT_EQ(holes_of(mesh).size(), 1u);
  const CloseHolesSummary done = close_holes(mesh);
  EXPECT_EQ(done.closed, 1u);
  const MeshCheck check = check_mesh(mesh, true);
  EXPECT_TRUE(check.closed()) << check.in_a_line();
  EXPECT_TRUE(check.manifold());
  EXPECT_TRUE(check.oriented());
  EXPECT_EQ(check.self_intersections, 0u);
  EXPECT_NEAR(volume(mesh), 4 * std::numbers::pi / 3, 0.06);
  EXPECT_LT(off_ball(mesh).second, 0.08);  // a flat patch would be off by 0.15
  ASSERT_EQ(mesh.kinds.size(), mesh.faces.size());
  EXPECT_EQ(mesh.colours.size(), mesh.positions.size());
  double longest = 0, usual = 0;
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) {
    EXPECT_EQ(mesh.kinds[f], f < before ? FaceKind::measured : FaceKind::closed);
    const double size = std::sqrt(face_area(mesh, f));
    if (f < before)
      usual += size / static_cast<double>(before);
    else
      longest = std::max(longest, size);
  }
  EXPECT_LT(longest, 4 * usual);  // as fine as the rest
  CloseHolesOptions none;
  none.numbers = {0};
  EXPECT_THROW(close_holes(mesh, none), Error);
  // One face alone, and a long ring.
  Mesh one = cube();
  one.faces.pop_back();
  close_holes(one);
  EXPECT_TRUE(check_mesh(one).closed());
  EXPECT_NEAR(volume(one), 1, 1e-5);
}

TEST(CloseHoles, LongRingsAreParted) {
  // A tube with 900 vertices around, closed at one end by a point.
  Mesh tube;
  constexpr std::uint32_t n = 900;
  for (std::uint32_t i = 0; i < 2 * n; ++i) {
    const double a = 2 * std::numbers::pi * (i % n) / n;
    tube.positions.emplace_back(static_cast<float>(std::cos(a)), static_cast<float>(std::sin(a)), i < n ? 0.0f : 0.02f);
  }
  tube.positions.emplace_back(0.0f, 0.0f, 0.02f);
  for (std::uint32_t i = 0; i < n; ++i) {
    const std::uint32_t j = (i + 1) % n;
    tube.faces.push_back({i, j, n + j});
    tube.faces.push_back({i, n + j, n + i});
    tube.faces.push_back({n + i, n + j, 2 * n});
  }
  ASSERT_EQ(holes_of(tube).size(), 1u);
  EXPECT_EQ(close_holes(tube).closed, 1u);
  const MeshCheck check = check_mesh(tube);
  EXPECT_TRUE(check.closed());
  EXPECT_TRUE(check.manifold());
  EXPECT_TRUE(check.oriented());
}

// A cube of many faces with noise: the sides become flat, the edges stay.
TEST(Smooth, TakesNoiseAndLeavesEdges) {
  Mesh box;
  constexpr std::uint32_t n = 21;
  const auto side = [&](const Vector3d& corner, const Vector3d& u, const Vector3d& v) {
    const auto first = static_cast<std::uint32_t>(box.positions.size());
    for (std::uint32_t y = 0; y < n; ++y)
      for (std::uint32_t x = 0; x < n; ++x)
        box.positions.push_back((corner + u * x / (n - 1.0) + v * y / (n - 1.0)).cast<float>());
    for (std::uint32_t y = 0; y + 1 < n; ++y)
      for (std::uint32_t x = 0; x + 1 < n; ++x) {
        const std::uint32_t a = first + y * n + x;
        box.faces.push_back({a, a + 1, a + n + 1});
        box.faces.push_back({a, a + n + 1, a + n});
      }
  };
  const Vector3d o(0, 0, 0), x(1, 0, 0), y(0, 1, 0), z(0, 0, 1);
  side(o, y, x), side(z, x, y), side(o, x, z), side(y, z, x), side(o, z, y), side(x, y, z);
  repair_mesh(box);
  ASSERT_TRUE(check_mesh(box).closed());
  const Mesh clean = box;
  CounterRandom random(8);
  for (Vector3f& p : box.positions)
    for (int c = 0; c < 3; ++c) p[c] += static_cast<float>(0.006 * random.normal());
  const auto off = [&](const Mesh& mesh) {
    double squares = 0;
    for (std::size_t f = 0; f < mesh.faces.size(); ++f)
      squares += std::pow(std::acos(std::clamp<double>(face_normal(mesh, f).dot(face_normal(clean, f)), -1, 1)), 2);
    return std::sqrt(squares / static_cast<double>(mesh.faces.size()));
  };
  const double noisy = off(box);
  Mesh smoothed = box;
  smooth(smoothed, {}, {}, Executor(2));
  EXPECT_LT(off(smoothed), 0.3 * noisy);
  EXPECT_LT(distance_to(smoothed, clean, 20000).rms, 0.7 * distance_to(box, clean, 20000).rms);
  Mesh again = box;
  smooth(again, {}, {}, Executor(7));
  EXPECT_EQ(again.to_bytes(), smoothed.to_bytes());
  const std::vector<std::uint8_t> nowhere(box.positions.size(), 0);
  again = box;
  smooth(again, {}, nowhere);
  EXPECT_EQ(again.to_bytes(), box.to_bytes());
  EXPECT_THROW(smooth(again, {0, 1, 1}), Error);
}

TEST(Trim, ByEdgesPiecesBoxAndStand) {
  Mesh mesh = cube();
  const Mesh small = cube();
  for (const Vector3f& p : small.positions) mesh.positions.push_back(0.1f * p + Vector3f(5, 0, 0));
  for (Face f : small.faces) {
    for (std::uint32_t& v : f) v += 8;
    mesh.faces.push_back(f);
  }
  EXPECT_EQ(pick_faces(mesh, faces_with_edges_up_to(mesh, 0.5)).faces.size(), 12u);
  const Mesh largest = pick_faces(mesh, faces_of_pieces(mesh, 0, true));
  EXPECT_EQ(largest.faces.size(), 12u);
  EXPECT_EQ(largest.positions.size(), 8u);
  EXPECT_NEAR(area(largest), 6, 1e-6);
  EXPECT_EQ(pick_faces(mesh, faces_of_pieces(mesh, 13)).faces.size(), 0u);
  Bounds box;
  box.centre = {5, 0, 0}, box.half_size = {1, 1, 1};
  EXPECT_EQ(pick_faces(mesh, faces_within(mesh, box)).faces.size(), 12u);
  // A ball on a table.
  Mesh scene = fit_surface(ball(8000, 0.001, {}, {0, 0, 0.95}), {}, std::nullopt, Executor(2)).mesh;
  const auto first = static_cast<std::uint32_t>(scene.positions.size());
  constexpr std::uint32_t n = 61;
  for (std::uint32_t y = 0; y < n; ++y)
    for (std::uint32_t x = 0; x < n; ++x)
      scene.positions.emplace_back(0.1f * static_cast<float>(x) - 3, 0.1f * static_cast<float>(y) - 3, 0.0f);
  for (std::uint32_t y = 0; y + 1 < n; ++y)
    for (std::uint32_t x = 0; x + 1 < n; ++x) {
      const std::uint32_t a = first + y * n + x;
      scene.faces.push_back({a, a + 1, a + n + 1});
      scene.faces.push_back({a, a + n + 1, a + n});
    }
  scene.normals.clear(), scene.colours.clear(), scene.support.clear(), scene.errors.clear();
  const auto stand = find_support_plane(scene, 0.02);
  ASSERT_TRUE(stand);
  EXPECT_GT(stand->plane.normal.z(), 0.9999);
  EXPECT_NEAR(stand->plane.distance, 0, 0.005);
  EXPECT_NEAR(stand->area_percent, 100 * 36 / (36 + 4 * std::numbers::pi), 3);
  Plane above = stand->plane;
  above.distance += 0.03;
  EXPECT_NEAR(area(pick_faces(scene, faces_over(scene, above))), 4 * std::numbers::pi, 0.6);
  EXPECT_FALSE(find_support_plane(pick_faces(scene, faces_over(scene, above)), 0.01));
}

// What encloses: the surface of a ring of square section about the vertical axis, or a ball.
Mesh tube(int around) {
  Mesh mesh;
  for (int i = 0; i < around; ++i) {
    const double a = 2 * std::numbers::pi * i / around;
    for (const auto& [r, z] : {std::pair(1.0, -1.0), std::pair(2.0, -1.0), std::pair(2.0, 1.0), std::pair(1.0, 1.0)})
      mesh.positions.emplace_back(static_cast<float>(r * std::cos(a)), static_cast<float>(r * std::sin(a)),
                                  static_cast<float>(z));
  }
  for (int i = 0; i < around; ++i)
    for (int k = 0; k < 4; ++k) {
      const auto at = [&](int column, int row) { return static_cast<std::uint32_t>(4 * (column % around) + row % 4); };
      mesh.faces.push_back({at(i, k), at(i + 1, k), at(i + 1, k + 1)});
      mesh.faces.push_back({at(i, k), at(i + 1, k + 1), at(i, k + 1)});
    }
  if (volume(mesh) < 0)
    for (Face& f : mesh.faces) std::swap(f[1], f[2]);
  return mesh;
}

TEST(FlatCut, ClosesTheBaseAndLeavesPipesOpen) {
  // A pipe cut across: its base is a flat ring.
  Mesh mesh = tube(64);
  const double whole = volume(mesh);
  FlatCutSummary cut = cut_flat(mesh, {Vector3d::UnitZ(), 0.25}, true);
  EXPECT_EQ(cut.outcome, "cut");
  EXPECT_EQ(cut.rings, 2u);
  EXPECT_EQ(cut.faces_wall, 0u);
  MeshCheck check = check_mesh(mesh, true);
  EXPECT_TRUE(check.closed());
  EXPECT_TRUE(check.manifold());
  EXPECT_TRUE(check.oriented());
  EXPECT_EQ(check.self_intersections, 0u);
  EXPECT_NEAR(volume(mesh), whole * 0.75 / 2, 1e-4 * whole);
  EXPECT_NEAR(cut.base_area, whole / 2, 1e-4 * whole);
  EXPECT_EQ(std::count(mesh.kinds.begin(), mesh.kinds.end(), FaceKind::cut), static_cast<int>(cut.faces_base));
  for (const Vector3f& p : mesh.positions) EXPECT_GE(p.z(), 0.2499f);
  // Cut along: two bases, by planes in any direction.
  mesh = tube(64);
  cut = cut_flat(mesh, {Vector3d(0, 3, 0), 0}, true);
  EXPECT_EQ(cut.rings, 2u);
  EXPECT_NEAR(cut.base_area, 4, 1e-3);
  EXPECT_NEAR(volume(mesh), whole / 2, 1e-3 * whole);
  EXPECT_TRUE(check_mesh(mesh).closed());
  // Exactly through its corners, and open when asked for.
  mesh = tube(64);
  cut = cut_flat(mesh, {Vector3d::UnitZ(), -1}, true);
  EXPECT_TRUE(check_mesh(mesh).closed());
  EXPECT_NEAR(volume(mesh), whole, 1e-3 * whole);
  mesh = tube(64);
  cut = cut_flat(mesh, {Vector3d::UnitZ(), 0}, false);
  EXPECT_EQ(check_mesh(mesh).holes, 2u);
  EXPECT_EQ(cut.faces_base, 0u);
  // Above and below everything.
  mesh = tube(16);
  EXPECT_EQ(cut_flat(mesh, {Vector3d::UnitZ(), 5}, true).outcome, "nothing lies on that side");
  EXPECT_TRUE(mesh.empty());
  mesh = tube(16);
  EXPECT_EQ(cut_flat(mesh, {Vector3d::UnitZ(), -5}, true).outcome, "the plane does not meet the mesh");
  EXPECT_EQ(mesh.faces.size(), tube(16).faces.size());
  // Open where the cut comes: walls go down from the rim of the hole, and it is closed all the same.
  mesh = tube(16);
  mesh.faces.erase(mesh.faces.begin() + 2);  // of the outer wall
  cut = cut_flat(mesh, {Vector3d::UnitZ(), 0.1}, true);
  EXPECT_GT(cut.faces_wall, 0u);
  EXPECT_TRUE(check_mesh(mesh).closed());
  EXPECT_TRUE(check_mesh(mesh).oriented());
  // A sheet over the plane becomes a block.
  Mesh sheet;
  for (int y = 0; y <= 10; ++y)
    for (int x = 0; x <= 10; ++x)
      sheet.positions.emplace_back(static_cast<float>(x), static_cast<float>(y), 2 + 0.3f * std::sin(1.7f * x + y));
  for (std::uint32_t y = 0; y < 10; ++y)
    for (std::uint32_t x = 0; x < 10; ++x) {
      const std::uint32_t v = 11 * y + x;
      sheet.faces.push_back({v, v + 1, v + 12});
      sheet.faces.push_back({v, v + 12, v + 11});
    }
  cut = cut_flat(sheet, {Vector3d::UnitZ(), 0.5}, true);
  EXPECT_EQ(cut.outcome, "cut");
  check = check_mesh(sheet, true);
  EXPECT_TRUE(check.closed());
  EXPECT_TRUE(check.oriented());
  EXPECT_EQ(check.self_intersections, 0u);
  EXPECT_NEAR(cut.base_area, 100, 1e-3);
  EXPECT_NEAR(volume(sheet), 150, 8);
  EXPECT_THROW(cut_flat(mesh, {Vector3d::Zero(), 0}, true), Error);
}

TEST(FlatCut, RoughSurfacesAreClosedTheSame) {
  // A ball with dents, as fitted to points: its rings have hundreds of corners.
  PointCloud cloud = ball(30000, 0.0);
  for (std::size_t i = 0; i < cloud.size(); ++i) {
    Vector3f& p = cloud.positions[i];
    p *= 1 + 0.06f * std::sin(9 * p.x()) * std::sin(11 * p.y());
  }
  FitSurfaceOptions options;
  options.min_support = 0;
  const Mesh whole = fit_surface(cloud, options, std::nullopt, Executor(2)).mesh;
  CounterRandom random(8);
  for (int k = 0; k < 12; ++k) {
    Mesh mesh = whole;
    const Vector3d normal(random.normal(), random.normal(), random.normal());
    const double distance = random.uniform(-0.7, 0.7) * normal.norm();
    const FlatCutSummary cut = cut_flat(mesh, {normal, distance}, true);
    ASSERT_EQ(cut.outcome, "cut");
    const MeshCheck check = check_mesh(mesh, true, Executor(2));
    EXPECT_TRUE(check.closed()) << k;
    EXPECT_TRUE(check.manifold()) << k;
    EXPECT_TRUE(check.oriented()) << k;
    EXPECT_EQ(check.self_intersections, 0u) << k;
    // Both halves together are the whole.
    Mesh other = whole;
    cut_flat(other, {-normal, -distance}, true);
    EXPECT_NEAR(volume(mesh) + volume(other), volume(whole), 1e-4);
  }
}

}  // namespace
}  // namespace icefield
