#include "icefield/match/match_set.h"

#include <algorithm>
#include <numeric>

#include "icefield/base/random.h"
#include "icefield/base/rounds.h"
#include "src/base/recently_used.h"

namespace icefield {
namespace {

// Of each kind.
Features strongest_of(const Features& features, int count) {
  Features out;
  const std::size_t gradient = features.gradient_size(), g = std::min(gradient, static_cast<std::size_t>(count)),
                    b = std::min(features.binary_size(), static_cast<std::size_t>(count));
  out.keypoints.assign(features.keypoints.begin(), features.keypoints.begin() + static_cast<std::ptrdiff_t>(g));
  out.keypoints.insert(out.keypoints.end(), features.keypoints.begin() + static_cast<std::ptrdiff_t>(gradient),
                       features.keypoints.begin() + static_cast<std::ptrdiff_t>(gradient + b));
  out.descriptors.assign(features.descriptors.begin(),
                         features.descriptors.begin() + static_cast<std::ptrdiff_t>(g * kDescriptorSize));
  out.bits.assign(features.bits.begin(), features.bits.begin() + static_cast<std::ptrdiff_t>(b * kBitWords));
  return out;
}

std::uint64_t seed_of(const ProposedPair& pair, std::span<const SetPhoto> photos) {
  return combine_keys(photos[pair.first.value].seed, photos[pair.second.value].seed);
}

// Pairs of photos by tiles, so that the features of two tiles are in memory and no more.
class PairRound : public UnitRound {
 public:
  PairRound(std::vector<ProposedPair> pairs, std::span<const SetPhoto> photos, const MatchSetOptions& options,
            MatchStore& store)
      : pairs_(std::move(pairs)),
        photos_(photos),
        options_(options),
        store_(store),
        features_(2 * kTile, [this](auto i) { return std::make_shared<Features>(store_.features(PhotoIndex(i))); }) {
    const auto tile_of = [](const ProposedPair& p) { return std::pair(p.first.value / kTile, p.second.value / kTile); };
    std::stable_sort(pairs_.begin(), pairs_.end(),
                     [&](const ProposedPair& a, const ProposedPair& b) { return tile_of(a) < tile_of(b); });
  }
  std::size_t size() const override { return pairs_.size(); }
  bool is_kept(std::size_t) override { return false; }  // those are left out
  std::uint64_t memory_bytes(std::size_t) const override { return kBytes; }
  Bytes compute(std::size_t unit, const Executor&) override {
    const ProposedPair& pair = pairs_[unit];
    const auto a = features_.get(pair.first.value), b = features_.get(pair.second.value);
    return pair_to_bytes(verify_pair(
        {pair.first, *a, photos_[pair.first.value].camera}, {pair.second, *b, photos_[pair.second.value].camera},
        match_descriptors(*a, *b, options_.descriptor), options_.verify, seed_of(pair, photos_)));
  }
  void keep(std::size_t unit, const Bytes& result) override { put(store_, pairs_[unit], result); }

  static void put(MatchStore& store, const ProposedPair& pair, const Bytes& bytes) {
    PairMatches matches = pair_from_bytes(bytes);
    matches.first = pair.first, matches.second = pair.second;
    store.put(pair, matches);
  }

 private:
  static constexpr std::uint32_t kTile = 64;
  static constexpr std::uint64_t kBytes = 32u << 20;  // two photos' features, distances of a part of them, matches
  std::vector<ProposedPair> pairs_;
  std::span<const SetPhoto> photos_;
  const MatchSetOptions& options_;
  MatchStore& store_;
  RecentlyUsed<std::uint32_t, Features> features_;
};

// Pairs anew, with narrowed copies.
class WidePairRound : public UnitRound {
 public:
  WidePairRound(const std::vector<ProposedPair>& pairs, std::span<const SetPhoto> photos,
                const MatchSetOptions& options, MatchStore& store)
      : pairs_(pairs), photos_(photos), options_(options), store_(store) {}
  std::size_t size() const override { return pairs_.size(); }
  bool is_kept(std::size_t) override { return false; }
  std::uint64_t memory_bytes(std::size_t) const override { return kBytes; }
  Bytes compute(std::size_t unit, const Executor&) override {
    const ProposedPair& pair = pairs_[unit];
    ProposedPair plain = pair;
    plain.wide = false;
    const WideFeatures first{store_.features(pair.first), store_.narrowed(pair.first)},
        second{store_.features(pair.second), store_.narrowed(pair.second)};
    return pair_to_bytes(verify_wide_pair(first, second, store_.get(plain), options_.descriptor,
                                          photos_[pair.first.value].camera, photos_[pair.second.value].camera,
                                          options_.verify, seed_of(pair, photos_)));
  }
  void keep(std::size_t unit, const Bytes& result) override { PairRound::put(store_, pairs_[unit], result); }

 private:
  static constexpr std::uint64_t kBytes = 160u << 20;  // features of two photos with those of four copies of each
  const std::vector<ProposedPair>& pairs_;
  std::span<const SetPhoto> photos_;
  const MatchSetOptions& options_;
  MatchStore& store_;
};

// A copy of what was there stays where narrowed copies show no more.
void match_wide(const std::vector<ProposedPair>& missing, std::span<const SetPhoto> photos,
                const MatchSetOptions& options, MatchStore& store, const Executor& executor, Monitor& monitor) {
  std::vector<PhotoIndex> unknown;
  for (const ProposedPair& pair : missing)
    for (const PhotoIndex i : {pair.first, pair.second})
      if (!store.has_narrowed(i)) unknown.push_back(i);
  std::sort(unknown.begin(), unknown.end());
  unknown.erase(std::unique(unknown.begin(), unknown.end()), unknown.end());
  executor.run("find features in narrowed copies", unknown.size(), monitor,
               [&](std::size_t k) { (void)store.narrowed(unknown[k]); });
  WidePairRound round(missing, photos, options, store);
  run_round("match photos far apart", round, executor, monitor);
}

// Pairs through third photos, matched as they come, until there are no more.
void go_on_via(std::span<const SetPhoto> photos, const MatchSetOptions& options, MatchStore& store,
               const Executor& executor, Monitor& monitor, MatchSetResult& result) {
  std::vector<ProposedPair>& pairs = result.choice.pairs;
  for (int round = 0; round < options.pairs.via_rounds; ++round) {
    std::vector<PairMatches> verified;
    for (const ProposedPair& tried : pairs)
      if (PairMatches pair = store.get(tried); pair.verified()) {
        // The strongest features tell enough and hold memory down.
        std::erase_if(pair.matches, [](const Match& m) { return std::max(m.first.value, m.second.value) >= 3000; });
        verified.push_back(std::move(pair));
      }
    const std::vector<ProposedPair> more = choose_via(photos.size(), pairs, verified, options.pairs, executor);
    if (more.empty()) return;
    result.computed += match_pairs(more, photos, options, store, executor, monitor);
    pairs.insert(pairs.end(), more.begin(), more.end());
    std::sort(pairs.begin(), pairs.end(), [](const ProposedPair& a, const ProposedPair& b) {
      return std::pair(a.first, a.second) < std::pair(b.first, b.second);
    });
  }
}

}  // namespace

MatchMemory::MatchMemory(std::vector<Features> features, Narrow narrow)
    : features_(std::move(features)), narrow_(std::move(narrow)) {}

Features MatchMemory::features(PhotoIndex photo) {
  return features_[photo.value];
}

std::vector<Features> MatchMemory::narrowed(PhotoIndex photo) {
  {
    const std::lock_guard lock(mutex_);
    if (const auto known = narrowed_.find(photo.value); known != narrowed_.end()) return known->second;
  }
  std::vector<Features> copies = narrow_ ? narrow_(photo) : std::vector<Features>{};
  const std::lock_guard lock(mutex_);
  return narrowed_.try_emplace(photo.value, std::move(copies)).first->second;
}

bool MatchMemory::has_narrowed(PhotoIndex photo) {
  const std::lock_guard lock(mutex_);
  return narrowed_.count(photo.value) > 0;
}

bool MatchMemory::has(const ProposedPair& pair) {
  const std::lock_guard lock(mutex_);
  return pairs_.count(key(pair)) > 0;
}

PairMatches MatchMemory::get(const ProposedPair& pair) {
  const std::lock_guard lock(mutex_);
  return pairs_.at(key(pair));
}

void MatchMemory::put(const ProposedPair& pair, const PairMatches& matches) {
  const std::lock_guard lock(mutex_);
  pairs_.insert_or_assign(key(pair), matches);
}

std::vector<Keypoint> MatchMemory::keypoints(PhotoIndex photo) {
  const std::lock_guard lock(mutex_);
  const auto copies = narrowed_.find(photo.value);
  return WideFeatures{features_[photo.value], copies != narrowed_.end() ? copies->second : std::vector<Features>{}}
      .keypoints();
}

std::size_t match_pairs(std::span<const ProposedPair> pairs, std::span<const SetPhoto> photos,
                        const MatchSetOptions& options, MatchStore& store, const Executor& executor, Monitor& monitor) {
  for (const ProposedPair& pair : pairs)
    if (pair.first >= pair.second || pair.second.value >= photos.size())
      throw Error(ErrorKind::usage, "a pair to be matched", "does not name two photos of the set, the lower one first",
                  "give indices below the number of photos");
  std::vector<ProposedPair> plain, wide;
  for (ProposedPair pair : pairs) {
    if (pair.wide && !store.has(pair)) wide.push_back(pair);
    pair.wide = false;
    if (!store.has(pair)) plain.push_back(pair);
  }
  const std::size_t computed = plain.size();
  PairRound round(std::move(plain), photos, options, store);
  run_round("match pairs", round, executor, monitor);
  match_wide(wide, photos, options, store, executor, monitor);
  return computed;
}

MatchSetResult match_set(std::span<const SetPhoto> photos, std::span<const ProposedPair> listed,
                         const MatchSetOptions& options, MatchStore& store, const Executor& executor,
                         Monitor& monitor) {
  MatchSetResult result;
  const bool all = static_cast<int>(photos.size()) <= options.pairs.all_up_to;
  std::vector<Features> strongest(photos.size());
  if (!all)
    executor.run("choose pairs", photos.size(), monitor, [&](std::size_t i) {
      strongest[i] = strongest_of(store.features(PhotoIndex(i)), options.pairs.probe_features);
    });
  std::vector<ChoicePhoto> choice;
  for (std::size_t i = 0; i < photos.size(); ++i) {
    choice.push_back(photos[i].choice);
    choice.back().strongest = &strongest[i];
  }
  result.choice = choose_pairs(choice, listed, options.pairs, executor, monitor);
  result.computed = match_pairs(result.choice.pairs, photos, options, store, executor, monitor);
  if (!all) go_on_via(photos, options, store, executor, monitor, result);
  if (!options.narrowing) return result;
  std::vector<PairOutline> tried;
  for (const ProposedPair& pair : result.choice.pairs) tried.push_back(outline_of(store.get(pair)));
  for (const std::size_t p : choose_wide(tried, photos.size())) result.choice.pairs[p].wide = true;
  match_pairs(result.choice.pairs, photos, options, store, executor, monitor);
  return result;
}

}  // namespace icefield
