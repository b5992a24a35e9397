#include "icefield/terrain/relief.h"

#include <gtest/gtest.h>

#include <cmath>
#include <numbers>

#include "icefield/base/random.h"
#include "icefield/terrain/volume.h"

namespace icefield {
namespace {

using Eigen::Vector2d;
constexpr float kNone = std::numeric_limits<float>::quiet_NaN();

template <class Height>
HeightRaster raster_of(int columns, int rows, double cell, const Height& height) {
  HeightRaster raster;
  raster.frame.corner = {1000, 2000};
  raster.frame.cell = cell, raster.frame.columns = columns, raster.frame.rows = rows;
  raster.heights = ImageF(columns, rows);
  for (int y = 0; y < rows; ++y)
    for (int x = 0; x < columns; ++x) {
      const Vector2d p = raster.frame.middle(x, y);
      raster.heights.at(x, y) = static_cast<float>(height(p.x() - 1000, 2000 - p.y()));  // east, south
    }
  return raster;
}

TEST(Relief, LightAndSlopeOfPlanes) {
  // Falls to the north-west, where the light comes from: 100 percent slope.
  const double s = std::sqrt(0.5);
  const HeightRaster plane = raster_of(30, 20, 0.5, [&](double e, double so) { return s * e + s * so; });
  const ImageF slope = slope_deg(plane.heights, 0.5), light = hillshade(plane.heights, 0.5, 315, 45);
  const ImageF from_behind = hillshade(plane.heights, 0.5, 135, 45);
  for (int y = 0; y < 20; ++y)
    for (int x = 0; x < 30; ++x) {
      EXPECT_NEAR(slope.at(x, y), 45, 1e-3) << x << " " << y;  // the border goes on as it is
      EXPECT_NEAR(light.at(x, y), 1, 1e-5);
      EXPECT_NEAR(from_behind.at(x, y), 0, 1e-5);
    }
  HeightRaster holed = plane;
  holed.heights.at(7, 7) = kNone;
  const ImageF around = slope_deg(holed.heights, 0.5);
  EXPECT_TRUE(std::isnan(around.at(7, 7)));
  EXPECT_NEAR(around.at(8, 7), 45, 1e-3);
}

double ring_area(const std::vector<Vector2d>& ring) {
  double sum = 0;
  for (std::size_t i = 0; i < ring.size(); ++i) {
    const Vector2d a = ring[i] - ring[0], b = ring[(i + 1) % ring.size()] - ring[0];
    sum += a.x() * b.y() - b.x() * a.y();
  }
  return 0.5 * sum;
}

TEST(Contours, OfAConeAreRingsAroundIt) {
  const HeightRaster cone =
      raster_of(200, 200, 0.1, [](double e, double s) { return 10 - std::hypot(e - 10, s - 10); });
  ContourOptions options;
  options.every = 2, options.from = 1, options.simplify = 0;
  const std::vector<ContourLine> lines = contour_lines(cone.heights, cone.frame, options);
  std::size_t rings = 0;
  for (const ContourLine& line : lines) {
    const double radius = 10 - line.height;
    if (radius > 9.8) continue;
    EXPECT_TRUE(line.closed) << line.height;
    // Against the clock, since the higher ground is on the left.
    EXPECT_NEAR(ring_area(line.places), std::numbers::pi * radius * radius, 0.02 * radius + 0.02);
    for (const Vector2d& p : line.places) EXPECT_NEAR((p - Vector2d(1010, 1990)).norm(), radius, 0.01);
    ++rings;
  }
  EXPECT_EQ(rings, 5u);  // 1, 3, 5, 7, 9
  for (std::size_t i = 1; i < lines.size(); ++i) EXPECT_LE(lines[i - 1].height, lines[i].height);
  options.simplify = 0.3;
  const std::vector<ContourLine> light = contour_lines(cone.heights, cone.frame, options);
  ASSERT_EQ(light.size(), lines.size());
  std::size_t before = 0, after = 0;
  for (std::size_t i = 0; i < lines.size(); ++i) before += lines[i].places.size(), after += light[i].places.size();
  EXPECT_LT(after, before / 4);
  for (const ContourLine& line : light)
    for (const Vector2d& p : line.places) EXPECT_NEAR((p - Vector2d(1010, 1990)).norm(), 10 - line.height, 0.05);
}

bool cross(const Vector2d& a, const Vector2d& b, const Vector2d& c, const Vector2d& d) {
  const auto turn = [](const Vector2d& p, const Vector2d& q, const Vector2d& r) {
    return (q.x() - p.x()) * (r.y() - p.y()) - (q.y() - p.y()) * (r.x() - p.x());
  };
  return turn(a, b, c) * turn(a, b, d) < 0 && turn(c, d, a) * turn(c, d, b) < 0;
}

TEST(Contours, NeverCrossAndEndWhereHeightsEnd) {
  CounterRandom random(3);
  HeightRaster rough = raster_of(60, 60, 1, [&](double e, double s) {
    return 3 * std::sin(0.3 * e) * std::cos(0.25 * s) + 0.4 * random.normal();
  });
  for (int y = 20; y < 30; ++y)
    for (int x = 35; x < 45; ++x) rough.heights.at(x, y) = kNone;
  ContourOptions options;
  options.every = 0.25, options.simplify = 1.5, options.least = 0;
  const std::vector<ContourLine> lines = contour_lines(rough.heights, rough.frame, options, Executor(2));
  struct Segment {
    Vector2d a, b;
    std::size_t line;
  };
  std::vector<Segment> all;
  std::size_t open = 0;
  for (std::size_t i = 0; i < lines.size(); ++i) {
    const auto& p = lines[i].places;
    open += !lines[i].closed;
    for (std::size_t k = 0; k + (lines[i].closed ? 0 : 1) < p.size(); ++k)
      all.push_back({p[k], p[(k + 1) % p.size()], i});
  }
  EXPECT_GT(all.size(), 1000u);
  EXPECT_GT(open, 10u);
  std::size_t crossings = 0;
  for (std::size_t i = 0; i < all.size(); ++i)
    for (std::size_t j = i + 1; j < all.size(); ++j) crossings += cross(all[i].a, all[i].b, all[j].a, all[j].b);
  EXPECT_EQ(crossings, 0u);
  for (const Segment& s : all) {
    const Vector2d at = rough.frame.at(0.5 * (s.a + s.b));
    EXPECT_FALSE(at.x() > 36 && at.x() < 44 && at.y() > 21 && at.y() < 29) << at.transpose();
  }
  const std::vector<ContourLine> again = contour_lines(rough.heights, rough.frame, options, Executor(7));
  ASSERT_EQ(again.size(), lines.size());
  for (std::size_t i = 0; i < lines.size(); ++i) EXPECT_EQ(again[i].places, lines[i].places);
  options.every = 0;
  EXPECT_THROW(contour_lines(rough.heights, rough.frame, options), Error);
  options.every = 1e-7;
  EXPECT_THROW(contour_lines(rough.heights, rough.frame, options), Error);
  EXPECT_TRUE(contour_lines(ImageF(5, 5, 1, kNone), rough.frame, {}).empty());
}

TEST(Contours, HaveARoundStep) {
  EXPECT_EQ(contour_step(ImageF(4, 4, 1, 3.0f)), 1);
  EXPECT_EQ(contour_step(ImageF(4, 4, 1, kNone)), 1);
  for (const double range : {0.08, 1.0, 7.0, 30.0, 900.0}) {
    const HeightRaster plane = raster_of(100, 10, 1, [&](double e, double) { return range * e / 100; });
    const double step = contour_step(plane.heights), levels = range / step;
    EXPECT_GT(levels, 7) << range;
    EXPECT_LT(levels, 20) << range;
  }
}

TEST(Profiles, FollowTheSurface) {
  const HeightRaster plane = raster_of(40, 40, 0.5, [](double e, double s) { return 2 * e - s; });
  const std::vector<Vector2d> line = {{1002, 1998}, {1012, 1998}, {1012, 1988}};
  const auto places = profile(plane.heights, plane.frame, line, 0.7);
  EXPECT_EQ(places.front().along, 0);
  EXPECT_NEAR(places.back().along, 20, 1e-9);
  for (std::size_t i = 0; i < places.size(); ++i) {
    const Vector2d p = places[i].place;
    EXPECT_NEAR(places[i].height, 2 * (p.x() - 1000) - (2000 - p.y()), 1e-4);
    EXPECT_LE(places[i].along - places[i > 0 ? i - 1 : 0].along, 0.7 + 1e-9);
  }
  const std::vector<Vector2d> out = {{990, 1998}, {1002, 1998}};
  EXPECT_TRUE(std::isnan(profile(plane.heights, plane.frame, out, 1).front().height));
  EXPECT_THROW(profile(plane.heights, plane.frame, std::vector<Vector2d>{{0, 0}}, 1), Error);
}

// A heap in the shape of a cone of 100 cubic metres on a slope.
double heap_at(double e, double s) {
  const double height = 3, radius = std::sqrt(3 * 100 / (std::numbers::pi * height));
  return 0.1 * e - 0.05 * s + std::max(0.0, height * (1 - std::hypot(e - 12, s - 11) / radius));
}
std::vector<Vector2d> around_heap() {
  std::vector<Vector2d> outline;
  for (int k = 0; k < 24; ++k) {
    const double a = 2 * std::numbers::pi * k / 24;
    outline.emplace_back(1012 + 6.4 * std::cos(a), 1989 + 6.4 * std::sin(a));
  }
  return outline;
}

TEST(Volumes, OfAHeapOnASlope) {
  const HeightRaster raster = raster_of(240, 220, 0.1, heap_at);
  const auto outline = around_heap();
  for (const VolumeBase base : {VolumeBase::rim, VolumeBase::plane}) {
    VolumeOptions options;
    options.base = base;
    const Volume v = volume_in(raster, outline, options);
    EXPECT_NEAR(v.net(), 100, 0.1);
    EXPECT_NEAR(v.below, 0, 0.05);
    EXPECT_NEAR(v.area, 12 * 6.4 * 6.4 * std::sin(std::numbers::pi / 12), 0.01);
    EXPECT_GT(v.surface_area, v.area);
    EXPECT_EQ(v.missing_percent, 0);
  }
  VolumeOptions level;
  level.base = VolumeBase::height, level.height = 1;
  const Volume over = volume_in(raster, outline, level);
  const Volume higher = volume_in(raster, outline, {VolumeBase::height, 2, 6});
  EXPECT_NEAR(over.net() - higher.net(), over.area, 1e-3);
  level.base = VolumeBase::lowest;
  const Volume lowest = volume_in(raster, outline, level);
  EXPECT_NEAR(lowest.base_lowest, lowest.base_highest, 1e-9);
  EXPECT_NEAR(lowest.below, 0, 1e-3);
}

TEST(Volumes, AreasOnTheSlopeReachToTheBorder) {
  // 100 percent: root two times the plan, wherever the outline lies.
  const HeightRaster plane = raster_of(60, 60, 0.5, [](double e, double) { return e; });
  for (const double at : {0.0, 10.0, 24.0}) {
    const std::vector<Vector2d> square = {
        {1000 + at, 2000 - at}, {1006 + at, 2000 - at}, {1006 + at, 1994 - at}, {1000 + at, 1994 - at}};
    const Volume v = volume_in(plane, square, {VolumeBase::height, 0, 6});
    EXPECT_NEAR(v.area, 36, 1e-3);
    EXPECT_NEAR(v.surface_area, 36 * std::sqrt(2), 0.01) << at;
    EXPECT_NEAR(v.net(), 36 * (at + 3), 0.01);
  }
}

TEST(Volumes, TellOutlinesThatAreNone) {
  const HeightRaster raster = raster_of(100, 100, 0.1, [](double, double) { return 5; });
  const std::vector<Vector2d> bow = {{1002, 1998}, {1008, 1992}, {1008, 1998}, {1002, 1992}}, two = {{1, 1}, {2, 2}},
                              away = {{0, 0}, {5, 0}, {5, 5}};
  for (const auto& bad : {bow, two, away}) EXPECT_THROW(volume_in(raster, bad, {}), Error);
  EXPECT_TRUE(crosses_itself(bow));
  EXPECT_FALSE(crosses_itself(around_heap()));
  // Whatever corners and direction, cells count by their share.
  const std::vector<Vector2d> corner = {{1002.03, 1998.01}, {1002.03, 1994.57}, {1005.77, 1994.57}};
  const Volume v = volume_in(raster, corner, {VolumeBase::height, 4, 6});
  EXPECT_NEAR(v.net(), 0.5 * 3.44 * 3.74, 1e-3);
  std::vector<Vector2d> other(corner.rbegin(), corner.rend());
  EXPECT_NEAR(volume_in(raster, other, {VolumeBase::height, 4, 6}).net(), v.net(), 1e-9);
  HeightRaster holed = raster;
  for (int y = 40; y < 60; ++y)
    for (int x = 0; x < 100; ++x) holed.heights.at(x, y) = kNone;
  const std::vector<Vector2d> all = {{1001, 1999}, {1009, 1999}, {1009, 1991}, {1001, 1991}};
  EXPECT_NEAR(volume_in(holed, all, {VolumeBase::height, 4, 6}).missing_percent, 25, 0.1);
}

// Errors that go together over some cells, as those of depth maps do.
void add_errors(HeightRaster& raster, double sigma, std::uint64_t seed) {
  CounterRandom random(seed);
  const int w = raster.frame.columns, h = raster.frame.rows, reach = 4;
  ImageF white(w + 2 * reach, h + 2 * reach);
  for (float& v : white.values()) v = static_cast<float>(random.normal());
  raster.sigma = ImageF(w, h, 1, static_cast<float>(sigma));
  for (int y = 0; y < h; ++y)
    for (int x = 0; x < w; ++x) {
      double sum = 0;
      for (int v = 0; v <= 2 * reach; ++v)
        for (int u = 0; u <= 2 * reach; ++u) sum += white.at(x + u, y + v);
      raster.heights.at(x, y) += static_cast<float>(sigma * sum / (2 * reach + 1));
    }
}

TEST(Volumes, SayHowGoodTheyAre) {
  int within = 0;
  double squares = 0;
  constexpr int kTimes = 60;
  for (int k = 0; k < kTimes; ++k) {
    HeightRaster raster = raster_of(240, 220, 0.1, heap_at);
    add_errors(raster, 0.05, static_cast<std::uint64_t>(k));
    const Volume v = volume_in(raster, around_heap(), {});
    const double t = (v.net() - 100) / v.sigma;
    within += std::abs(t) < 2;
    squares += t * t;
    EXPECT_NEAR(v.net(), 100, 3);
  }
  EXPECT_GE(within, kTimes * 19 / 20 - 1);
  EXPECT_GT(std::sqrt(squares / kTimes), 0.4) << "said errors are far too large";
}

TEST(Changes, AreToldFromErrors) {
  HeightRaster before = raster_of(150, 150, 0.2, [](double e, double s) { return 0.2 * e + 0.1 * s; });
  HeightRaster after = before;
  // A pit of 4 by 4 metres, half a metre deep.
  for (int y = 60; y < 80; ++y)
    for (int x = 50; x < 70; ++x) after.heights.at(x, y) -= 0.5f;
  add_errors(before, 0.03, 1), add_errors(after, 0.03, 2);
  const HeightChange change = change_between(before, after);
  EXPECT_NEAR(change.lost - change.gained, 8, 3 * change.sigma);
  EXPECT_NEAR(change.lost_surely, 8, 2.5);
  // One in twenty by chance.
  std::size_t by_chance = 0, cells = 0;
  for (int y = 0; y < 150; ++y)
    for (int x = 0; x < 150; ++x) {
      if (x >= 50 && x < 70 && y >= 60 && y < 80) {
        EXPECT_GT(change.significance.at(x, y), 1.96);
        continue;
      }
      ++cells, by_chance += change.significance.at(x, y) > 1.96f;
    }
  EXPECT_NEAR(static_cast<double>(by_chance) / static_cast<double>(cells), 0.05, 0.03);
  // Another grid of the same place.
  HeightRaster shifted = raster_of(100, 100, 0.25, [](double e, double s) { return 0.2 * e + 0.1 * s + 1; });
  const HeightChange up =
      change_between(raster_of(150, 150, 0.2, [](double e, double s) { return 0.2 * e + 0.1 * s; }), shifted);
  for (const float d : up.difference.data()) EXPECT_TRUE(std::isnan(d) || std::abs(d - 1) < 0.03f);
  EXPECT_EQ(up.gained_surely, 0);  // no errors are known
  shifted.frame.corner = {0, 0};
  EXPECT_THROW(change_between(before, shifted), Error);
}

}  // namespace
}  // namespace icefield
