// Meshes made from grids, made hollow, made even, lightened by region, and painted from finer ones.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "icefield/base/error.h"
#include "icefield/surface/bake.h"
#include "icefield/surface/check_mesh.h"
#include "icefield/surface/grid_surface.h"
#include "icefield/surface/hollow.h"
#include "icefield/surface/remesh.h"
#include "icefield/surface/repaint.h"
#include "icefield/surface/simplify.h"
#include "icefield/surface/trim.h"

namespace icefield {
namespace {

using Eigen::Vector2f;
using Eigen::Vector3d;
using Eigen::Vector3f;
using testing::HasSubstr;

// Where `depth` (below 0 outside) is 0, on a grid of this step about a box of half this size.
Mesh solid(double half, double step, const std::function<double(const Vector3d&)>& depth,
           const Vector3d& origin = Vector3d::Zero()) {
  Grid grid;
  grid.step = step;
  grid.low = origin - Vector3d::Constant(half + step);
  const int nodes = static_cast<int>(std::ceil(2 * half / step)) + 3;
  grid.nodes = {nodes, nodes, nodes};
  std::vector<float> values;
  for (int k = 0; k < nodes; ++k)
    for (int j = 0; j < nodes; ++j)
      for (int i = 0; i < nodes; ++i) values.push_back(static_cast<float>(depth(grid.place(i, j, k) - origin)));
  return grid_surface(grid, values);
}
Mesh ball(double step, const Vector3d& origin = Vector3d::Zero()) {
  return solid(
      1.2, step, [](const Vector3d& p) { return 1 - p.norm(); }, origin);
}
// From -1 to 1 along each axis.
Mesh cube() {
  Mesh mesh;
  for (int c = 0; c < 8; ++c) mesh.positions.emplace_back(c & 1 ? 1 : -1, c & 2 ? 1 : -1, c & 4 ? 1 : -1);
  mesh.faces = {{0, 2, 1}, {1, 2, 3}, {4, 5, 6}, {5, 7, 6}, {0, 1, 4}, {1, 5, 4},
                {2, 6, 3}, {3, 6, 7}, {0, 4, 2}, {2, 4, 6}, {1, 3, 5}, {3, 7, 5}};
  return mesh;
}
void expect_solid(const Mesh& mesh) {
  const MeshCheck check = check_mesh(mesh, true, Executor(2));
  EXPECT_TRUE(check.closed()) << check.in_a_line();
  EXPECT_TRUE(check.manifold()) << check.in_a_line();
  EXPECT_TRUE(check.oriented()) << check.in_a_line();
  EXPECT_EQ(check.self_intersections, 0u);
  EXPECT_EQ(check.degenerate_faces, 0u);
}

TEST(GridSurface, IsClosedAndWhereTheValuesSay) {
  const Mesh mesh = ball(0.1);
  expect_solid(mesh);
  EXPECT_NEAR(volume(mesh), 4 * std::numbers::pi / 3, 0.05);
  for (std::size_t v = 0; v < mesh.positions.size(); ++v) EXPECT_NEAR(mesh.position(v).norm(), 1, 0.004);
  // Two parts that touch at a corner of the grid stay manifold.
  expect_solid(solid(1, 0.25, [](const Vector3d& p) { return p.x() * p.y() * p.z() > 0 ? 0.9 - p.norm() : -1.0; }));
  Grid grid;
  grid.nodes = {3, 3, 1};
  EXPECT_THROW(grid_surface(grid, std::vector<float>(9)), Error);
  grid.nodes = {3, 3, 3};
  EXPECT_THROW(grid_surface(grid, std::vector<float>(9)), Error);
}

TEST(GridSurface, PlacesAreThoseThatAreGiven) {
  Grid grid;
  grid.low = Vector3d(500000, 5000000, 100), grid.nodes = {4, 4, 4};
  std::vector<float> values(grid.size(), -1);
  values[grid.index(1, 1, 1)] = 1;
  const Mesh mesh = grid_surface(grid, values, [](const Vector3d&, const Vector3d&) { return 0.25; });
  for (std::size_t v = 0; v < mesh.positions.size(); ++v) {
    const Vector3d way = mesh.position(v) - grid.place(1, 1, 1);
    EXPECT_NEAR(way.cwiseAbs().maxCoeff(), 0.25, 1e-6);
  }
}

TEST(Hollow, LeavesAWallOfTheThicknessAskedFor) {
  Mesh mesh = ball(0.06, Vector3d(1000, 2000, 300));
  mesh.colours.assign(mesh.positions.size(), {200, 100, 50});
  const std::size_t outer = mesh.faces.size();
  HollowOptions options;
  options.wall = 0.2;
  const HollowSummary done = hollow(mesh, options, Executor(2));
  EXPECT_EQ(done.outcome, "hollowed");
  EXPECT_EQ(done.hollows, 1u);
  expect_solid(mesh);
  EXPECT_NEAR(done.wall_least, 0.2, 0.01);
  EXPECT_NEAR(done.wall_largest, 0.2, 0.01);
  EXPECT_NEAR(done.volume_after, done.volume_before - 4 * std::numbers::pi / 3 * 0.512, 0.03);
  EXPECT_EQ(mesh.faces.size(), outer + done.faces);
  EXPECT_EQ(mesh.kinds[0], FaceKind::measured);
  EXPECT_EQ(mesh.kinds.back(), FaceKind::cut);
  EXPECT_EQ(mesh.colours.size(), mesh.positions.size());
}

// A block with a narrow neck between two thick ends: two rooms, of which one is drained.
TEST(Hollow, DrainsTheRoomThatItsHoleReaches) {
  const auto depth = [](const Vector3d& p) {
    const double ends = 0.5 - (Vector3d(std::abs(p.x()) - 1, p.y(), p.z())).cwiseAbs().maxCoeff();
    const double neck = 0.12 - std::max(std::abs(p.y()), std::abs(p.z()));
    return std::max(ends, std::abs(p.x()) < 1 ? neck : -1.0);
  };
  Mesh mesh = solid(1.6, 0.05, depth);
  HollowOptions options;
  options.wall = 0.15, options.drain = 0.2;
  options.drain_through = Vector3d(1, 0, 0);
  const double before = volume(mesh);
  const HollowSummary done = hollow(mesh, options, Executor(2));
  EXPECT_EQ(done.outcome, "hollowed");
  EXPECT_TRUE(done.drained);
  EXPECT_EQ(done.hollows, 2u);
  expect_solid(mesh);
  // Two rooms of 0.7 cubed, their corners rounded, and the hole through 0.15 of wall.
  EXPECT_NEAR(before - volume(mesh), 2 * 0.343 + std::numbers::pi * 0.01 * 0.15, 0.06);
  // Through the hole nothing is met below, beside it something is.
  std::size_t within = 0, beside = 0;
  for (std::size_t v = 0; v < mesh.positions.size(); ++v) {
    const Vector3d p = mesh.position(v);
    const double away = std::hypot(p.x() - 1, p.y());
    if (p.z() > -0.6 && p.z() < -0.2) within += away < 0.098, beside += away < 0.103 && away >= 0.098;
  }
  EXPECT_EQ(within, 0u);
  EXPECT_GT(beside, 20u);
}

TEST(Hollow, SaysWhatIsInTheWay) {
  Mesh open = ball(0.2);
  open.faces.pop_back();
  const Bytes before = open.to_bytes();
  HollowOptions options;
  options.wall = 0.2;
  EXPECT_THAT(hollow(open, options).outcome, HasSubstr("not closed"));
  EXPECT_EQ(open.to_bytes(), before);
  Mesh mesh = ball(0.1);
  options.wall = 1.5;
  EXPECT_THAT(hollow(mesh, options).outcome, HasSubstr("no room"));
  options.wall = 0.2, options.drain = 0.1, options.drain_through = Vector3d(5, 0, 0);
  const HollowSummary missed = hollow(mesh, options);
  EXPECT_THAT(missed.outcome, HasSubstr("not drained"));
  EXPECT_FALSE(missed.drained);
  expect_solid(mesh);
  options.wall = 0;
  EXPECT_THROW(hollow(mesh, options), Error);
}

TEST(Remesh, MakesFacesEvenAndKeepsTheShape) {
  // Slivers and large faces side by side.
  Mesh mesh = ball(0.15);
  const Mesh before = mesh;
  RemeshOptions options;
  options.edge = 0.08;
  const RemeshSummary done = remesh(mesh, options, Executor(2));
  expect_solid(mesh);
  EXPECT_GT(done.edges_near_percent, 97);
  EXPECT_NEAR(done.edge_mean, 0.08, 0.008);
  EXPECT_LT(distance_to(mesh, before).largest, 0.008);  // across ridges, a tenth of an edge
  EXPECT_NEAR(volume(mesh), volume(before), 0.02);
  Mesh again = before;
  remesh(again, options, Executor(1));
  EXPECT_EQ(again.to_bytes(), mesh.to_bytes());
}

TEST(Remesh, EdgesAndBordersStay) {
  Mesh box = cube();
  RemeshOptions options;
  options.edge = 0.25;
  remesh(box, options);
  expect_solid(box);
  EXPECT_NEAR(volume(box), 8, 1e-3);
  EXPECT_NEAR(area(box), 24, 1e-2);
  // Without its lid: the rim stays a square.
  Mesh open = cube();
  open.faces.erase(open.faces.begin() + 2, open.faces.begin() + 4);
  open.colours.assign(8, {10, 20, 30});
  remesh(open, options);
  const auto holes = holes_of(open);
  ASSERT_EQ(holes.size(), 1u);
  EXPECT_NEAR(holes[0].perimeter, 8, 1e-3);
  EXPECT_TRUE(check_mesh(open).manifold());
  EXPECT_EQ(open.colours.size(), open.positions.size());
  options.edge = 1e-6;
  EXPECT_THROW(remesh(open, options), Error);
  options.edge = 0;
  EXPECT_THROW(remesh(open, options), Error);
}

TEST(Simplify, RegionsHaveBudgetsOfTheirOwn) {
  Mesh mesh = ball(0.05);
  SimplifyOptions options;
  for (const Vector3f& p : mesh.positions) options.regions.push_back(p.x() + mesh.origin.x() > 0 ? 0 : 1);
  options.region_faces = {2000, 200};
  simplify(mesh, options);
  std::size_t right = 0;
  for (const Face& f : mesh.faces) {
    bool any = false;
    for (const std::uint32_t v : f) any = any || mesh.position(v).x() > 0;
    right += any;
  }
  EXPECT_NEAR(static_cast<double>(mesh.faces.size()), 2200, 20);
  EXPECT_NEAR(static_cast<double>(right), 2000, 150);  // those on the border have moved to either side
  EXPECT_TRUE(check_mesh(mesh).manifold());
  EXPECT_TRUE(check_mesh(mesh).closed());
  options.region_faces = {10};
  EXPECT_THROW(simplify(mesh, options), Error);
}

TEST(Selection, KeepsAndDrops) {
  Selection selection;
  SelectionPart slab;
  slab.low = -0.5, slab.high = 0.5;
  SelectionPart corner;
  corner.plane = Plane{Vector3d(1, 0, 0), 0.2};
  selection.keep = {slab};
  selection.drop = {corner};
  const Mesh mesh = ball(0.1);
  const Mesh left = pick_faces(mesh, faces_selected(mesh, selection));
  ASSERT_FALSE(left.empty());
  for (std::size_t f = 0; f < left.faces.size(); ++f) {
    Vector3d middle = Vector3d::Zero();
    for (const std::uint32_t v : left.faces[f]) middle += left.position(v) / 3;
    EXPECT_LE(std::abs(middle.z()), 0.5);
    EXPECT_LT(middle.x(), 0.2);
  }
  // What was left out is what is marked.
  const auto gone = faces_gone(mesh, left);
  EXPECT_EQ(static_cast<std::size_t>(std::count(gone.begin(), gone.end(), 0)), left.faces.size());
}

// A ball with waves, black on one side and white on the other, painted on a light ball.
struct Waves {
  Mesh fine = solid(
      1.3, 0.02, [](const Vector3d& p) { return 1 + 0.02 * std::sin(20 * p.x()) * std::sin(20 * p.y()) - p.norm(); });
  Mesh light = fine;
  Waves() {
    for (std::size_t v = 0; v < fine.positions.size(); ++v)
      fine.colours.push_back(fine.position(v).z() > 0 ? std::array<std::uint8_t, 3>{240, 240, 240}
                                                      : std::array<std::uint8_t, 3>{20, 20, 20});
    set_normals(fine);
    SimplifyOptions options;
    options.faces = 800;
    simplify(light, options);
    set_normals(light);
  }
};

TEST(Bake, ALightMeshShowsWhatTheFineOneHas) {
  const Waves waves;
  BakeOptions options;
  options.page_size = 512;
  options.occlusion_rays = 32;
  const Baked baked = bake(waves.light, waves.fine, nullptr, options, Executor(2));
  ASSERT_EQ(baked.summary.outcome, "baked");
  EXPECT_EQ(baked.summary.colour_from, "vertices");
  EXPECT_EQ(baked.texture.pages.size(), 1u);
  EXPECT_GT(baked.summary.used_percent, 45);
  EXPECT_LT(baked.summary.missed_percent, 2);
  EXPECT_LT(baked.summary.stretch_largest, 1.7);
  check_texture(waves.light, baked.texture);
  // Over the faces: colours by side, and the normal of the page turned back is that of the waves.
  std::size_t looked = 0, right_colour = 0, no_lower = 0;
  double light_off = 0, page_off = 0, other_off = 0;
  for (std::size_t f = 0; f < waves.light.faces.size(); ++f) {
    const Face& face = waves.light.faces[f];
    Vector3d middle = Vector3d::Zero();
    Vector3f n = Vector3f::Zero(), t = Vector3f::Zero();
    Vector2f at = Vector2f::Zero();
    for (std::size_t k = 0; k < 3; ++k) {
      middle += waves.light.position(face[k]) / 3;
      n += waves.light.normals[face[k]], t += baked.tangents[f][k];
      at += baked.texture.corners[f][k] / 3;
    }
    if (std::abs(middle.z()) < 0.1) continue;
    n.normalize();
    t = (t - n.dot(t) * n).normalized();
    const int x = static_cast<int>(at.x()), y = static_cast<int>(at.y());
    const std::size_t page = baked.texture.page[f];
    ++looked;
    right_colour += (baked.texture.pages[page].at(x, y, 0) > 128) == (middle.z() > 0);
    Vector3f in_frame;
    for (int c = 0; c < 3; ++c) in_frame[c] = (static_cast<float>(baked.normals[page].at(x, y, c)) - 128) / 127;
    const Vector3f shown = in_frame.x() * t + in_frame.y() * t.cross(n) + in_frame.z() * n;
    // The true normal: the way down of depth.
    const Vector3d p = middle.normalized();
    const double a = 20;
    const Vector3d slope(0.02 * a * std::cos(a * p.x()) * std::sin(a * p.y()),
                         0.02 * a * std::sin(a * p.x()) * std::cos(a * p.y()), 0);
    const Vector3d truth = (p - slope).normalized();
    light_off += std::acos(std::min(1.0, n.cast<double>().dot(truth)));
    const Vector3f other = in_frame.x() * t - in_frame.y() * t.cross(n) + in_frame.z() * n;
    other_off += std::acos(std::min(1.0, other.normalized().cast<double>().dot(truth)));
    page_off += std::acos(std::min(1.0, shown.normalized().cast<double>().dot(truth)));
    no_lower += baked.occlusion[page].at(x, y) > 100;
  }
  EXPECT_EQ(right_colour, looked);
  EXPECT_LT(page_off, 0.35 * light_off) << other_off << " " << looked << " " << baked.summary.texel << " "
                                        << baked.summary.charts;
  EXPECT_GT(no_lower, looked * 9 / 10);  // a ball hides little of itself
  Baked again = bake(waves.light, waves.fine, nullptr, options, Executor(1));
  EXPECT_TRUE(std::ranges::equal(again.normals[0].data(), baked.normals[0].data()));
  EXPECT_TRUE(std::ranges::equal(again.occlusion[0].data(), baked.occlusion[0].data()));
  EXPECT_TRUE(std::ranges::equal(again.texture.pages[0].data(), baked.texture.pages[0].data()));
}

TEST(Bake, TakesATextureAndWhatIsMadeUpInIt) {
  const Waves waves;
  BakeOptions options;
  options.page_size = 512, options.occlusion = options.normals = false;
  Baked first = bake(waves.light, waves.fine, nullptr, options, Executor(2));
  for (std::uint8_t& o : first.texture.origins[0].values())
    if (o == 1) o = 2;
  // Painted from the painted one: the same colours, made up as there.
  const Baked second = bake(waves.light, waves.light, &first.texture, options, Executor(2));
  EXPECT_EQ(second.summary.colour_from, "texture");
  std::size_t made_up = 0, texels = 0;
  double off = 0;
  for (int y = 0; y < 512 && y < second.texture.pages[0].height(); ++y)
    for (int x = 0; x < second.texture.pages[0].width(); ++x) {
      const std::uint8_t origin = second.texture.origins[0].at(x, y);
      if (origin == 0) continue;
      ++texels;
      made_up += origin == 2;
      off += std::abs(static_cast<double>(second.texture.pages[0].at(x, y, 0)) - first.texture.pages[0].at(x, y, 0));
    }
  EXPECT_GT(made_up, texels * 99 / 100);
  EXPECT_LT(off / static_cast<double>(texels), 3);
  // What is no number in the painted mesh does not keep its texture from others.
  Mesh broken = waves.light;
  broken.positions.emplace_back(std::nanf(""), 0.0f, 0.0f);
  broken.normals.emplace_back(0.0f, 0.0f, 1.0f);
  broken.faces.push_back({0, 1, static_cast<std::uint32_t>(broken.positions.size() - 1)});
  Texture on_broken = first.texture;
  on_broken.page.push_back(0);
  on_broken.corners.push_back(first.texture.corners[0]);
  Mesh light = waves.light;
  const Baked carried = repaint(light, broken, on_broken, Executor(2));
  EXPECT_TRUE(std::ranges::equal(carried.texture.pages[0].data(), second.texture.pages[0].data()));
  options.page_size = 10;
  EXPECT_THROW(bake(waves.light, waves.fine, nullptr, options), Error);
  EXPECT_THROW(bake(Mesh(), waves.fine, nullptr, {}), Error);
}

}  // namespace
}  // namespace icefield
