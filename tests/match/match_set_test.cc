#include "icefield/match/match_set.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <cstring>

#include "tests/tools/textured.h"

namespace icefield {
namespace {

// Six photos of one wall, each turned and nearer than the one before, and one of nothing that the others show.
struct Wall {
  std::vector<Features> features;
  std::vector<SetPhoto> photos;
  Wall() {
    for (int i = 0; i < 7; ++i) {
      ImageF image = test::textured(360, 270, 0.1 * i, 1 + 0.05 * i);
      if (i == 6)  // mirrored: nothing of it looks like the others
        for (int y = 0; y < image.height(); ++y) std::reverse(&image.at(0, y), &image.at(0, y) + image.width());
      features.push_back(find_features(image));
      SetPhoto photo;
      photo.camera.camera.width = 360, photo.camera.camera.height = 270;
      photo.camera.camera.parameters = {400, 180, 135, 0, 0};
      photo.camera.focal_uncertainty_percent = 3;
      photo.seed = 1000 + static_cast<std::uint64_t>(i);
      photos.push_back(photo);
    }
  }
};
const Wall& wall() {
  static const Wall made;
  return made;
}

MatchSetOptions plain() {
  MatchSetOptions options;
  options.narrowing = false;
  return options;
}

bool same(const PairMatches& a, const PairMatches& b) {
  return a.first == b.first && a.second == b.second && a.geometry == b.geometry && a.fault == b.fault &&
         a.matrix == b.matrix && a.matches.size() == b.matches.size() &&
         std::memcmp(a.matches.data(), b.matches.data(), a.matches.size() * sizeof(Match)) == 0;
}

TEST(MatchSet, AFewPhotosAreTriedAllAgainstAll) {
  MatchMemory store(wall().features);
  Monitor monitor;
  const MatchSetResult result = match_set(wall().photos, {}, plain(), store, Executor(2), monitor);
  ASSERT_EQ(result.choice.pairs.size(), 21u);
  EXPECT_EQ(result.computed, 21u);
  std::size_t verified = 0;
  for (const ProposedPair& pair : result.choice.pairs) {
    const PairMatches found = store.get(pair);
    EXPECT_EQ(found.first, pair.first);  // a result names its photos
    EXPECT_EQ(found.second, pair.second);
    EXPECT_FALSE(found.verified() && pair.second.value == 6) << "with a photo that shows nothing of the others";
    verified += found.verified();
  }
  EXPECT_GE(verified, 14u);
  // What is kept is not computed again.
  EXPECT_EQ(match_set(wall().photos, {}, plain(), store, Executor(2), monitor).computed, 0u);
}

TEST(MatchSet, ManyPhotosByQuickLooksAndTheSameForAnyNumberOfThreads) {
  MatchSetOptions options = plain();
  options.pairs.all_up_to = 2;
  options.pairs.alike_photos = 2;
  options.pairs.next_photos = 1;
  options.pairs.words = 8;
  Monitor monitor;
  MatchMemory one(wall().features), three(wall().features);
  const MatchSetResult a = match_set(wall().photos, {}, options, one, Executor(1), monitor),
                       b = match_set(wall().photos, {}, options, three, Executor(3), monitor);
  ASSERT_EQ(a.choice.pairs.size(), b.choice.pairs.size());
  EXPECT_LT(a.choice.pairs.size(), 21u);
  std::size_t verified = 0;
  for (std::size_t k = 0; k < a.choice.pairs.size(); ++k) {
    ASSERT_TRUE(same(one.get(a.choice.pairs[k]), three.get(b.choice.pairs[k])));
    verified += one.get(a.choice.pairs[k]).verified();
  }
  EXPECT_GE(verified, 6u);
  // A listed pair is tried whatever the looks say.
  ProposedPair listed{PhotoIndex(0), PhotoIndex(6)};
  listed.add(PairSource::listed);
  const MatchSetResult c = match_set(wall().photos, std::span(&listed, 1), options, one, Executor(1), monitor);
  EXPECT_TRUE(std::any_of(c.choice.pairs.begin(), c.choice.pairs.end(),
                          [&](const ProposedPair& p) { return p.first == listed.first && p.second == listed.second; }));
}

TEST(MatchSet, PhotosFarApartAreMatchedAnew) {
  // A pair marked so is matched with narrowed copies as well; their features follow the photo's own.
  int narrowed = 0;
  MatchMemory store({wall().features[0], wall().features[1]}, [&](PhotoIndex i) {
    ++narrowed;
    return find_narrowed_features(test::textured(360, 270, 0.1 * i.value, 1 + 0.05 * i.value));
  });
  Monitor monitor;
  ProposedPair pair{PhotoIndex(0), PhotoIndex(1)};
  pair.wide = true;
  const std::span photos(wall().photos.data(), 2);
  EXPECT_EQ(match_pairs(std::span(&pair, 1), photos, {}, store, Executor(1), monitor), 1u);
  EXPECT_EQ(narrowed, 2);
  ProposedPair plain = pair;
  plain.wide = false;
  ASSERT_TRUE(store.has(pair) && store.has(plain));
  EXPECT_GE(store.get(pair).matches.size(), store.get(plain).matches.size());
  EXPECT_GT(store.keypoints(PhotoIndex(0)).size(), wall().features[0].size());
  for (const Match& m : store.get(pair).matches) ASSERT_LT(m.first.value, store.keypoints(PhotoIndex(0)).size());
}

TEST(MatchSet, RefusesPairsThatNameNoTwoPhotos) {
  MatchMemory store(wall().features);
  Monitor monitor;
  for (const ProposedPair& pair :
       {ProposedPair{PhotoIndex(3), PhotoIndex(7)}, ProposedPair{PhotoIndex(3), PhotoIndex(3)},
        ProposedPair{PhotoIndex(4), PhotoIndex(2)}, ProposedPair{}})
    EXPECT_THROW(match_pairs(std::span(&pair, 1), wall().photos, {}, store, Executor(1), monitor), Error);
}

}  // namespace
}  // namespace icefield
