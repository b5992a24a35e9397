#include "icefield/match/match.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <set>

#include "icefield/base/instructions.h"
#include "icefield/base/random.h"
#include "icefield/match/study_pair.h"
#include "src/match/byte_products.h"
#include "tests/tools/made_up.h"

namespace icefield {
namespace {

Features random_features(std::size_t count, std::uint64_t seed) {
  CounterRandom random(seed);
  Features f;
  f.keypoints.resize(count);
  for (std::size_t i = 0; i < count * kDescriptorSize; ++i)
    f.descriptors.push_back(static_cast<std::uint8_t>(random.below(128)));
  return f;
}

Features noisy_copy(const Features& from, std::uint64_t seed) {
  CounterRandom random(seed);
  Features f = from;
  for (auto& d : f.descriptors)
    d = static_cast<std::uint8_t>(std::clamp(static_cast<int>(d) + static_cast<int>(random.below(21)) - 10, 0, 127));
  return f;
}

TEST(NearestKernels, AllFormsGiveTheSameIntegers) {
  // 37 rows in two calls, 96 columns; the largest and the smallest sums among them, and equal columns.
  CounterRandom random(1);
  constexpr std::size_t kColumns = 96, kGroups = kColumns / kGroup;
  std::vector<std::uint8_t> rows(37 * 128), columns(kColumns * 128);
  for (auto& v : rows) v = static_cast<std::uint8_t>(random.below(128));
  for (auto& v : columns) v = static_cast<std::uint8_t>(random.below(128));
  std::fill(rows.begin(), rows.begin() + 128, std::uint8_t{127});
  std::fill(columns.begin(), columns.begin() + 128, std::uint8_t{127});
  std::fill(columns.begin() + 128, columns.begin() + 256, std::uint8_t{0});
  std::copy_n(columns.begin() + 3 * 128, 128, columns.begin() + 50 * 128);
  const auto norm = [](const std::uint8_t* d) {
    std::int32_t sum = 0;
    for (int k = 0; k < 128; ++k) sum += d[k] * d[k];
    return sum;
  };
  const auto results = [&](const NearestKernels& kernels) {
    std::vector<std::uint8_t> groups(kGroups * kGroupBytes);
    std::vector<std::int32_t> row_norms, column_norms, all;
    for (std::size_t j = 0; j < kColumns; ++j) {
      column_norms.push_back(norm(columns.data() + 128 * j));
      for (std::size_t k = 0; k < 128; ++k)
        groups[j / kGroup * kGroupBytes + k / 4 * 64 + j % kGroup * 4 + k % 4] =
            static_cast<std::uint8_t>(columns[128 * j + k] << (kernels.doubled ? 1 : 0));
    }
    std::vector<ColumnNearest> column(kGroups);
    for (auto& c : column)
      for (int k = 0; k < kGroup; ++k) c.best[k] = -(1 << 30), c.row[k] = 0;
    for (std::size_t i = 0; i < 37; ++i) row_norms.push_back(norm(rows.data() + 128 * i));
    for (const auto& [first, count] : {std::pair{0, 32}, std::pair{32, 5}}) {
      std::vector<RowNearest> row(kRowBlock);
      for (auto& r : row)
        for (int k = 0; k < kGroup; ++k) r.best[k] = r.second[k] = -(1 << 30), r.group[k] = 0;
      kernels.run(rows.data() + 128 * first, count, row_norms.data() + first, static_cast<std::uint32_t>(first),
                  groups.data(), kGroups, column_norms.data(), row.data(), column.data());
      for (int r = 0; r < count; ++r)
        for (const auto& list : {row[static_cast<std::size_t>(r)].best, row[static_cast<std::size_t>(r)].second,
                                 row[static_cast<std::size_t>(r)].group})
          all.insert(all.end(), list, list + kGroup);
    }
    for (const auto& c : column)
      for (int k = 0; k < kGroup; ++k) all.push_back(c.best[k]), all.push_back(static_cast<std::int32_t>(c.row[k]));
    return all;
  };
  const auto plain = results(plain_nearest_kernels());
  for (const std::string& level : available_instruction_levels()) {
    pin_instruction_level(level);
    EXPECT_EQ(plain, results(best_nearest_kernels())) << level;
  }
}

TEST(MatchDescriptors, AgreesWithSearchingAll) {
  const Features a = random_features(150, 1);
  Features b = noisy_copy(a, 2);
  const Features more = random_features(61, 3);
  b.keypoints.insert(b.keypoints.end(), more.keypoints.begin(), more.keypoints.end());
  b.descriptors.insert(b.descriptors.end(), more.descriptors.begin(), more.descriptors.end());
  std::vector<Match> expected;
  const auto distance = [&](std::size_t i, std::size_t j) {
    long sum = 0;
    for (int k = 0; k < kDescriptorSize; ++k) {
      const long d = long{a.descriptors[i * kDescriptorSize + k]} - long{b.descriptors[j * kDescriptorSize + k]};
      sum += d * d;
    }
    return sum;
  };
  for (std::size_t i = 0; i < a.size(); ++i) {
    long best = std::numeric_limits<long>::max(), second = best;
    std::size_t index = 0;
    for (std::size_t j = 0; j < b.size(); ++j) {
      const long d = distance(i, j);
      if (d < best)
        second = best, best = d, index = j;
      else
        second = std::min(second, d);
    }
    bool mutual = true;
    for (std::size_t k = 0; k < a.size(); ++k) mutual = mutual && (k == i || distance(k, index) >= best);
    if (best <= 0.64 * static_cast<double>(second) && mutual)
      expected.push_back({FeatureIndex(i), FeatureIndex(index), 0});
  }
  const auto found = match_descriptors(a, b);
  ASSERT_EQ(found.size(), expected.size());
  ASSERT_GT(found.size(), 100u);
  for (std::size_t i = 0; i < found.size(); ++i) {
    EXPECT_EQ(found[i].first, expected[i].first);
    EXPECT_EQ(found[i].second, expected[i].second);
  }
}

TEST(MatchDescriptors, DoesNotDependOnTheInstructionLevel) {
  const Features a = random_features(300, 4), b = noisy_copy(a, 5);
  std::vector<std::vector<Match>> results;
  for (const std::string& level : available_instruction_levels()) {
    pin_instruction_level(level);
    results.push_back(match_descriptors(a, b));
  }
  for (const auto& r : results) {
    ASSERT_EQ(r.size(), results[0].size());
    for (std::size_t i = 0; i < r.size(); ++i) EXPECT_EQ(r[i].second, results[0][i].second);
  }
}

TEST(MatchDescriptors, RepeatedStructureIsNotMatched) {
  Features a = random_features(10, 1), b = a;
  b.keypoints.push_back(b.keypoints[0]);
  b.descriptors.insert(b.descriptors.end(), a.descriptors.begin(),
                       a.descriptors.begin() + kDescriptorSize);  // a twin of the first
  for (const Match& m : match_descriptors(a, b)) EXPECT_NE(m.first.value, 0u);
  EXPECT_TRUE(match_descriptors(a, Features{}).empty());
}

// Two photos of 1200x800 at focal length 1000 of made-up points, each feature with its own descriptor.
struct MadePair {
  Features first, second;
  std::vector<Match> matches;
  Eigen::Matrix3d essential;
};
enum class Shape { deep, flat, turned };

Keypoint pixel(const Eigen::Vector2d& d) {
  return {static_cast<float>(1000 * d.x() + 600), static_cast<float>(1000 * d.y() + 400), 2, 0};
}

MadePair made_pair(double wrong_share, Shape shape = Shape::deep, std::size_t count = 200, std::uint64_t seed = 31) {
  auto views =
      test::two_views(seed, static_cast<int>(count), shape == Shape::turned ? 0 : 0.4 / 1000, shape == Shape::flat);
  CounterRandom random(seed + 6);
  MadePair made;
  made.first = random_features(count, seed + 1);
  made.second = noisy_copy(made.first, seed + 2);
  made.essential = essential_from_pose(views.second);
  for (std::size_t i = 0; i < count; ++i) {
    if (shape == Shape::turned) {
      views.pairs[i].second = (views.second.rotation() * views.pairs[i].first.homogeneous()).hnormalized();
      views.pairs[i].second += 0.4 / 1000 * Eigen::Vector2d(random.normal(), random.normal());
    }
    made.first.keypoints[i] = pixel(views.pairs[i].first);
    made.second.keypoints[i] = pixel(views.pairs[i].second);
    const bool wrong = random.uniform() < wrong_share;
    if (wrong)
      made.second.keypoints[i] = {static_cast<float>(random.uniform(0, 1200)),
                                  static_cast<float>(random.uniform(0, 800)), 2, 0};
    made.matches.push_back({FeatureIndex(i), FeatureIndex(i),
                            static_cast<float>(wrong ? random.uniform(0.4, 0.8) : random.uniform(0.2, 0.8))});
  }
  return made;
}

void append(MadePair& made, const MadePair& more) {
  for (std::size_t i = 0; i < more.matches.size(); ++i)
    made.matches.push_back(
        {FeatureIndex(made.first.size() + i), FeatureIndex(made.first.size() + i), more.matches[i].ratio});
  for (const auto& [from, to] : {std::pair{&more.first, &made.first}, std::pair{&more.second, &made.second}}) {
    to->keypoints.insert(to->keypoints.end(), from->keypoints.begin(), from->keypoints.end());
    to->descriptors.insert(to->descriptors.end(), from->descriptors.begin(), from->descriptors.end());
  }
}

CameraPrior prior(double focal = 1000, double uncertainty_percent = 3) {
  return {make_camera(CameraModel::pinhole, 1200, 800, focal), uncertainty_percent};
}

PairMatches verified(const MadePair& made, const CameraPrior& first, const CameraPrior& second,
                     const VerifyOptions& options = {}, std::uint64_t seed = 1) {
  return verify_pair({PhotoIndex(3), made.first, first}, {PhotoIndex(5), made.second, second}, made.matches, options,
                     seed);
}
PairMatches verified(const MadePair& made, const CameraPrior& camera = prior(), const VerifyOptions& options = {}) {
  return verified(made, camera, camera, options);
}

std::size_t share_of_right(const PairMatches& pair) {
  return static_cast<std::size_t>(
      std::count_if(pair.matches.begin(), pair.matches.end(), [](const Match& m) { return m.first == m.second; }));
}

double between(const Eigen::Matrix3d& a, const Eigen::Matrix3d& b) {
  return std::min((a - b).norm(), (a + b).norm());
}

TEST(VerifyPair, KnownAndUnknownFocalLength) {
  const MadePair made = made_pair(0.4);
  EXPECT_EQ(verified(made, prior(), prior()).model, TwoViewModel::essential);
  EXPECT_EQ(verified(made, prior(), prior(0, 0)).model, TwoViewModel::fundamental);
  EXPECT_EQ(verified(made, prior(), prior(1000, 30)).model, TwoViewModel::fundamental);
  const PairMatches pair = verified(made);
  EXPECT_EQ(pair.first, PhotoIndex(3));
  EXPECT_EQ(pair.second, PhotoIndex(5));
  EXPECT_EQ(pair.geometry, PairGeometry::depth);
  EXPECT_GT(pair.matches.size(), 105u);
  EXPECT_LT(pair.matches.size(), 135u);
  EXPECT_EQ(pair.candidates, 200u);
  EXPECT_LT(between(pair.matrix, made.essential), 0.01);
}

TEST(VerifyPair, RefusesMatchesOfFeaturesThatThereAreNot) {
  MadePair made = made_pair(0);
  made.matches[7].second = FeatureIndex(made.second.size());
  EXPECT_THROW(verified(made), Error);
}

TEST(VerifyPair, ChanceIsNotVerified) {
  for (std::uint64_t seed = 1; seed <= 30; ++seed) {
    const MadePair made = made_pair(1.0, Shape::deep, 60 + 20 * seed, seed);
    for (const double focal : {1000.0, 0.0}) {
      const PairMatches pair = verified(made, prior(focal));
      EXPECT_EQ(pair.fault, PairFault::disagree) << seed << ' ' << pair.matches.size();
      EXPECT_TRUE(pair.matches.empty());
    }
  }
  MadePair made = made_pair(0);
  made.matches.resize(10);
  const PairMatches few = verified(made);
  EXPECT_EQ(few.fault, PairFault::few_matches);
}

TEST(VerifyPair, TellsTurnPlaneAndDepthApart) {
  for (std::uint64_t seed = 1; seed <= 10; ++seed)
    for (const auto& [shape, state] :
         {std::pair{Shape::deep, PairGeometry::depth}, std::pair{Shape::flat, PairGeometry::flat},
          std::pair{Shape::turned, PairGeometry::turned}}) {
      const MadePair made = made_pair(0.3, shape, 300, seed);
      const PairMatches known = verified(made), unknown = verified(made, prior(0, 0));
      EXPECT_EQ(known.geometry, state) << seed << ' ' << name_of(known.geometry) << " for " << name_of(state);
      EXPECT_EQ(unknown.geometry, state) << seed << ' ' << name_of(unknown.geometry) << " for " << name_of(state);
      EXPECT_GT(share_of_right(known), 180u);
      EXPECT_GT(share_of_right(unknown), 180u);
      // An essential matrix is given where the matches leave no doubt of it; then it is right.
      if (known.model == TwoViewModel::essential) {
        EXPECT_LT(between(known.matrix, made.essential), 0.03) << seed;
      }
      if (shape == Shape::deep) {
        EXPECT_EQ(known.model, TwoViewModel::essential);
      }
      if (shape == Shape::turned) {
        EXPECT_EQ(known.model, TwoViewModel::rotation);
      }
    }
}

TEST(VerifyPair, ADominantPlaneDoesNotBendTheFundamentalMatrix) {
  // 200 matches on a plane, 60 off it, 90 wrong; focal length unknown.
  int right = 0;
  for (std::uint64_t seed = 1; seed <= 10; ++seed) {
    MadePair made = made_pair(0, Shape::flat, 200, seed);
    const MadePair deep = made_pair(0, Shape::deep, 60, seed), wrong = made_pair(1, Shape::flat, 90, seed + 100);
    append(made, deep);
    append(made, wrong);
    const PairMatches pair = verified(made, prior(0, 0));
    if (pair.model != TwoViewModel::fundamental) continue;
    // Points of the truth that took no part lie on its epipolar lines.
    const auto views = test::two_views(seed, 200, 0);
    Eigen::Matrix3d to_pixels;
    to_pixels << 1000, 0, 600, 0, 1000, 400, 0, 0, 1;
    int near = 0;
    for (const PointPair& p : views.pairs) {
      const PointPair in_pixels{(to_pixels * p.first.homogeneous()).head<2>(),
                                (to_pixels * p.second.homogeneous()).head<2>()};
      near += std::sqrt(sampson_error2(pair.matrix, in_pixels)) < 3;
    }
    right += near > 180;
  }
  EXPECT_GE(right, 9);
}

TEST(VerifyPair, MountainsBehindDoNotHideTheSubject) {
  // 500 matches too far away for any parallax, and the best ones; 60 on the subject and 40 wrong. Whichever samples are
  // drawn.
  for (std::uint64_t seed = 1; seed <= 4; ++seed) {
    MadePair made = made_pair(0, Shape::turned, 500, seed);
    for (Match& m : made.matches) m.ratio *= 0.5f;
    append(made, made_pair(0, Shape::deep, 60, seed));
    append(made, made_pair(1, Shape::deep, 40, seed + 100));
    for (std::uint64_t draw = 0; draw < 10; ++draw) {
      const PairMatches pair = verified(made, prior(), prior(), {}, draw);
      EXPECT_EQ(pair.geometry, PairGeometry::depth) << seed << ' ' << draw << ' ' << name_of(pair.geometry);
      EXPECT_LT(between(pair.matrix, made.essential), 0.03) << seed << ' ' << draw;
      EXPECT_GT(share_of_right(pair), 550u) << seed << ' ' << draw;
    }
  }
}

TEST(VerifyPair, AStampInTheCornerIsAFixedPattern) {
  // 30 features of a date stamp at the same pixels of both photos, among 200 of which 40 percent are right.
  MadePair made = made_pair(0.6);
  const auto stamp = [&](MadePair& on) {
    const Features letters = random_features(30, 77);
    const std::size_t before = on.first.size();
    for (Features* f : {&on.first, &on.second}) {
      f->descriptors.insert(f->descriptors.end(), letters.descriptors.begin(), letters.descriptors.end());
      for (std::size_t i = 0; i < 30; ++i)
        f->keypoints.push_back({1000.0f + 6.0f * static_cast<float>(i), 780.0f + static_cast<float>(i % 5), 2, 0});
    }
    for (std::size_t i = 0; i < 30; ++i)
      on.matches.push_back({FeatureIndex(before + i), FeatureIndex(before + i), 0.1f});
  };
  stamp(made);
  const PairMatches pair = verified(made);
  EXPECT_EQ(pair.geometry, PairGeometry::depth);
  EXPECT_GE(pair.fixed, 30u);
  for (const Match& m : pair.matches) EXPECT_LT(m.first.value, 200u);
  EXPECT_LT(between(pair.matrix, made.essential), 0.02);

  MadePair alone = made_pair(1.0);
  stamp(alone);
  const PairMatches only = verified(alone);
  EXPECT_EQ(only.fault, PairFault::same_pixels);
  EXPECT_TRUE(only.matches.empty());

  // The same photo twice is no stamp: it is one place.
  MadePair twice = made_pair(0);
  twice.second = twice.first;
  EXPECT_EQ(verified(twice).geometry, PairGeometry::turned);
}

TEST(VerifyPair, TheSecondPassFindsRepeatedStructure) {
  // Every spot has three others that look alike: the ratio test leaves none of them.
  MadePair made = made_pair(0.2, Shape::deep, 150, 5);
  MadePair alike = made_pair(0, Shape::deep, 400, 5);
  const Features looks = random_features(100, 9);
  for (std::size_t i = 0; i < 400; ++i)
    for (auto* f : {&alike.first, &alike.second})
      std::copy_n(looks.descriptors.data() + i / 4 * kDescriptorSize, kDescriptorSize,
                  f->descriptors.data() + i * kDescriptorSize);
  alike.second = noisy_copy(alike.second, 10);
  const std::size_t distinct = made.first.size();
  for (const auto& [from, to] : {std::pair{&alike.first, &made.first}, std::pair{&alike.second, &made.second}}) {
    to->keypoints.insert(to->keypoints.end(), from->keypoints.begin(), from->keypoints.end());
    to->descriptors.insert(to->descriptors.end(), from->descriptors.begin(), from->descriptors.end());
  }
  made.matches = match_descriptors(made.first, made.second);
  for (const Match& m : made.matches) EXPECT_LT(m.first.value, distinct + 20);
  VerifyOptions once;
  once.guided = false;
  const PairMatches before = verified(made, prior(), once), after = verified(made);
  const auto repeated = std::count_if(after.matches.begin(), after.matches.end(),
                                      [&](const Match& m) { return m.first.value >= distinct; });
  EXPECT_GT(repeated, 300);
  EXPECT_GE(after.matches.size(), before.matches.size() + 300);
  EXPECT_GT(share_of_right(after), after.matches.size() * 97 / 100);
  EXPECT_LE(between(after.matrix, made.essential), between(before.matrix, made.essential) + 0.002);
}

PairStudy studied(const MadePair& made, const PairMatches& pair, const CameraPrior& camera = prior()) {
  return study_pair(pair, made.first.keypoints, made.second.keypoints, camera, camera);
}

TEST(StudyPair, PosesAndPointsAreTheTrueOnes) {
  const auto views = test::two_views(31, 200, 0.4 / 1000, false);
  const MadePair made = made_pair(0.3);
  const PairMatches pair = verified(made);
  const PairStudy study = studied(made, pair);
  ASSERT_EQ(study.poses.size(), 4u);
  // All in front of one pose, and few of the other three.
  EXPECT_EQ(study.poses[0].in_front, pair.matches.size());
  EXPECT_LT(study.poses[1].in_front, pair.matches.size() / 2);
  const Eigen::Vector3d baseline = views.second.centre;
  EXPECT_NEAR(study.poses[0].pose.centre.norm(), 1, 1e-9);
  EXPECT_LT((study.poses[0].pose.centre - baseline.normalized()).norm(), 0.03);
  EXPECT_LT(rotation_angle(study.poses[0].pose.orientation, views.second.orientation), 0.003);
  EXPECT_GT(study.median_error_px, 0.05);
  EXPECT_LT(study.median_error_px, 0.6);
  ASSERT_EQ(study.points.size(), pair.matches.size());
  for (const PairStudy::Point& p : study.points) {
    const Match& m = pair.matches[p.match];
    const Keypoint &a = made.first.keypoints[m.first.value], &b = made.second.keypoints[m.second.value];
    const auto seen1 = project(prior().camera, p.position),
               seen2 = project(prior().camera, study.poses[0].pose.to_camera(p.position));
    ASSERT_TRUE(seen1 && seen2);
    EXPECT_LT((*seen1 - Eigen::Vector2d(a.x, a.y)).norm(), 5);
    EXPECT_LT((*seen2 - Eigen::Vector2d(b.x, b.y)).norm(), 5);
    EXPECT_GT(p.angle_deg, 0);
  }
}

TEST(StudyPair, WhatAllowsNoPoseSaysSo) {
  const MadePair turned = made_pair(0.2, Shape::turned), deep = made_pair(0.2), flat = made_pair(0.2, Shape::flat);
  const PairStudy turn = studied(turned, verified(turned));
  ASSERT_EQ(turn.poses.size(), 1u);
  EXPECT_EQ(turn.poses[0].pose.centre, Eigen::Vector3d(0, 0, 0));
  EXPECT_TRUE(turn.points.empty());
  const PairMatches fundamental = verified(deep, prior(0, 0));
  EXPECT_TRUE(studied(deep, fundamental, prior(0, 0)).poses.empty());
  EXPECT_GT(studied(deep, fundamental, prior(0, 0)).median_error_px, 0.05);
  const PairMatches plane = verified(flat);
  const PairStudy of_plane = studied(flat, plane);
  ASSERT_GE(of_plane.poses.size(), 1u);
  EXPECT_EQ(of_plane.poses[0].plane_normal.has_value(), plane.model == TwoViewModel::homography);
  EXPECT_TRUE(study_pair({}, {}, {}, prior(), prior()).poses.empty());
}

PairMatches linked(std::size_t a, std::size_t b, std::vector<Match> matches) {
  PairMatches pair;
  pair.first = PhotoIndex(a), pair.second = PhotoIndex(b);
  pair.geometry = PairGeometry::depth;
  pair.matches = std::move(matches);
  return pair;
}

TEST(BuildTracks, JoinsAcrossPhotosAndKeepsTheSurerMatch) {
  const auto match = [](std::size_t a, std::size_t b, float ratio) {
    return Match{FeatureIndex(a), FeatureIndex(b), ratio};
  };
  // Spot A: features 0, 0, 0. A weak match would tie feature 1 of photo 2 to it as well.
  const std::vector<PairMatches> pairs = {linked(0, 1, {match(0, 0, 0.3f), match(2, 3, 0.5f)}),
                                          linked(1, 2, {match(0, 0, 0.3f)}), linked(0, 2, {match(0, 1, 0.7f)})};
  const std::vector<std::size_t> counts = {4, 4, 4};
  const Tracks tracks = build_tracks(pairs, counts);
  ASSERT_EQ(tracks.size(), 2u);
  const auto first = tracks.track(TrackIndex(0));
  ASSERT_EQ(first.size(), 3u);
  for (const auto& e : first) EXPECT_EQ(e.feature, FeatureIndex(0));
  EXPECT_EQ(tracks.track(TrackIndex(1)).size(), 2u);
}

TEST(BuildTracks, WhatAThirdPhotoConfirmsBeatsTheSurerMatch) {
  const auto match = [](std::size_t a, std::size_t b, float ratio) {
    return Match{FeatureIndex(a), FeatureIndex(b), ratio};
  };
  // Spot A: feature 0 of four photos, all pairs of them matched. Feature 1 of photo 0 looks more like it, to photo 3
  // alone.
  std::vector<PairMatches> pairs;
  for (std::size_t a = 0; a < 4; ++a)
    for (std::size_t b = a + 1; b < 4; ++b) pairs.push_back(linked(a, b, {match(0, 0, 0.7f)}));
  pairs[2].matches = {match(1, 0, 0.1f)};  // photos 0 and 3
  const std::vector<std::size_t> counts = {2, 2, 2, 2};
  const Tracks tracks = build_tracks(pairs, counts);
  ASSERT_EQ(tracks.size(), 1u);
  const auto track = tracks.track(TrackIndex(0));
  ASSERT_EQ(track.size(), 4u);
  for (const auto& e : track) EXPECT_EQ(e.feature, FeatureIndex(0));
}

TEST(BuildTracks, NoPhotoTwiceInATrackWhateverIsLinked) {
  // Random links among 6 photos of 40 features: many conflicts.
  CounterRandom random(9);
  std::vector<PairMatches> pairs;
  for (std::size_t a = 0; a < 6; ++a)
    for (std::size_t b = a + 1; b < 6; ++b) {
      std::vector<Match> matches;
      for (std::size_t k = 0; k < 40; k += 2)
        matches.push_back({FeatureIndex(k), FeatureIndex(random.below(40)), static_cast<float>(random.uniform())});
      pairs.push_back(linked(a, b, matches));
    }
  const std::vector<std::size_t> counts(6, 40);
  const Tracks tracks = build_tracks(pairs, counts);
  std::set<std::pair<std::uint32_t, std::uint32_t>> used;
  for (std::size_t t = 0; t < tracks.size(); ++t) {
    std::set<std::uint32_t> photos;
    for (const auto& e : tracks.track(TrackIndex(t))) {
      EXPECT_TRUE(photos.insert(e.photo.value).second);
      EXPECT_TRUE(used.insert({e.photo.value, e.feature.value}).second);
    }
    EXPECT_GE(photos.size(), 2u);
  }
  EXPECT_GT(tracks.size(), 20u);
  // The order in which pairs are given does not matter.
  std::reverse(pairs.begin(), pairs.end());
  const Tracks again = build_tracks(pairs, counts);
  EXPECT_EQ(again.elements, tracks.elements);
  EXPECT_EQ(again.starts, tracks.starts);
}

}  // namespace
}  // namespace icefield
