#include "icefield/match/match.h"

#include <gtest/gtest.h>

#include <cmath>
#include <limits>

#include "icefield/base/instructions.h"
#include "icefield/base/random.h"
#include "src/match/byte_products.h"
#include "tests/tools/made_up.h"

namespace icefield {
namespace {

Features random_features(std::size_t count, std::uint64_t seed) {
  CounterRandom random(seed);
  Features f;
  f.keypoints.resize(count);
  for (std::size_t i = 0; i < count * kDescriptorSize; ++i) f.descriptors.push_back(static_cast<std::uint8_t>(random.below(128)));
  return f;
}

Features noisy_copy(const Features& from, std::uint64_t seed) {
  CounterRandom random(seed);
  Features f = from;
  for (auto& d : f.descriptors) d = static_cast<std::uint8_t>(std::clamp(static_cast<int>(d) + static_cast<int>(random.below(21)) - 10, 0, 127));
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
        groups[j / kGroup * kGroupBytes + k / 4 * 64 + j % kGroup * 4 + k % 4] = static_cast<std::uint8_t>(columns[128 * j + k] << (kernels.doubled ? 1 : 0));
    }
    std::vector<ColumnNearest> column(kGroups);
    for (auto& c : column)
      for (int k = 0; k < kGroup; ++k) c.best[k] = -(1 << 30), c.row[k] = 0;
    for (std::size_t i = 0; i < 37; ++i) row_norms.push_back(norm(rows.data() + 128 * i));
    for (const auto& [first, count] : {std::pair{0, 32}, std::pair{32, 5}}) {
      std::vector<RowNearest> row(kRowBlock);
      for (auto& r : row)
        for (int k = 0; k < kGroup; ++k) r.best[k] = r.second[k] = -(1 << 30), r.group[k] = 0;
      kernels.run(rows.data() + 128 * first, count, row_norms.data() + first, static_cast<std::uint32_t>(first), groups.data(), kGroups, column_norms.data(), row.data(), column.data());
      for (int r = 0; r < count; ++r)
        for (const auto& list : {row[static_cast<std::size_t>(r)].best, row[static_cast<std::size_t>(r)].second, row[static_cast<std::size_t>(r)].group}) all.insert(all.end(), list, list + kGroup);
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
    if (best <= 0.64 * static_cast<double>(second) && mutual) expected.push_back({FeatureIndex(i), FeatureIndex(index), 0});
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
  b.descriptors.insert(b.descriptors.end(), a.descriptors.begin(), a.descriptors.begin() + kDescriptorSize);  // a twin of the first
  for (const Match& m : match_descriptors(a, b)) EXPECT_NE(m.first.value, 0u);
  EXPECT_TRUE(match_descriptors(a, Features{}).empty());
}

struct MadePair {
  Features first, second;
  std::vector<Match> matches;
};

MadePair made_pair(double wrong_share) {
  const auto views = test::two_views(31, 200, 0.4 / 1000);
  CounterRandom random(6);
  MadePair made;
  for (std::size_t i = 0; i < views.pairs.size(); ++i) {
    const auto pixel = [](const Eigen::Vector2d& d) { return Keypoint{static_cast<float>(1000 * d.x() + 600), static_cast<float>(1000 * d.y() + 400), 2, 0}; };
    made.first.keypoints.push_back(pixel(views.pairs[i].first));
    made.second.keypoints.push_back(pixel(views.pairs[i].second));
    if (random.uniform() < wrong_share) made.second.keypoints.back() = {static_cast<float>(random.uniform(0, 1200)), static_cast<float>(random.uniform(0, 800)), 2, 0};
    made.matches.push_back({FeatureIndex(i), FeatureIndex(i), 0.5f});
  }
  return made;
}

TEST(VerifyPair, KnownAndUnknownFocalLength) {
  const MadePair made = made_pair(0.4);
  CameraPrior known{make_camera(CameraModel::pinhole, 1200, 800, 1000), 3}, unknown{make_camera(CameraModel::pinhole, 1200, 800, 0), 0}, vague = known;
  vague.focal_uncertainty_percent = 30;
  EXPECT_EQ(verify_pair(made.first, made.second, made.matches, known, known, {}, 1).state, PairState::calibrated);
  EXPECT_EQ(verify_pair(made.first, made.second, made.matches, known, unknown, {}, 1).state, PairState::uncalibrated);
  EXPECT_EQ(verify_pair(made.first, made.second, made.matches, known, vague, {}, 1).state, PairState::uncalibrated);
  const PairMatches pair = verify_pair(made.first, made.second, made.matches, known, known, {}, 1);
  EXPECT_GT(pair.matches.size(), 105u);
  EXPECT_LT(pair.matches.size(), 135u);
  EXPECT_EQ(pair.candidates, 200u);
}

TEST(VerifyPair, ChanceIsNotVerified) {
  const MadePair made = made_pair(1.0);
  const CameraPrior known{make_camera(CameraModel::pinhole, 1200, 800, 1000), 3};
  const PairMatches pair = verify_pair(made.first, made.second, made.matches, known, known, {}, 1);
  EXPECT_EQ(pair.state, PairState::no_geometry);
  EXPECT_TRUE(pair.matches.empty());
  const auto few = verify_pair(made.first, made.second, std::span(made.matches).first(10), known, known, {}, 1);
  EXPECT_EQ(few.state, PairState::too_few_matches);
}

PairMatches linked(std::size_t a, std::size_t b, std::vector<Match> matches) {
  PairMatches pair;
  pair.first = PhotoIndex(a), pair.second = PhotoIndex(b);
  pair.state = PairState::calibrated;
  pair.matches = std::move(matches);
  return pair;
}

TEST(BuildTracks, JoinsAcrossPhotosAndKeepsTheSurerMatch) {
  const auto match = [](std::size_t a, std::size_t b, float ratio) { return Match{FeatureIndex(a), FeatureIndex(b), ratio}; };
  // Spot A: features 0, 0, 0. A weak match would tie feature 1 of photo 2 to it as well.
  const std::vector<PairMatches> pairs = {linked(0, 1, {match(0, 0, 0.3f), match(2, 3, 0.5f)}), linked(1, 2, {match(0, 0, 0.3f)}), linked(0, 2, {match(0, 1, 0.7f)})};
  const std::vector<std::size_t> counts = {4, 4, 4};
  const Tracks tracks = build_tracks(pairs, counts);
  ASSERT_EQ(tracks.size(), 2u);
  const auto first = tracks.track(TrackIndex(0));
  ASSERT_EQ(first.size(), 3u);
  for (const auto& e : first) EXPECT_EQ(e.feature, FeatureIndex(0));
  EXPECT_EQ(tracks.track(TrackIndex(1)).size(), 2u);
}

}  // namespace
}  // namespace icefield
