#include "icefield/control/georeference.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "icefield/base/error.h"
#include "icefield/base/random.h"
#include "icefield/base/statistics.h"
#include "simulate/made_up_control.h"
#include "tests/tools/made_up.h"
#include "tests/tools/sets.h"

namespace icefield {
namespace {

using Eigen::Vector3d;
using testing::AnyOf;
using testing::Contains;
using testing::HasSubstr;

// A flight of 24 photos, oriented once for all cases.
struct Flight {
  simulate::MatchedSet set;
  OrientResult oriented;
  GeoreferenceOptions options;
  double gsd;
};
const Flight& flight() {
  static const Flight made = [] {
    Flight f{test::small_set("flight", 24, 4, [](simulate::MatchedSetOptions& o) { o.features = 900; }), {}, {}, 0};
    f.oriented = orient(f.set.photos, f.set.priors, f.set.pairs, {}, Executor(2));
    f.options.adjust = final_adjust_options(f.oriented.blocks[0], f.set.priors, {}, f.oriented.summary.held);
    f.options.adjust.observation_sigma_px = f.oriented.precision[0].sigma_px;
    f.gsd = median(f.set.gsd);
    return f;
  }();
  return made;
}
simulate::MadeUpControl control_of(const std::function<void(simulate::ControlPlan&)>& change = {}) {
  simulate::ControlPlan plan;
  if (change) change(plan);
  return simulate::make_control(flight().set.truth, plan);
}
Georeferenced place(const Control& control, const GeoreferenceOptions& options = flight().options, int threads = 2) {
  return georeference(flight().oriented.blocks[0], control, options, Executor(threads));
}
double centre_error(const Georeferenced& placed) {
  double squares = 0;
  for (const PosedPhoto& photo : placed.block.photos)
    squares += (photo.pose.centre - flight().set.truth.photos[photo.photo.value].pose.centre).squaredNorm();
  return std::sqrt(squares / static_cast<double>(placed.block.photos.size()));
}

TEST(Georeference, BringsCheckPointsWithinAPixel) {
  const auto known = control_of();
  const Georeferenced placed = place(known.control);
  ASSERT_TRUE(placed.done) << placed.outcome;
  EXPECT_EQ(placed.control_used, 5u);
  double plan = 0, height = 0, scaled = 0;
  for (std::size_t p = 5; p < 9; ++p) {
    const PointReport& report = placed.points[p];
    ASSERT_TRUE(report.located);
    EXPECT_FALSE(report.used);
    const Vector3d e = report.position - known.places[p];
    plan += e.head<2>().squaredNorm() / 4, height += e.z() * e.z() / 4;
    scaled += e.cwiseQuotient(report.sigma).squaredNorm() / 12;
  }
  EXPECT_LT(std::sqrt(plan), flight().gsd);
  EXPECT_LT(std::sqrt(height), 1.5 * flight().gsd);
  EXPECT_GT(std::sqrt(scaled), 0.4);  // what is said of them is so, as far as four points can tell
  EXPECT_LT(std::sqrt(scaled), 1.8);
  EXPECT_EQ(placed.block.points.size(), flight().oriented.blocks[0].points.size());
  for (const PointReport& report : placed.points) EXPECT_EQ(report.fault, "");
  for (const MarkReport& report : placed.marks) EXPECT_EQ(report.fault, "");
  ASSERT_EQ(placed.groups.size(), 5u);  // control and check in plan and height, marks
  for (const ControlGroup& group : placed.groups) EXPECT_GT(group.rms, 0) << group.what;
}

TEST(Georeference, GivesTheSameBytesForAnyNumberOfThreads) {
  const auto known = control_of([](simulate::ControlPlan& p) { p.fixes = true; });
  const Bytes one = block_to_bytes(place(known.control, flight().options, 1).block);
  EXPECT_EQ(one, block_to_bytes(place(known.control, flight().options, 7).block));
}

TEST(Georeference, CheckPointsTakeNoPart) {
  auto known = control_of();
  const Bytes before = block_to_bytes(place(known.control).block);
  known.control.points[6].position += Vector3d(3, -4, 5);
  for (Mark& mark : known.control.marks)
    if (mark.point == 7) mark.pixel += Eigen::Vector2d(40, 7);
  const Georeferenced placed = place(known.control);
  EXPECT_EQ(block_to_bytes(placed.block), before);
  EXPECT_NEAR(placed.points[6].error.norm(), std::sqrt(50), 0.1);
}

TEST(Georeference, AGrossErrorIsFoundAndNamed) {
  for (const std::uint32_t wrong : {0u, 2u, 4u}) {
    auto known = control_of();
    known.control.points[wrong].position += Vector3d(0.2, -0.15, 0.1);
    const Georeferenced placed = place(known.control);
    ASSERT_TRUE(placed.done);
    for (std::uint32_t p = 0; p < 5; ++p) EXPECT_EQ(placed.points[p].used, p != wrong) << wrong;
    EXPECT_THAT(placed.points[wrong].fault, HasSubstr("deviates")) << wrong;
    EXPECT_LT(centre_error(placed), 4 * flight().gsd);
  }
}

TEST(Georeference, ExchangedPointsAreCalledSo) {
  auto known = control_of();
  std::swap(known.control.points[1].position, known.control.points[3].position);
  const Georeferenced placed = place(known.control);
  ASSERT_TRUE(placed.done) << placed.outcome;
  EXPECT_THAT(placed.points[1].fault, HasSubstr("exchanged with 'G4'"));
  EXPECT_THAT(placed.points[3].fault, HasSubstr("exchanged with 'G2'"));
  EXPECT_EQ(placed.control_used, 3u);
  EXPECT_THAT(placed.remarks, Contains(HasSubstr("hardly show")));
}

TEST(Georeference, AWrongMarkIsFoundAndItsPointStays) {
  for (const double px : {4.0, 60.0}) {
    auto known = control_of();
    std::uint32_t wrong = 0;
    while (known.control.marks[wrong].point != 2) ++wrong;
    known.control.marks[wrong].pixel += px * Eigen::Vector2d(0.6, 0.8);
    const Georeferenced placed = place(known.control);
    ASSERT_TRUE(placed.done);
    EXPECT_FALSE(placed.marks[wrong].used) << px;
    EXPECT_NE(placed.marks[wrong].fault, "");
    EXPECT_TRUE(placed.points[2].used);
    EXPECT_EQ(std::count_if(placed.marks.begin(), placed.marks.end(), [](const MarkReport& m) { return !m.used; }), 1);
  }
}

TEST(Georeference, PositionsOfPhotosAverage) {
  const auto known = control_of([](simulate::ControlPlan& p) { p.control = 0, p.fixes = true; });
  const Georeferenced placed = place(known.control);
  ASSERT_TRUE(placed.done) << placed.outcome;
  EXPECT_EQ(placed.fixes_used, 24u);
  // A shift of 1.5 m / sqrt(24) in each coordinate, and what turns and scale add: within three times that.
  EXPECT_LT(centre_error(placed), 3 * 1.5 * std::sqrt(7.0 / 24));
  EXPECT_GT((placed.uncertain.poses[0].bottomRightCorner<3, 3>().trace()), 3 * 1.5 * 1.5 / 24 * 0.8);
  const double said = std::sqrt(placed.uncertain.poses[12].bottomRightCorner<3, 3>().trace());
  EXPECT_LT(said, 1.5);
}

TEST(Georeference, ABadPositionIsNamed) {
  auto known = control_of([](simulate::ControlPlan& p) { p.control = 0, p.fixes = true; });
  known.control.fixes[7].position.x() += 25;
  known.control.fixes[11].position = Vector3d(-4.4e6, 1e5, 3);
  const Georeferenced placed = place(known.control);
  ASSERT_TRUE(placed.done);
  EXPECT_EQ(placed.fixes_used, 22u);
  EXPECT_FALSE(placed.fixes[7].used);
  EXPECT_THAT(placed.fixes[11].fault, HasSubstr("km from the others"));
}

TEST(Georeference, AShiftThatAllPositionsShareIsTakenOff) {
  const auto known = control_of([](simulate::ControlPlan& p) {
    p.fixes = true, p.fix_sigma_m = 0.03, p.fix_height_sigma_m = 0.05, p.fix_shift = {0.4, 0, 47.2};
  });
  const Georeferenced placed = place(known.control);
  ASSERT_TRUE(placed.done);
  EXPECT_NEAR(placed.fix_shift.z(), 47.2, 0.15);
  EXPECT_NEAR(placed.fix_shift.x(), 0.4, 0.1);
  EXPECT_EQ(placed.control_used, 5u);
  EXPECT_EQ(placed.fixes_used, 24u);
  EXPECT_LT(centre_error(placed), 0.08);
}

TEST(Georeference, OnePointShowsTheShiftOfAllPositionsAsWell) {
  const auto known = control_of([](simulate::ControlPlan& p) {
    p.control = 1, p.fixes = true, p.fix_shift = {0, 0, 47.2};
  });
  const Georeferenced placed = place(known.control);
  ASSERT_TRUE(placed.done) << placed.outcome;
  EXPECT_EQ(placed.control_used, 1u);
  EXPECT_EQ(placed.fixes_used, 24u);
  EXPECT_NEAR(placed.fix_shift.z(), 47.2, 2.5);
  EXPECT_LT(centre_error(placed), 3 * 1.5 * std::sqrt(7.0 / 24));
  EXPECT_THAT(placed.remarks, Contains(HasSubstr("Only 1 control point")));
}

// A block that knows a length and which of its points are level stands upright, with x, scale and origin as told.
TEST(Georeference, PointsSayHowABlockStands) {
  auto known = control_of();
  for (SurveyedPoint& point : known.control.points) point.use = ControlUse::spot;
  Control& control = known.control;
  control.lengths = {{0, 1, (known.places[0] - known.places[1]).norm(), 0.005, ControlUse::control}};
  control.frame.level = {0, 1, 2, 3, 5};  // all of them are at one height
  control.frame.axis = {2, 3};
  control.frame.zero = 4;
  const Georeferenced placed = place(control);
  ASSERT_TRUE(placed.done) << placed.outcome;
  EXPECT_THAT(placed.outcome, HasSubstr("1 known length and points that say how it stands"));
  EXPECT_THAT(placed.remarks, Contains(HasSubstr("of one plane")));
  const Vector3d x = (known.places[3] - known.places[2]).normalized(), up = Vector3d::UnitZ();
  for (std::size_t p = 0; p < control.points.size(); ++p) {
    const Vector3d from = known.places[p] - known.places[4], expected(x.dot(from), up.cross(x).dot(from), from.z());
    EXPECT_LT((placed.points[p].position - expected).norm(), 3 * flight().gsd) << p;
  }
  for (const PosedPhoto& photo : placed.block.photos) EXPECT_GT(photo.pose.centre.z(), 10);  // over the ground
  EXPECT_LT(placed.points[4].position.norm(), 1e-6);  // where it begins, whatever the adjustment has moved
  // Without a length it is turned alone.
  control.lengths.clear();
  const Georeferenced turned = place(control);
  ASSERT_TRUE(turned.done) << turned.outcome;
  EXPECT_THAT(turned.remarks, Contains(HasSubstr("No length is known")));
  EXPECT_NEAR(turned.points[5].position.z(), 0, 0.02);
  // By a plumb line: from the ground to a photo's height there is none among the marks, so two points do as one.
  control.frame = {};
  control.frame.up.emplace(2, 3);
  const Georeferenced upright = place(control);
  ASSERT_TRUE(upright.done) << upright.outcome;
  const Vector3d line = upright.points[3].position - upright.points[2].position;
  EXPECT_GT(line.z() / line.norm(), 0.9999);
  // What cannot be is said.
  control.frame.axis.emplace(2, 3);
  EXPECT_THAT(place(control).outcome, HasSubstr("stand over each other"));
  control.frame = {};
  control.frame.level = {0, 1};
  EXPECT_THROW(place(control), Error);
  control.frame.level = {0, 1, 99};
  EXPECT_THROW(place(control), Error);
  control.frame.level = {0, 1, 2};
  std::erase_if(control.marks, [](const Mark& m) { return m.point == 2; });
  EXPECT_THAT(place(control).outcome, HasSubstr("is not located"));
}

// What the photos of the flight say of how they were held: the mount is off by what all share, each by a little more.
// `leaning_deg`: all of them take the ground to lean by that.
std::vector<PhotoView> views_of_flight(double shared_deg, double leaning_deg = 0) {
  CounterRandom random(77);
  std::vector<PhotoView> views;
  const auto turned = [](const Vector3d& axis, double degrees) {
    return Eigen::Quaterniond(Eigen::AngleAxisd(degrees * M_PI / 180, axis));
  };
  for (std::uint32_t i = 0; i < flight().set.truth.photos.size(); ++i) {
    const Eigen::Quaterniond off =
        turned(Vector3d::UnitX(), shared_deg + 0.5 * random.normal()) * turned(Vector3d::UnitZ(), 2 * random.normal());
    const Eigen::Quaterniond held =
        off * flight().set.truth.photos[i].pose.orientation * turned(Vector3d::UnitX(), leaning_deg);
    views.push_back({PhotoIndex(i), held * Vector3d::UnitZ(), Vector3d(held * Vector3d::UnitY()), 0.035, 0.17});
  }
  return views;
}
Block leaning(double degrees) {
  Block block = flight().oriented.blocks[0];
  Similarity turn;
  turn.rotation = Eigen::AngleAxisd(degrees * M_PI / 180, Vector3d(1, 0.4, 0.1).normalized());
  transform(block, turn);
  return block;
}
// How far the photos lean against the truth, degrees, in the middle, and how far they are turned about the vertical.
double lean_of(const Block& block, const Vector3d& direction = Vector3d::UnitZ()) {
  std::vector<double> off;
  for (const PosedPhoto& photo : block.photos) {
    const Vector3d is = photo.pose.orientation * direction,
                   was = flight().set.truth.photos[photo.photo.value].pose.orientation * direction;
    off.push_back(std::atan2(is.cross(was).norm(), is.dot(was)) * 180 / M_PI);
  }
  return median(off);
}

TEST(Georeference, PhotosThatKnowTheirTiltLevelAnObject) {
  auto known = control_of();
  for (SurveyedPoint& point : known.control.points) point.use = ControlUse::spot;
  known.control.lengths = {{0, 1, (known.places[0] - known.places[1]).norm(), 0.005, ControlUse::control}};
  known.control.views = views_of_flight(0.3);
  const Georeferenced placed = georeference(leaning(35), known.control, flight().options, Executor(2));
  ASSERT_TRUE(placed.done) << placed.outcome;
  EXPECT_TRUE(placed.level_by_views);
  EXPECT_LT(lean_of(placed.block), 0.6);
  EXPECT_LT(lean_of(placed.block, Vector3d::UnitY()), 1.5);  // and north is y
  EXPECT_THAT(placed.remarks, Contains(HasSubstr("Up and north comes from what 24 photos say")));
  // From the frame that it came in.
  for (std::size_t i = 0; i < placed.block.photos.size(); i += 5)
    EXPECT_LT((placed.fitted * leaning(35).photos[i].pose.centre - placed.block.photos[i].pose.centre).norm(), 0.5);
  // Points that say what is up come first.
  known.control.frame.level = {0, 1, 2, 3};
  const Georeferenced by_points = georeference(leaning(35), known.control, flight().options, Executor(2));
  ASSERT_TRUE(by_points.done);
  EXPECT_FALSE(by_points.level_by_views);
  EXPECT_LT(lean_of(by_points.block), 0.1);
  // Tilts that contradict each other take no part.
  known.control.frame = {};
  for (std::size_t v = 0; v < known.control.views.size(); ++v)
    known.control.views[v].up = Vector3d::Unit(static_cast<int>(v % 3));
  const Georeferenced without = georeference(leaning(35), known.control, flight().options, Executor(2));
  ASSERT_TRUE(without.done);
  EXPECT_FALSE(without.level_by_views);
  EXPECT_THAT(without.remarks, Contains(HasSubstr("contradict each other")));
}

// Positions on one line leave the turn about it open; there the tilts decide, and where control holds the block they
// change nothing, however wrong.
TEST(Georeference, TiltsDecideOnlyWhatNothingElseDoes) {
  auto known = control_of(
      [](simulate::ControlPlan& p) { p.control = 0, p.fixes = true, p.fix_sigma_m = p.fix_height_sigma_m = 0.3; });
  std::vector<PhotoFix> strip;
  const double row = known.control.fixes[0].position.y();
  for (const PhotoFix& fix : known.control.fixes)
    if (std::abs(fix.position.y() - row) < 4) strip.push_back(fix);
  ASSERT_GE(strip.size(), 3u);
  known.control.fixes = strip;
  known.control.marks.clear();
  known.control.points.clear();
  known.control.views = views_of_flight(0.3);
  const Georeferenced placed = georeference(leaning(9), known.control, flight().options, Executor(2));
  ASSERT_TRUE(placed.done) << placed.outcome;
  EXPECT_LT(lean_of(placed.block), 1);
  known.control.views.clear();
  const Georeferenced without = georeference(leaning(9), known.control, flight().options, Executor(2));
  EXPECT_TRUE(!without.done || lean_of(without.block) > 3);

  auto held = control_of();
  held.control.views = views_of_flight(3);
  EXPECT_LT(lean_of(place(held.control).block), 0.05);
  held.control.views = views_of_flight(0, 25);
  const Georeferenced wrong = place(held.control);
  EXPECT_LT(lean_of(wrong.block), 0.05);
  EXPECT_THAT(wrong.remarks, Contains(HasSubstr("25 degrees off what the control says")));
}

TEST(Georeference, TiltsAreOfThePhotoAsItIsStored) {
  const double azimuth = 0.7, elevation = -0.4;
  const PhotoView plain = photo_view(PhotoIndex(0), azimuth, elevation);
  // Right, down, forward of a photo with that line of sight.
  const Vector3d forward(std::sin(azimuth) * std::cos(elevation), std::cos(azimuth) * std::cos(elevation),
                         std::sin(elevation)),
      right(std::cos(azimuth), -std::sin(azimuth), 0), down = forward.cross(right);
  Eigen::Matrix3d axes;
  axes << right, down, forward;
  EXPECT_LT((axes * plain.up - Vector3d::UnitZ()).norm(), 1e-12);
  ASSERT_TRUE(plain.north);
  EXPECT_LT((axes * *plain.north - Vector3d::UnitY()).norm(), 1e-12);
  EXPECT_FALSE(photo_view(PhotoIndex(0), azimuth, -1.5).north);  // it looks down
  // Held upright by a quarter turn: what is shown above lies at the left of the stored photo (tag 6) or at its right.
  EXPECT_LT(photo_view(PhotoIndex(0), {}, 0, 6).up.x(), -0.99);
  EXPECT_GT(photo_view(PhotoIndex(0), {}, 0, 8).up.x(), 0.99);
  EXPECT_GT(photo_view(PhotoIndex(0), {}, 0, 3).up.y(), 0.99);
}

TEST(Georeference, ControlThatContradictsItselfLeavesThePositions) {
  auto known = control_of([](simulate::ControlPlan& p) { p.fixes = true; });
  const auto right = control_of([](simulate::ControlPlan& p) { p.fixes = true; });
  for (std::size_t p = 0; p < 5; ++p) known.control.points[p].position = right.control.points[(p + 1) % 5].position;
  const Georeferenced placed = place(known.control);
  ASSERT_TRUE(placed.done) << placed.outcome;
  EXPECT_EQ(placed.control_used, 0u);
  for (std::size_t p = 0; p < 5; ++p) EXPECT_THAT(placed.points[p].fault, HasSubstr("do not lie to each other")) << p;
  EXPECT_LT(centre_error(placed), 3 * 1.5 * std::sqrt(7.0 / 24));
}

TEST(Georeference, GuessedAccuraciesGiveWayToWhatPositionsShow) {
  const auto known = control_of([](simulate::ControlPlan& p) {
    p.control = 0, p.fixes = true, p.fixes_stated = false, p.fix_sigma_m = p.fix_height_sigma_m = 0.05;
  });
  const Georeferenced placed = place(known.control);
  ASSERT_TRUE(placed.done);
  EXPECT_LT(placed.fix_factor, 0.05);
  EXPECT_THAT(placed.remarks, Contains(HasSubstr("better")));
  EXPECT_LT(centre_error(placed), 0.1);
}

TEST(Georeference, KnownLengthsGiveTheScaleAndNothingElse) {
  auto known = control_of();
  Control control;
  control.points = known.control.points;
  control.marks = known.control.marks;
  for (SurveyedPoint& point : control.points) point.use = ControlUse::spot;
  const auto length = [&](std::uint32_t a, std::uint32_t b) { return (known.places[a] - known.places[b]).norm(); };
  control.lengths = {{0, 4, length(0, 4), 0.01, ControlUse::control},
                     {1, 4, length(1, 4), 0.01, ControlUse::control},
                     {2, 3, length(2, 3), 0.01, ControlUse::control},
                     {5, 6, length(5, 6), 0.01, ControlUse::check}};
  const Georeferenced placed = place(control);
  ASSERT_TRUE(placed.done) << placed.outcome;
  EXPECT_EQ(placed.lengths_used, 3u);
  EXPECT_NEAR(placed.lengths[3].length, length(5, 6), 0.15);
  EXPECT_LT(std::abs(placed.lengths[3].error), 5 * placed.lengths[3].expected + 0.05);
  // One that was measured to another point.
  control.lengths[1].length += 0.9;
  const Georeferenced found = place(control);
  ASSERT_TRUE(found.done) << found.outcome;
  EXPECT_FALSE(found.lengths[1].used);
  EXPECT_NE(found.lengths[1].fault, "");
  EXPECT_TRUE(found.lengths[0].used);
}

TEST(Georeference, SaysWhatItCannotDo) {
  auto known = control_of();
  Control two;
  two.points = {known.control.points[0], known.control.points[1]};
  for (const Mark& mark : known.control.marks)
    if (mark.point < 2) two.marks.push_back(mark);
  Georeferenced placed = place(two);
  EXPECT_FALSE(placed.done);
  EXPECT_THAT(placed.outcome, HasSubstr("three of either are needed"));
  EXPECT_THAT(place(Control{}).outcome, HasSubstr("no known length"));
  // All names mixed up.
  auto mixed = control_of();
  for (int p = 0; p < 5; ++p) mixed.control.points[p].position = known.control.points[(p * 2 + 1) % 5].position;
  placed = place(mixed.control);
  EXPECT_FALSE(placed.done);
  EXPECT_THAT(placed.outcome, HasSubstr("mixed up"));
  // Points without marks, and marks that do not meet.
  auto blind = control_of();
  std::erase_if(blind.control.marks, [](const Mark& m) { return m.point == 3; });
  placed = place(blind.control);
  EXPECT_TRUE(placed.done);
  EXPECT_THAT(placed.points[3].fault, HasSubstr("marked in no photo"));
  EXPECT_EQ(placed.control_used, 4u);
}

TEST(Georeference, PartlyKnownPointsHoldWhatIsKnown) {
  auto known = control_of();
  known.control.points[1].sigma = Vector3d(kNotKnown, kNotKnown, 0.01);  // a height alone
  known.control.points[1].position.head<2>() += Eigen::Vector2d(30, 30);
  known.control.points[4].sigma.z() = kNotKnown;
  known.control.points[4].position.z() -= 60;
  const Georeferenced placed = place(known.control);
  ASSERT_TRUE(placed.done) << placed.outcome;
  EXPECT_EQ(placed.control_used, 5u);
  EXPECT_LT(centre_error(placed), 4 * flight().gsd);
  EXPECT_EQ(placed.points[1].error.x(), 0);
  EXPECT_NE(placed.points[1].error.z(), 0);
}

TEST(Georeference, TheAntennaStandsBesideTheCamera) {
  auto known = control_of(
      [](simulate::ControlPlan& p) { p.control = 0, p.fixes = true, p.fix_sigma_m = p.fix_height_sigma_m = 0.02; });
  const Vector3d arm(0.12, -0.05, -0.31);
  for (PhotoFix& fix : known.control.fixes)
    fix.position += flight().set.truth.photos[fix.photo.value].pose.orientation.conjugate() * arm;
  const double without = centre_error(place(known.control));
  known.control.antenna = arm;
  const double with = centre_error(place(known.control));
  EXPECT_GT(without, 0.2);
  EXPECT_LT(with, 0.06);
}

TEST(Georeference, ChecksWhatComesFromOutside) {
  auto known = control_of();
  known.control.marks[0].point = 77;
  EXPECT_THROW(place(known.control), Error);
  known = control_of();
  known.control.points[0].sigma.x() = 0;
  EXPECT_THROW(place(known.control), Error);
  known = control_of();
  known.control.lengths = {{3, 3, 1, 0.1, ControlUse::control}};
  EXPECT_THROW(place(known.control), Error);
}

}  // namespace
}  // namespace icefield
