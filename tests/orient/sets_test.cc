// Orientation on made-up sets of many kinds, each with the faults that sets have.
#include <gtest/gtest.h>

#include <numeric>

#include "icefield/orient/join.h"
#include "src/orient/distribute.h"
#include "tests/tools/made_up.h"
#include "tests/tools/sets.h"

namespace icefield {
namespace {

using simulate::MatchedSetOptions;
using test::orient_set;
using test::SetScore;
using test::small_set;

struct Kind {
  const char* kind;
  int photos;
  double largest_median;  // GSD
  double largest_ratio;
};

class Ways : public testing::TestWithParam<OrientWay> {};
INSTANTIATE_TEST_SUITE_P(Both, Ways, testing::Values(OrientWay::growing, OrientWay::all_at_once),
                         [](const auto& way) { return way.param == OrientWay::growing ? "Growing" : "AllAtOnce"; });

TEST_P(Ways, PoseAllPhotosOfEachKindAndNoneWrongly) {
  OrientOptions options;
  options.way = GetParam();
  for (const Kind& kind : {Kind{"ring", 24, 1.0, 1.2}, Kind{"flight", 30, 0.5, 1.2}, Kind{"plane", 30, 0.8, 2},
                           Kind{"gorge", 60, 1.2, 2}, Kind{"hut", 36, 1.0, 2}}) {
    const SetScore score =
        orient_set(small_set(kind.kind, kind.photos, 5, [](MatchedSetOptions& o) { o.features = 1200; }), options);
    EXPECT_EQ(score.result.blocks.size(), 1u) << kind.kind;
    EXPECT_EQ(score.usable_missed, 0u) << kind.kind;
    EXPECT_EQ(score.wrong, 0u) << kind.kind;
    EXPECT_LT(score.median_gsd, kind.largest_median) << kind.kind;
    // The block knows how good it is: errors of centres are what its covariances say. (Their median lies below the
    // expectation.) A gorge or a plane has one way of bending that outweighs all others, so that one set alone
    // scatters more.
    EXPECT_LT(score.median_ratio, kind.largest_ratio) << kind.kind;
    EXPECT_GT(score.median_ratio, 0.4) << kind.kind;
  }
}

TEST_P(Ways, TheSameBytesForAnyNumberOfThreads) {
  OrientOptions options;
  options.way = GetParam();
  const simulate::MatchedSet set = small_set("gorge", 40, 2);
  const Bytes one = block_to_bytes(orient_set(set, options, 1).result.blocks.at(0));
  EXPECT_EQ(one, block_to_bytes(orient_set(set, options, 7).result.blocks.at(0)));
}

TEST(OrientSets, PlacesThatLookAlikeAreNotLaidOnEachOther) {
  // Front and back of the hut share seven tenths of their texture: half of the verified pairs are wrong.
  const simulate::MatchedSet set =
      small_set("hut", 36, 3, [](MatchedSetOptions& o) { o.twins = true, o.features = 1500; });
  ASSERT_GT(set.wrong_pairs, 30u);
  const SetScore score = orient_set(set);
  EXPECT_EQ(score.wrong, 0u);
  EXPECT_GE(score.posed, 30u);
  EXPECT_GT(score.result.summary.cut_as_twins + score.result.summary.cut_by_turn, 30u);
  // Without the look they are.
  OrientOptions blind;
  blind.check_twins = false;
  EXPECT_GT(orient_set(set, blind).wrong, 10u);
}

TEST(OrientSets, APartThatOnlyHangsOnItsTwinIsDoubtfulAndCanBeLeftOut) {
  // In this set no pair leads around the corners from the front: eleven photos are held by two wrong pairs with the
  // back.
  const simulate::MatchedSet set =
      small_set("hut", 36, 11, [](MatchedSetOptions& o) { o.twins = true, o.features = 1500; });
  const SetScore score = orient_set(set);
  EXPECT_EQ(score.wrong, 0u);
  ASSERT_GE(score.result.doubtful.size(), 5u);
  EXPECT_LE(score.result.doubtful.size(), 14u);
  EXPECT_NE(score.result.doubtful[0].reason.find("only look alike"), std::string::npos)
      << score.result.doubtful[0].reason;
  OrientOptions careful;
  careful.leave_out_doubtful = true;
  const SetScore sure = orient_set(set, careful);
  EXPECT_EQ(sure.wrong, 0u);
  EXPECT_TRUE(sure.result.doubtful.empty());
  EXPECT_EQ(sure.posed + score.result.doubtful.size(), score.posed);
  EXPECT_LT(sure.largest_gsd, 10);
}

TEST(OrientSets, FisheyesSeenThroughToTheirRims) {
  const SetScore score =
      orient_set(small_set("ring", 24, 4, [](MatchedSetOptions& o) { o.fisheye = true, o.features = 1200; }));
  ASSERT_EQ(score.result.blocks.size(), 1u);
  EXPECT_EQ(score.posed, 24u);
  EXPECT_EQ(score.wrong, 0u);
  EXPECT_LT(score.median_gsd, 1);
  EXPECT_LT(score.median_ratio, 1.3);
  EXPECT_EQ(score.result.blocks[0].cameras[0].model, CameraModel::fisheye);
}

TEST(OrientSets, ALoopComesBackToItsStart) {
  // Two hundred photos along four walls: the drift of the way round is some hundred pixels where it closes.
  const simulate::MatchedSet set = small_set("gorge", 200, 1);
  const SetScore score = orient_set(set);
  ASSERT_EQ(score.result.blocks.size(), 1u);
  EXPECT_EQ(score.posed, 200u);
  EXPECT_EQ(score.wrong, 0u);
  EXPECT_LT(score.largest_gsd, 10);
  // First and last photos share points, so the block is closed.
  const Block& block = score.result.blocks[0];
  std::size_t across = 0;
  for (std::size_t i = 0; i < block.points.size(); ++i) {
    bool first = false, last = false;
    for (const Observation& o : block.of_point(i))
      first |= block.photos[o.photo].photo.value < 4, last |= block.photos[o.photo].photo.value >= 196;
    across += first && last;
  }
  EXPECT_GT(across, 20u);
}

TEST(OrientSets, APanoramaInsideASetDoesNoHarm) {
  const SetScore score = orient_set(small_set("ring", 28, 4, [](MatchedSetOptions& o) { o.turned = 7; }));
  EXPECT_EQ(score.result.blocks.size(), 1u);
  EXPECT_EQ(score.wrong, 0u);
  EXPECT_EQ(score.usable_missed, 0u);
}

TEST(OrientSets, TwoLensesOfUnknownFocalLength) {
  const simulate::MatchedSet set =
      small_set("ring", 24, 6, [](MatchedSetOptions& o) { o.two_lenses = true, o.focal_error_percent = 100; });
  const SetScore score = orient_set(set);
  EXPECT_EQ(score.result.blocks.size(), 1u);
  EXPECT_EQ(score.wrong, 0u);
  EXPECT_EQ(score.usable_missed, 0u);
  for (std::size_t c = 0; c < 2; ++c)
    EXPECT_NEAR(score.result.blocks[0].cameras[c].focal() / set.truth.cameras[c].focal(), 1, 0.02) << c;
}

TEST(OrientSets, BlurredPhotosAreDoubtfulOrRight) {
  const simulate::MatchedSet set =
      small_set("flight", 40, 2, [](MatchedSetOptions& o) { o.blurred_share = 0.15, o.features = 1200; });
  const SetScore score = orient_set(set);
  EXPECT_EQ(score.wrong, 0u);
  // Nearly all of the blurred ones that are in, and hardly any other.
  std::size_t blurred = 0;
  for (const DoubtfulPhoto& d : score.result.doubtful) {
    blurred += d.photo.value >= 16 && d.photo.value < 22;
    EXPECT_TRUE(d.reason.find("GSD") != std::string::npos || d.reason.find("common points") != std::string::npos ||
                d.reason.find("blurred") != std::string::npos)
        << d.reason;
  }
  std::size_t in = 0;
  for (const PosedPhoto& p : score.result.blocks[0].photos) in += p.photo.value >= 16 && p.photo.value < 22;
  ASSERT_GT(blurred, 0u);
  EXPECT_GE(blurred + 1, in);
  EXPECT_LE(score.result.doubtful.size(), blurred + 2);
  OrientOptions strict;
  strict.leave_out_doubtful = true;
  const SetScore without = orient_set(set, strict);
  EXPECT_EQ(without.posed + score.result.doubtful.size(), score.posed);
  for (const DoubtfulPhoto& d : score.result.doubtful) {
    const auto left = std::find_if(without.result.unposed.begin(), without.result.unposed.end(),
                                   [&](const UnposedPhoto& u) { return u.photo == d.photo; });
    ASSERT_NE(left, without.result.unposed.end());
    EXPECT_EQ(left->reason.rfind("doubtful: ", 0), 0u) << left->reason;
  }
}

TEST(OrientSets, AMissingMiddleLeavesTwoBlocks) {
  const SetScore score = orient_set(small_set("flight", 60, 1, [](MatchedSetOptions& o) { o.missing_share = 0.25; }));
  EXPECT_EQ(score.result.blocks.size(), 2u);
  EXPECT_EQ(score.wrong, 0u);
  EXPECT_EQ(score.usable_missed, 0u);
}

TEST(OrientSets, WrongPairsAreCutAndCounted) {
  // Ten pairs whose relative pose is that of other pairs: cycles do not close.
  simulate::MatchedSet set = small_set("ring", 24, 8);
  std::vector<std::size_t> general;
  for (std::size_t p = 0; p < set.pairs.size(); ++p)
    if (set.pairs[p].geometry == PairGeometry::depth) general.push_back(p);
  std::size_t spoiled = 0;
  for (std::size_t k = 0; k < 10; ++k) {
    PairMatches &a = set.pairs[general[7 * k % general.size()]], &b = set.pairs[general[(7 * k + 40) % general.size()]];
    // Features of the one photo matched with what the other pair sees at their places.
    const std::size_t n = std::min(a.matches.size(), b.matches.size());
    for (std::size_t m = 0; m < n; ++m)
      a.matches[m].second = FeatureIndex(b.matches[m].second.value % set.photos[a.second.value].keypoints.size());
    a.matches.resize(n);
    a.matrix = essential_from_pose(
        {rotation_from_vector({0, 0.9, 0.3 * static_cast<double>(k % 3)}), Eigen::Vector3d::UnitX()});
    ++spoiled;
  }
  const SetScore score = orient_set(set);
  EXPECT_EQ(score.wrong, 0u);
  EXPECT_EQ(score.usable_missed, 0u);
  EXPECT_GT(score.result.summary.cut_by_turn + score.result.summary.cut_by_direction, spoiled / 2);
}

TEST(OrientSets, LensesAreFoundWholeAndWithTheirErrors) {
  const simulate::MatchedSet set = small_set("flight", 40, 3, [](MatchedSetOptions& o) { o.features = 1200; });
  const SetScore score = orient_set(set);
  const Camera &found = score.result.blocks[0].cameras[0], &truth = set.truth.cameras[0];
  ASSERT_EQ(found.model, CameraModel::brown);
  const CameraUncertainty& uncertain = score.result.precision[0].cameras[0];
  for (std::size_t k = 0; k < uncertain.parameters.size(); ++k) {
    const auto p = static_cast<std::size_t>(uncertain.parameters[k]);
    EXPECT_LT(std::abs(found.parameters[p] - truth.parameters[p]), 4 * uncertain.deviation(k))
        << camera_parameters(found.model)[p].name;
  }
  // With the two radial terms alone the block bends.
  OrientOptions poor;
  poor.free_whole_lens = false;
  EXPECT_GT(orient_set(set, poor).median_gsd, 3 * score.median_gsd);
}

TEST(Distribute, SharesOutWhatDoesNotClose) {
  // Twelve photos in a circle whose steps are each turned and stretched a little.
  std::vector<Pose> truth;
  for (int i = 0; i < 12; ++i) {
    const double a = 0.5235987755982988 * i;
    truth.push_back(
        look_at({std::cos(a), std::sin(a), 0.1 * i * (12 - i) / 36.0}, {0, 0, 0}, Eigen::Vector3d::UnitZ()));
  }
  const auto step = [&](std::uint32_t i, std::uint32_t j) {
    return RelativeStep{
        i, j, truth[j].orientation * truth[i].orientation.conjugate(), truth[i].to_camera(truth[j].centre), 0, 1};
  };
  std::vector<RelativeStep> steps;
  std::vector<Pose> drifted = truth;
  for (std::uint32_t i = 0; i < 11; ++i) {
    RelativeStep s = step(i, i + 1);
    s.turn = rotation_from_vector({0, 0, 0.01}) * s.turn;
    steps.push_back(s);
    drifted[i + 1].orientation = s.turn * drifted[i].orientation;
    drifted[i + 1].centre = drifted[i].to_world(s.shift);
  }
  const double before = (drifted[11].to_camera(drifted[0].centre) - truth[11].to_camera(truth[0].centre)).norm();
  RelativeStep closing = step(11, 0);
  steps.push_back(closing);
  const std::vector<Pose> closed = distribute(drifted, steps);
  const double after = (closed[11].to_camera(closed[0].centre) - truth[11].to_camera(truth[0].centre)).norm();
  EXPECT_LT(after, 0.2 * before);
  // Exact steps give the exact poses back.
  steps.clear();
  for (std::uint32_t i = 0; i < 11; ++i) steps.push_back(step(i, i + 1));
  std::vector<Pose> start = truth;
  for (std::size_t i = 1; i < start.size(); ++i) start[i].centre += Eigen::Vector3d(0.3, -0.2, 0.1);
  const std::vector<Pose> exact = distribute(start, steps);
  for (std::size_t i = 0; i < exact.size(); ++i)
    EXPECT_LT(((exact[i].centre - exact[0].centre) - (truth[i].centre - truth[0].centre)).norm(), 1e-6);
}

TEST(Join, LaysBlocksOnEachOther) {
  // The photos of a ring in two halves; the second in a frame of its own.
  const Block ring = test::ring_block(12, 300, 0.3);
  const auto half = [&](std::uint32_t begin, std::uint32_t end) {
    Block block;
    block.cameras = ring.cameras;
    std::vector<std::uint32_t> place(12, 99);
    for (std::uint32_t i = begin; i < end; ++i)
      place[i] = static_cast<std::uint32_t>(block.photos.size()), block.photos.push_back(ring.photos[i]);
    for (std::size_t p = 0; p < ring.points.size(); ++p) {
      std::vector<Observation> seen;
      for (Observation o : ring.of_point(p))
        if (place[o.photo] != 99) o.photo = PosedIndex(place[o.photo]), o.feature = FeatureIndex(p), seen.push_back(o);
      if (seen.size() >= 2) block.add_point(ring.points[p], seen);
    }
    return block;
  };
  Similarity away;
  away.scale = 3;
  away.rotation = rotation_from_vector({0.4, -1.2, 0.3});
  away.translation = {10, -4, 2};
  Monitor silent;
  JoinOptions options;
  std::vector<std::vector<std::uint32_t>> track_of(12, std::vector<std::uint32_t>(ring.points.size()));
  for (auto& of_photo : track_of) std::iota(of_photo.begin(), of_photo.end(), 0u);
  for (const bool shared_photos : {false, true}) {
    Block second = half(shared_photos ? 4 : 6, 12);
    transform(second, away);
    const JoinResult joined = join(half(0, 6), second, track_of, options, Executor(2), silent);
    ASSERT_TRUE(joined.joined) << joined.outcome;
    EXPECT_EQ(joined.common_photos, shared_photos ? 2u : 0u);
    EXPECT_EQ(joined.block.photos.size(), 12u);
    for (const PosedPhoto& p : joined.block.photos)
      EXPECT_LT((p.pose.centre - ring.photos[p.photo.value].pose.centre).norm(), 0.05);
    EXPECT_LT(block_statistics(joined.block).rms_px, 0.6);
  }
  // Points that are not the same: nothing agrees, and it says so.
  Block other = half(6, 12);
  CounterRandom random(7);
  for (Eigen::Vector3d& p : other.points) p = {random.uniform(-1, 1), random.uniform(-1, 1), random.uniform(-1, 1)};
  const JoinResult refused = join(half(0, 6), other, track_of, options, Executor(2), silent);
  EXPECT_FALSE(refused.joined);
  EXPECT_NE(refused.outcome.find("agree"), std::string::npos) << refused.outcome;
}

}  // namespace
}  // namespace icefield
