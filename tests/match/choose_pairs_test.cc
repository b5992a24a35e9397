// Which pairs are tried, on photos of a made-up walk along a wall.
#include "icefield/match/choose_pairs.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include "icefield/base/random.h"

namespace icefield {
namespace {

constexpr int kPhotos = 60, kStep = 20, kSpots = 100;

// Photo i sees the spots 20 i to 20 i + 99: four fifths of it are in the next one, one fifth in the fourth after it.
std::vector<Features> walk() {
  std::vector<Features> photos;
  for (int i = 0; i < kPhotos; ++i) {
    Features f;
    CounterRandom noise(combine_keys(1000, static_cast<std::uint64_t>(i)));
    for (int s = i * kStep; s < i * kStep + kSpots; ++s) {
      CounterRandom spot(combine_keys(7, static_cast<std::uint64_t>(s)));
      const float y = static_cast<float>(spot.uniform(0, 600)), size = static_cast<float>(spot.uniform(1, 4)),
                  angle = static_cast<float>(spot.uniform(-3, 3));
      f.keypoints.push_back({9.0f * static_cast<float>(s - i * kStep) + 4, y, size, angle});
      for (int k = 0; k < kDescriptorSize; ++k)
        f.descriptors.push_back(static_cast<std::uint8_t>(
            std::clamp(static_cast<int>(spot.below(100)) + static_cast<int>(noise.below(15)), 0, 127)));
    }
    photos.push_back(std::move(f));
  }
  return photos;
}

std::vector<ChoicePhoto> choice_of(const std::vector<Features>& features) {
  std::vector<ChoicePhoto> photos(features.size());
  for (std::size_t i = 0; i < features.size(); ++i) photos[i].strongest = &features[i];
  for (std::size_t i = 0; i < features.size(); ++i)
    photos[i].sequence = static_cast<std::uint32_t>(i);  // no order known
  return photos;
}

PairChoiceOptions small_options() {
  PairChoiceOptions options;
  options.all_up_to = 10;
  options.near_photos = options.next_photos = options.alike_photos = 0;
  options.words = 16;
  return options;
}

int gap(const ProposedPair& pair) {
  return static_cast<int>(pair.second.value) - static_cast<int>(pair.first.value);
}

std::size_t neighbours_found(const PairChoice& choice, int up_to) {
  return static_cast<std::size_t>(
      std::count_if(choice.pairs.begin(), choice.pairs.end(), [&](const ProposedPair& p) { return gap(p) <= up_to; }));
}

TEST(ChoosePairs, SmallSetsAreTriedPairByPair) {
  const std::vector<Features> features = walk();
  const std::vector<ChoicePhoto> photos = choice_of(features);
  Monitor monitor;
  const PairChoice choice = choose_pairs(std::span(photos).first(10), {}, small_options(), Executor(1), monitor);
  EXPECT_EQ(choice.pairs.size(), 45u);
  for (const ProposedPair& pair : choice.pairs) EXPECT_TRUE(pair.has(PairSource::all));
  EXPECT_EQ(choice.looked_at, 0u);
}

TEST(ChoosePairs, LikenessFindsWhatOverlapsAndLittleElse) {
  const std::vector<Features> features = walk();
  const std::vector<ChoicePhoto> photos = choice_of(features);
  PairChoiceOptions options = small_options();
  options.alike_photos = 10;
  Monitor monitor;
  const PairChoice choice = choose_pairs(photos, {}, options, Executor(1), monitor);
  // 59 + 58 + 57 pairs overlap by two fifths and more.
  EXPECT_GE(neighbours_found(choice, 3), 170u);
  EXPECT_LE(choice.pairs.size(), 59u + 58u + 57u + 56u + 5u);
  EXPECT_GT(choice.looked_at, choice.pairs.size());
  for (const ProposedPair& pair : choice.pairs) {
    EXPECT_TRUE(pair.has(PairSource::alike));
    EXPECT_LE(gap(pair), 4);
  }
  // The same with any number of threads.
  const PairChoice again = choose_pairs(photos, {}, options, Executor(3), monitor);
  ASSERT_EQ(again.pairs.size(), choice.pairs.size());
  for (std::size_t i = 0; i < again.pairs.size(); ++i) EXPECT_EQ(again.pairs[i].second, choice.pairs[i].second);
}

TEST(ChoosePairs, PlacesOrderAndListsAreSources) {
  const std::vector<Features> features = walk();
  std::vector<ChoicePhoto> photos = choice_of(features);
  Monitor monitor;
  PairChoiceOptions near = small_options();
  near.near_photos = 4;
  for (std::size_t i = 0; i < photos.size(); ++i)
    photos[i].position = Eigen::Vector3d(2.0 * static_cast<double>(i), 0, 0);
  photos[30].position.reset();  // one without a place
  const PairChoice by_place = choose_pairs(photos, {}, near, Executor(1), monitor);
  EXPECT_GE(neighbours_found(by_place, 2), 110u);
  for (const ProposedPair& pair : by_place.pairs) {
    EXPECT_EQ(pair.sources, 1u << static_cast<int>(PairSource::near));
    EXPECT_NE(pair.first.value, 30u);
    EXPECT_NE(pair.second.value, 30u);
  }

  PairChoiceOptions next = small_options();
  next.next_photos = 2;
  for (std::size_t i = 0; i < photos.size(); ++i)
    photos[i].sequence = i < 20 ? 0 : 1, photos[i].place = static_cast<std::uint32_t>(i);
  const PairChoice by_order = choose_pairs(photos, {}, next, Executor(1), monitor);
  EXPECT_EQ(by_order.pairs.size(), 19u + 18u + 39u + 38u);
  for (const ProposedPair& pair : by_order.pairs) EXPECT_EQ(pair.first.value < 20, pair.second.value < 20);

  // What is asked for is tried although nothing speaks for it; it may have other sources too.
  std::vector<ProposedPair> listed(2);
  listed[0].first = PhotoIndex(3), listed[0].second = PhotoIndex(55);
  listed[1].first = PhotoIndex(4), listed[1].second = PhotoIndex(5);
  const PairChoice with_list = choose_pairs(photos, listed, next, Executor(1), monitor);
  EXPECT_EQ(with_list.pairs.size(), by_order.pairs.size() + 1);
  for (const ProposedPair& pair : with_list.pairs) {
    const bool asked =
        (pair.first.value == 3 && pair.second.value == 55) || (pair.first.value == 4 && pair.second.value == 5);
    EXPECT_EQ(pair.has(PairSource::listed), asked);
    EXPECT_EQ(pair.has(PairSource::next), pair.first.value != 3 || pair.second.value != 55);
  }
}

TEST(ChoosePairs, LooksAtPlacesNotOnlyFromThem) {
  // A circle of photos 50 over the ground that look inwards and down at its middle, and one that looks outwards.
  std::vector<ChoicePhoto> photos(12);
  for (std::size_t i = 0; i < photos.size(); ++i) {
    const double angle = 0.5236 * static_cast<double>(i);
    photos[i].position = Eigen::Vector3d(80 * std::cos(angle), 80 * std::sin(angle), 650);
    photos[i].direction = Eigen::Vector3d(-80 * std::cos(angle), -80 * std::sin(angle), -50).normalized();
  }
  photos[5].direction = photos[5].direction->cwiseProduct(Eigen::Vector3d(-1, -1, 1));
  photos.emplace_back();
  photos.back().position = Eigen::Vector3d(10, 5, 655);  // straight down, wherever the ground is
  photos.back().direction = Eigen::Vector3d(0, 0, -1);
  photos.emplace_back();
  photos.back().position = Eigen::Vector3d(0, 0, 640);  // no direction known
  photos.emplace_back();
  photos.back().direction = Eigen::Vector3d(0, 0, -1);  // no position known
  const auto places = places_looked_at(photos);
  for (const std::size_t i : {0u, 1u, 2u, 7u, 11u}) {
    ASSERT_TRUE(places[i]);
    EXPECT_LT((*places[i] - Eigen::Vector3d(0, 0, 600)).norm(), 1e-6) << i;
  }
  ASSERT_TRUE(places[5] && places[12]);
  EXPECT_GT(places[5]->head<2>().norm(), 150);
  EXPECT_LT((*places[12] - Eigen::Vector3d(10, 5, 600)).norm(), 1e-6);
  EXPECT_FALSE(places[13] || places[14]);
  // Photos that all look straight down say nothing of the height of the ground.
  std::vector<ChoicePhoto> down(12);
  for (std::size_t i = 0; i < down.size(); ++i)
    down[i].position = Eigen::Vector3d(10.0 * static_cast<double>(i), 0, 650),
    down[i].direction = Eigen::Vector3d(0, 0, -1);
  for (const auto& place : places_looked_at(down)) EXPECT_FALSE(place);
}

TEST(ChoosePairs, WhoLooksAwayIsNotNear) {
  const std::vector<Features> features = walk();
  std::vector<ChoicePhoto> photos = choice_of(features);
  PairChoiceOptions near = small_options();
  near.near_photos = 4;
  // Along a gorge, looking at one side of it but for every third photo.
  for (std::size_t i = 0; i < photos.size(); ++i) {
    photos[i].position = Eigen::Vector3d(2.0 * static_cast<double>(i), 0, 0);
    photos[i].direction = Eigen::Vector3d(0, i % 3 == 0 ? -1 : 1, 0);
  }
  Monitor monitor;
  const PairChoice choice = choose_pairs(photos, {}, near, Executor(1), monitor);
  EXPECT_GT(choice.pairs.size(), 40u);
  for (const ProposedPair& pair : choice.pairs) EXPECT_EQ(pair.first.value % 3 == 0, pair.second.value % 3 == 0);
}

TEST(ChoosePairs, ViaAThirdPhoto) {
  // 0-1 and 1-2 match at 40 spots, 15 of them the same in photo 1; 2-3 at 40 others.
  const auto matched = [](std::size_t a, std::size_t b, std::uint32_t shift_a, std::uint32_t shift_b) {
    PairMatches pair;
    pair.first = PhotoIndex(a), pair.second = PhotoIndex(b);
    pair.geometry = PairGeometry::depth;
    for (std::uint32_t k = 0; k < 40; ++k)
      pair.matches.push_back({FeatureIndex(k + shift_a), FeatureIndex(k + shift_b), 0.5f});
    return pair;
  };
  const std::vector<PairMatches> verified = {matched(0, 1, 0, 0), matched(1, 2, 25, 0), matched(2, 3, 100, 0)};
  std::vector<ProposedPair> tried;
  for (const PairMatches& pair : verified) {
    tried.emplace_back();
    tried.back().first = pair.first, tried.back().second = pair.second;
  }
  PairChoiceOptions options;
  options.min_via_spots = 15;
  const std::vector<ProposedPair> more = choose_via(4, tried, verified, options, Executor(2));
  ASSERT_EQ(more.size(), 1u);
  EXPECT_EQ(more[0].first.value, 0u);
  EXPECT_EQ(more[0].second.value, 2u);
  EXPECT_TRUE(more[0].has(PairSource::via));
  options.min_via_spots = 16;
  EXPECT_TRUE(choose_via(4, tried, verified, options, Executor(1)).empty());
  tried.push_back(more[0]);
  options.min_via_spots = 1;
  EXPECT_TRUE(choose_via(4, tried, verified, options, Executor(1)).empty());
}

TEST(PhotoVector, IsLikeItselfAndUnlikeOthers) {
  const std::vector<Features> features = walk();
  std::vector<std::uint8_t> sample;
  for (const Features& f : features)
    sample.insert(sample.end(), f.descriptors.begin(), f.descriptors.begin() + 20 * kDescriptorSize);
  const Vocabulary vocabulary = train_vocabulary(sample, 16, Executor(1)),
                   again = train_vocabulary(sample, 16, Executor(3));
  EXPECT_EQ(vocabulary.size(), 16u);
  EXPECT_EQ(vocabulary.centres, again.centres);
  std::vector<PhotoVector> vectors;
  for (const Features& f : features) vectors.push_back(describe_photo(f, vocabulary));
  EXPECT_NEAR(likeness(vectors[0], vectors[0]), 1, 1e-5);
  EXPECT_GT(likeness(vectors[10], vectors[11]), likeness(vectors[10], vectors[13]));
  EXPECT_GT(likeness(vectors[10], vectors[13]), likeness(vectors[10], vectors[40]));
  EXPECT_LT(likeness(vectors[10], vectors[40]), 0.35f);
  // A photo without features is like nothing.
  EXPECT_EQ(likeness(describe_photo({}, vocabulary), vectors[0]), 0);
}

TEST(ProbePair, AgreesOnAShiftAndNotOnChance) {
  const std::vector<Features> features = walk();
  EXPECT_GE(probe_pair(features[5], features[6]), 40);
  EXPECT_LE(probe_pair(features[5], features[25]), 3);
  EXPECT_EQ(probe_pair(features[5], {}), 0);
}

}  // namespace
}  // namespace icefield
