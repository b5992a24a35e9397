// A whole set of photos matched: which pairs are tried, and what of them stands.
#pragma once
#include <functional>
#include <map>
#include <mutex>
#include <optional>
#include <span>
#include <utility>
#include <vector>

#include "icefield/match/choose_pairs.h"
#include "icefield/match/match.h"

namespace icefield {

struct MatchSetOptions {
  PairChoiceOptions pairs;
  DescriptorMatchOptions descriptor;
  VerifyOptions verify;
  bool narrowing = true;  // photos that stand far apart are matched anew with narrowed copies
};

// What matching a set needs to know of a photo beside its features.
struct SetPhoto {
  ChoicePhoto choice;  // `strongest` is filled in on the way
  CameraPrior camera;
  std::uint64_t seed = 0;  // of what is drawn at random for its pairs: a part of its content, so that it stays its own
};

// Where features come from and matched pairs are kept. Calls may come from several threads. A pair that was matched
// anew with narrowed copies stands beside the one without them.
class MatchStore {
 public:
  virtual ~MatchStore() = default;
  virtual Features features(PhotoIndex photo) = 0;
  virtual std::vector<Features> narrowed(PhotoIndex photo) = 0;  // of find_narrowed_features
  virtual bool has_narrowed(PhotoIndex photo) = 0;               // false: the call above will take its time
  virtual bool has(const ProposedPair& pair) = 0;
  virtual PairMatches get(const ProposedPair& pair) = 0;  // one that there is, with its photos
  virtual void put(const ProposedPair& pair, const PairMatches& matches) = 0;
};

// In memory. Narrowed copies are made by `narrow`; without it photos have none.
class MatchMemory : public MatchStore {
 public:
  using Narrow = std::function<std::vector<Features>(PhotoIndex)>;
  explicit MatchMemory(std::vector<Features> features, Narrow narrow = {});
  Features features(PhotoIndex photo) override;
  std::vector<Features> narrowed(PhotoIndex photo) override;
  bool has_narrowed(PhotoIndex photo) override;
  bool has(const ProposedPair& pair) override;
  PairMatches get(const ProposedPair& pair) override;
  void put(const ProposedPair& pair, const PairMatches& matches) override;
  // All that a photo's matches name: its features, then those of its copies where such were made.
  std::vector<Keypoint> keypoints(PhotoIndex photo);

 private:
  using Key = std::pair<std::pair<std::uint32_t, std::uint32_t>, bool>;
  static Key key(const ProposedPair& pair) { return {{pair.first.value, pair.second.value}, pair.wide}; }
  std::vector<Features> features_;
  Narrow narrow_;
  std::mutex mutex_;
  std::map<std::uint32_t, std::vector<Features>> narrowed_;
  std::map<Key, PairMatches> pairs_;
};

// Matches and verifies pairs that are not kept yet, by tiles of photos so that the features of two tiles are in memory
// and no more; those marked `wide` anew with narrowed copies as well. Returns how many were computed.
std::size_t match_pairs(std::span<const ProposedPair> pairs, std::span<const SetPhoto> photos,
                        const MatchSetOptions& options, MatchStore& store, const Executor& executor = Executor(),
                        Monitor& monitor = silent_monitor());

struct MatchSetResult {
  PairChoice choice;         // all pairs tried, ascending; `wide` those that were matched anew
  std::size_t computed = 0;  // pairs that were not kept before
};

// Chooses pairs by quick looks, matches and verifies them, goes on through third photos, and matches photos that stand
// far apart anew. The pairs are in the store then. Same input, same result, for any number of threads. `listed` pairs
// are tried whatever else is chosen.
MatchSetResult match_set(std::span<const SetPhoto> photos, std::span<const ProposedPair> listed,
                         const MatchSetOptions& options, MatchStore& store, const Executor& executor = Executor(),
                         Monitor& monitor = silent_monitor());

}  // namespace icefield
