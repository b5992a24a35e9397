#include "icefield/control/join_by_marks.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "icefield/base/error.h"
#include "icefield/base/statistics.h"
#include "icefield/control/georeference.h"
#include "simulate/made_up_control.h"
#include "tests/tools/made_up.h"
#include "tests/tools/sets.h"

namespace icefield {
namespace {

using Eigen::Vector3d;
using testing::HasSubstr;

// Two halves of a flight that share neither photo nor tie point, each with the points that it sees itself.
struct Halves {
  simulate::MatchedSet set;
  Block first, second;
  simulate::MadeUpControl known;
  JoinOptions options;
};

Block half_of(const Block& whole, std::size_t from, std::size_t to) {
  Block half = whole.without_points();
  half.photos.assign(whole.photos.begin() + static_cast<std::ptrdiff_t>(from),
                     whole.photos.begin() + static_cast<std::ptrdiff_t>(to));
  std::vector<Observation> seen;
  for (std::size_t p = 0; p < whole.points.size(); ++p) {
    seen.clear();
    for (Observation o : whole.of_point(p))
      if (o.photo.value >= from && o.photo.value < to) {
        o.photo = PosedIndex(o.photo.value - from);
        seen.push_back(o);
      }
    if (seen.size() >= 2) half.add_point(whole.points[p], seen);
  }
  return half;
}

const Halves& halves() {
  static const Halves made = [] {
    Halves h{
        test::small_set("flight", 24, 4, [](simulate::MatchedSetOptions& o) { o.features = 600; }), {}, {}, {}, {}};
    const OrientResult oriented = orient(h.set.photos, h.set.priors, h.set.pairs, {}, Executor(2));
    Block whole = oriented.blocks[0];
    std::sort(whole.photos.begin(), whole.photos.end(), [](const auto& a, const auto& b) { return a.photo < b.photo; });
    // Photos were sorted: observations must follow.
    std::vector<std::uint32_t> place(24);
    for (std::uint32_t i = 0; i < whole.photos.size(); ++i) place[whole.photos[i].photo.value] = i;
    for (Observation& o : whole.observations)
      o.photo = PosedIndex(place[oriented.blocks[0].photos[o.photo.value].photo.value]);
    h.first = half_of(whole, 0, 12);
    h.second = half_of(whole, 12, whole.photos.size());
    Similarity away;
    away.scale = 2.7;
    away.rotation = Eigen::Quaterniond(0.9, 0.3, -0.2, 0.4).normalized();
    away.translation = {5, -3, 2};
    transform(h.second, away);
    simulate::ControlPlan plan;
    plan.control = 18;
    h.known = simulate::make_control(h.set.truth, plan);
    h.options.adjust = final_adjust_options(h.first, h.set.priors, {}, oriented.summary.held);
    return h;
  }();
  return made;
}

MarkJoinResult join(const Control& control) {
  return join_by_marks(halves().first, halves().second, control, halves().options, Executor(2));
}

// Of projection centres against truth, after the best similarity, by the ground's pixel.
double centre_error_gsd(const Block& block) {
  std::vector<Vector3d> from, to;
  for (const PosedPhoto& photo : block.photos) {
    from.push_back(photo.pose.centre);
    to.push_back(halves().set.truth.photos[photo.photo.value].pose.centre);
  }
  const auto fit = fit_similarity(from, to);
  double squares = 0;
  for (std::size_t i = 0; i < from.size(); ++i) squares += (*fit * from[i] - to[i]).squaredNorm();
  return std::sqrt(squares / static_cast<double>(from.size())) / median(halves().set.gsd);
}

TEST(JoinByMarks, LaysHalvesThatShareNothingElseOnEachOther) {
  const MarkJoinResult joined = join(halves().known.control);
  ASSERT_TRUE(joined.join.joined) << joined.join.outcome;
  EXPECT_EQ(joined.join.block.photos.size(), 24u);
  EXPECT_GE(joined.spots.size(), 4u);
  for (const JoinedSpot& spot : joined.spots) EXPECT_TRUE(spot.agrees) << spot.point << " " << spot.off_px;
  EXPECT_LT(centre_error_gsd(joined.join.block), 3);
  const std::size_t marks = static_cast<std::size_t>(
      std::count_if(joined.join.block.observations.begin(), joined.join.block.observations.end(),
                    [](const Observation& o) { return o.kind == ObservationKind::mark; }));
  EXPECT_GE(marks, 4 * joined.spots.size());
}

// The marks that tie the halves are those of the control as well: they count once.
TEST(JoinByMarks, MarksThatTieTheHalvesCountOnceWhenItIsPlaced) {
  const Control& control = halves().known.control;
  const MarkJoinResult tied = join(control);
  const Block& joined = tied.join.block;
  GeoreferenceOptions options;
  options.adjust = halves().options.adjust;
  options.adjust.observation_sigma_px = 0.35;
  // Two points are known, and one in height: the others are spots, whose places the marks alone say.
  Control known = control;
  for (std::size_t p = 3; p < known.points.size(); ++p) known.points[p].use = ControlUse::spot;
  const Georeferenced once = georeference(joined, known, options, Executor(2));
  ASSERT_TRUE(once.done) << once.outcome;
  ASSERT_EQ(once.block.points.size(), joined.points.size());
  ASSERT_EQ(once.block.observations.size(), joined.observations.size());
  EXPECT_EQ(once.uncertain.points.size(), joined.points.size() + static_cast<std::size_t>(std::count_if(
                                                                     once.points.begin(), once.points.end(),
                                                                     [](const PointReport& p) { return p.located; })));
  // The same block whose tie points do not tell that they are marks.
  Block unknown = joined;
  for (Observation& o : unknown.observations) o.kind = ObservationKind::feature;
  const Georeferenced twice = georeference(unknown, known, options, Executor(2));
  ASSERT_TRUE(twice.done) << twice.outcome;
  // Of each tie point that is a mark two measurements for each photo less, and three unknowns.
  std::size_t measurements = 0, unknowns = 0;
  for (std::size_t i = 0; i < joined.points.size(); ++i)
    if (joined.of_point(i)[0].kind != ObservationKind::feature)
      measurements += 2 * joined.of_point(i).size(), unknowns += 3;
  ASSERT_GE(unknowns, 12u);
  EXPECT_EQ(once.uncertain.redundancy, twice.uncertain.redundancy - (measurements - unknowns));
  // And they hold the halves together whatever becomes of their coordinates.
  for (std::size_t i = 0; i < joined.points.size(); ++i) {
    if (joined.of_point(i)[0].kind == ObservationKind::feature) continue;
    EXPECT_LT((once.fitted * joined.points[i] - once.block.points[i]).norm(), 20 * median(halves().set.gsd)) << i;
  }
}

TEST(JoinByMarks, NamesAWrongSpotAndRefusesWhatCannotBe) {
  Control control = halves().known.control;
  const MarkJoinResult right = join(control);
  ASSERT_GE(right.spots.size(), 5u);
  // All marks of one spot in the second half are of another stone, 40 px away.
  const std::uint32_t wrong = right.spots[1].point;
  for (Mark& mark : control.marks)
    if (mark.point == wrong && mark.photo.value >= 12) mark.pixel += Eigen::Vector2d(40, 25);
  const MarkJoinResult joined = join(control);
  ASSERT_TRUE(joined.join.joined) << joined.join.outcome;
  for (const JoinedSpot& spot : joined.spots) EXPECT_EQ(spot.agrees, spot.point != wrong) << spot.point;
  EXPECT_LT(centre_error_gsd(joined.join.block), 3);

  Control two = halves().known.control;
  std::erase_if(two.marks,
                [&](const Mark& m) { return m.point != right.spots[0].point && m.point != right.spots[1].point; });
  const MarkJoinResult refused = join(two);
  EXPECT_FALSE(refused.join.joined);
  EXPECT_THAT(refused.join.outcome, HasSubstr("three needed"));
  EXPECT_TRUE(refused.join.block.photos.empty());
  // Spots that are mixed up in one half.
  Control mixed = halves().known.control;
  for (Mark& mark : mixed.marks)
    if (mark.photo.value >= 12)
      for (std::size_t k = 0; k < right.spots.size(); ++k)
        if (mark.point == right.spots[k].point) {
          mark.point = right.spots[(k + 1) % right.spots.size()].point;
          break;
        }
  EXPECT_FALSE(join(mixed).join.joined);
  EXPECT_THAT(join(mixed).join.outcome, HasSubstr("do not lie to each other alike"));
}

}  // namespace
}  // namespace icefield
