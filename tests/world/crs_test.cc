#include "icefield/world/crs.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "icefield/base/error.h"
#include "icefield/world/world_frame.h"
#include "icefield/world/local_lattice.h"
#include "icefield/base/random.h"

namespace icefield {
namespace {

using Eigen::Vector3d;
using testing::HasSubstr;

TEST(Crs, IsWhatItsRegisterSays) {
  const Crs utm = crs_of("25832");
  EXPECT_EQ(utm.id, "EPSG:25832");
  EXPECT_EQ(utm.kind, CrsKind::projected);
  EXPECT_EQ(utm.units, "metre");
  EXPECT_TRUE(utm.vertical_name.empty());
  EXPECT_TRUE(utm.area.holds(46.8, 10.75));
  EXPECT_FALSE(utm.area.holds(46.8, 20));
  EXPECT_NEAR(utm.inverse_flattening, 298.257222101, 1e-6);
  EXPECT_THAT(utm.old_wkt, HasSubstr("PROJCS"));
  const Crs with_heights = crs_of("EPSG:25832 + EPSG:7837");
  EXPECT_EQ(with_heights.id, "EPSG:25832+7837");
  EXPECT_EQ(with_heights.kind, CrsKind::projected);
  EXPECT_FALSE(with_heights.vertical_name.empty());
  EXPECT_EQ(crs_of(with_heights.wkt).name, with_heights.name);  // its WKT says the same
  EXPECT_EQ(crs_of("EPSG:4326").kind, CrsKind::geographic);
  EXPECT_EQ(crs_of("EPSG:5773").kind, CrsKind::vertical);
  const Crs feet = crs_of("EPSG:2263");
  EXPECT_NEAR(feet.metres_per_unit, 1200.0 / 3937, 1e-12);
}

TEST(Crs, ThatIsNoneIsAnErrorThatNamesWhatLooksLikeIt) {
  try {
    crs_of("Lambert-93");
    FAIL();
  } catch (const Error& e) {
    EXPECT_EQ(e.kind(), ErrorKind::usage);
  }
  try {
    crs_of("EPSG:99999999");
    FAIL();
  } catch (const Error& e) {
    EXPECT_THAT(e.what(), HasSubstr("EPSG:99999999"));
    EXPECT_THAT(e.remedy(), HasSubstr("code"));
  }
  try {
    crs_of("ETRS89 zone 32N");
    FAIL();
  } catch (const Error& e) {
    EXPECT_THAT(e.remedy(), HasSubstr("EPSG:25832"));
  }
}

TEST(Crs, AreFoundByWordsAndByPlace) {
  const auto zones = find_crs("etrs89 utm zone", Eigen::Vector2d(46.8, 10.75));
  ASSERT_FALSE(zones.empty());
  EXPECT_EQ(zones[0].kind, CrsKind::projected);
  EXPECT_TRUE(std::any_of(zones.begin(), zones.end(), [](const CrsFound& c) { return c.id == "EPSG:25832"; }));
  EXPECT_FALSE(std::any_of(zones.begin(), zones.end(), [](const CrsFound& c) { return c.id == "EPSG:25833"; }));
  EXPECT_TRUE(find_crs("no such place on earth").empty());
  EXPECT_EQ(find_crs("25832").at(0).id, "EPSG:25832");
  EXPECT_LE(find_crs("utm", {}, 5).size(), 5u);
  EXPECT_EQ(utm_zone_of(46.8, 10.75), "EPSG:32632");
  EXPECT_EQ(utm_zone_of(-43.6, 170.2), "EPSG:32759");
  EXPECT_EQ(utm_zone_of(0, 180), "EPSG:32601");
}

TEST(CrsTransform, GoesThereAndBack) {
  // Zones of two nets, a conic, an oblique and a stereographic one, and one in feet.
  for (const char* crs :
       {"EPSG:25832", "EPSG:31254", "EPSG:2056", "EPSG:3035", "EPSG:32761", "EPSG:2154", "EPSG:2263"}) {
    const Crs known = crs_of(crs);
    const CrsTransform way("EPSG:4979", crs);
    for (const double u : {0.2, 0.5, 0.8}) {
      const Vector3d place(known.area.west + u * (known.area.east - known.area.west),
                           known.area.south + (1 - u) * (known.area.north - known.area.south), 2310);
      const auto in_grid = way(place);
      ASSERT_TRUE(in_grid) << crs;
      const auto back = way.back(*in_grid);
      ASSERT_TRUE(back) << crs;
      EXPECT_NEAR(back->x(), place.x(), 1e-11) << crs;  // degrees: a micrometre
      EXPECT_NEAR(back->y(), place.y(), 1e-11) << crs;
      EXPECT_NEAR(back->z(), place.z(), 1e-6) << crs;
    }
  }
  // x is east and y north whatever the register's order of axes: this one has northing first.
  const auto place = CrsTransform("EPSG:4979", "EPSG:31254")(Vector3d(10.75, 46.8, 0));
  EXPECT_NEAR(place->x(), 31900, 500);
  EXPECT_GT(place->y(), 100000);
}

TEST(CrsTransform, SaysWhatIsMissingAndWhatItCosts) {
  const CrsTransform way("EPSG:4979", "EPSG:25832+7837");  // heights by a file that does not come along
  ASSERT_FALSE(way.remarks().empty());
  EXPECT_TRUE(way.heights_unchanged());
  EXPECT_THAT(way.remarks()[0], HasSubstr("not on this machine"));
  // That of the world-wide geoid does.
  const CrsTransform rough("EPSG:4979", "EPSG:32632+5773");
  EXPECT_FALSE(rough.heights_unchanged());
  const double height = (*rough(Vector3d(10.75, 46.8, 2310))).z();
  EXPECT_GT(height, 2250);
  EXPECT_LT(height, 2275);
}

// What a projection does to lengths is in the coordinates and not in the block.
TEST(WorldFrame, KeepsLengthsAndComesBack) {
  for (const char* crs : {"EPSG:25832", "EPSG:31254", "EPSG:2056", "EPSG:3035", "EPSG:2263"}) {
    const Crs known = crs_of(crs);
    const CrsTransform way("EPSG:4979", crs);
    const Vector3d origin = round_origin(*way({known.area.west + 0.4 * (known.area.east - known.area.west),
                                               known.area.south + 0.6 * (known.area.north - known.area.south), 2000}));
    Datum datum;
    datum.crs = crs;
    const WorldFrame frame(datum, origin);
    EXPECT_TRUE(frame.curved());
    EXPECT_LT((frame.to_world(Vector3d::Zero()) - origin).norm(), 1e-6) << crs;
    for (const Vector3d& x : {Vector3d(500, -700, 30), Vector3d(-1000, 20, -400), Vector3d(3, 4, 5)})
      EXPECT_LT((frame.to_local(frame.to_world(x)) - x).norm(), 1e-6) << crs;
    // North in the grid is y, as at the origin.
    const Vector3d north = frame.to_world({0, 10, 0}) - frame.to_world({0, -10, 0});
    const double shear = std::string(crs) == "EPSG:3035" ? 0.01 : 1e-4;  // that one keeps areas, not angles
    EXPECT_LT(std::abs(north.x()) / north.norm(), shear) << crs;
    EXPECT_GT(north.y(), 0) << crs;
    // Scale by lengths in plan against the grid's.
    const double plan = (frame.to_world({50, 0, 0}) - frame.to_world({-50, 0, 0})).head<2>().norm() / 100;
    EXPECT_NEAR(plan, frame.grid_scale_at(Vector3d::Zero()), (shear + 1e-6) * plan) << crs;
    const Eigen::Matrix3d axes = frame.axes_at({400, 300, 20});
    EXPECT_LT((axes.transpose() * axes - Eigen::Matrix3d::Identity()).norm(), 1e-9);
  }
}

TEST(WorldFrame, HasTheGridsScaleAndTheEarthsCurvature) {
  Datum datum;
  datum.crs = "EPSG:25832";
  const Vector3d origin(500000, 5180000, 0);  // on the middle meridian
  const WorldFrame frame(datum, origin);
  EXPECT_NEAR(frame.grid_scale_at(Vector3d::Zero()), 0.9996, 1e-7);
  EXPECT_NEAR(frame.convergence_at(Vector3d::Zero()), 0, 1e-9);
  // A kilometre away the plane that touches lies d^2 / 2R above the ellipsoid.
  EXPECT_NEAR(frame.to_world({1000, 0, 0}).z(), 1e6 / (2 * 6388000.0), 2e-3);
  EXPECT_NEAR(frame.to_world({1000, 0, 0}).x(), 500999.6, 1e-3);
  // Higher up the same length is less of the grid.
  const WorldFrame high(datum, Vector3d(500000, 5180000, 3000));
  EXPECT_NEAR(high.grid_scale_at(Vector3d::Zero()), 0.9996 * (1 - 3000 / 6388000.0), 1e-6);
  // East of it the grid's north turns.
  const WorldFrame east(datum, Vector3d(600000, 5180000, 0));
  EXPECT_NEAR(east.convergence_at(Vector3d::Zero()), -1.316 * std::sin(46.77 * M_PI / 180) * M_PI / 180, 5e-4);
}

TEST(WorldFrame, GivesManyAtOnceTheSame) {
  Datum datum;
  datum.crs = "EPSG:2056";
  const WorldFrame frame(datum, Vector3d(2600000, 1200000, 500));
  for (const double reach : {40.0, 250.0, 900.0}) {
    std::vector<Vector3d> points, exact;
    for (int i = 0; i < 500; ++i)
      points.emplace_back(reach * std::sin(i * 1.7), reach * std::cos(i * 0.9), 0.2 * reach * std::sin(i * 0.31));
    for (const Vector3d& p : points) exact.push_back(frame.to_world(p));
    frame.to_world(points);
    for (std::size_t i = 0; i < points.size(); ++i) ASSERT_LT((points[i] - exact[i]).norm(), 1e-6) << reach;
  }
}

TEST(WorldFrame, WithoutACrsIsAnOrigin) {
  const WorldFrame frame(Datum{}, Vector3d(100, 200, 300));
  EXPECT_FALSE(frame.curved());
  EXPECT_EQ(frame.to_world({1, 2, 3}), Vector3d(101, 202, 303));
  EXPECT_EQ(frame.to_local({101, 202, 303}), Vector3d(1, 2, 3));
  EXPECT_EQ(frame.axes_at({1, 2, 3}), Eigen::Matrix3d::Identity());
}

TEST(WorldFrame, NeedsAProjectedCrsThatHoldsItsOrigin) {
  Datum datum;
  datum.crs = "EPSG:4326";
  EXPECT_THROW(WorldFrame(datum, Vector3d(10, 46, 0)), Error);
  datum.crs = "EPSG:25832";
  EXPECT_THROW(WorldFrame(datum, Vector3d(1e12, -1e12, 0)), Error);
}

TEST(LocalLattice, BringsPlacesOverEachByItself) {
  Datum datum;
  datum.crs = "EPSG:25832", datum.axes = Axes::east_north_up;
  const Vector3d origin(612000, 5195000, 2100);
  const WorldFrame frame(datum, origin);
  const LocalLattice lattice(frame, {611000, 5194500}, {613500, 5196000});
  CounterRandom random(2);
  std::vector<Vector3d> places;
  for (int k = 0; k < 500; ++k)
    places.emplace_back(random.uniform(611000, 613500), random.uniform(5194500, 5196000), random.uniform(1800, 2900));
  std::vector<Vector3d> local = places;
  lattice.to_local(local);
  double most = 0;
  for (std::size_t i = 0; i < places.size(); ++i) {
    most = std::max(most, (local[i] - frame.to_local(places[i])).norm());
    Vector3d alone = places[i];
    lattice.to_local({&alone, 1});
    EXPECT_EQ(alone, local[i]);
  }
  EXPECT_LT(most, 1e-6);
  const WorldFrame flat(Datum{}, Vector3d(100, 200, 300));
  Vector3d place(101, 202, 303);
  LocalLattice(flat, {0, 0}, {500, 500}).to_local({&place, 1});
  EXPECT_EQ(place, Vector3d(1, 2, 3));
}

}  // namespace
}  // namespace icefield
