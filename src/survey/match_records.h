// Features and matched pairs of a survey, as records.
#pragma once
#include <optional>
#include <vector>

#include "icefield/match/match_set.h"
#include "icefield/survey/survey.h"
#include "src/survey/photo_files.h"
#include "src/survey/store.h"

namespace icefield {

// Each record's key is the fingerprint of the contents, settings and versions that it was made from. What is missing is
// found again where it is asked for; pairs are not. Photos are those that take part, by their place in the list.
class MatchRecords : public MatchStore {
 public:
  MatchRecords(Store& store, const PhotoList& list, const Settings& settings);

  const Fingerprint& feature_key(PhotoIndex photo) const { return feature_keys_[photo.value]; }
  Fingerprint narrowed_key(PhotoIndex photo) const;
  // Of what is known of its keypoints' colours: those of the photo's own, or with those of its narrowed copies after
  // them.
  Fingerprint colours_key(PhotoIndex photo, bool with_narrowed) const;
  Fingerprint key_of(const ProposedPair& pair) const;
  static const char* kind_of(const ProposedPair& pair) { return pair.wide ? "wide pair" : "pair"; }

  // There, whole or not.
  bool lists_features(PhotoIndex photo) const { return store_.has("features", feature_key(photo)); }
  bool lists_narrowed(PhotoIndex photo) const { return store_.has("narrowed", narrowed_key(photo)); }
  bool lists(const ProposedPair& pair) const { return store_.has(kind_of(pair), key_of(pair)); }
  std::optional<Features> kept_features(PhotoIndex photo) const;
  std::size_t feature_count(PhotoIndex photo) const;  // of those that are kept
  std::optional<std::vector<Features>> kept_narrowed(PhotoIndex photo) const;
  std::optional<PairMatches> kept(const ProposedPair& pair) const;  // nothing where it is missing or damaged
  Features find(PhotoIndex photo);                                  // now, and keeps them
  void keep_features(PhotoIndex photo, const Bytes& bytes) { store_.put("features", feature_key(photo), bytes); }

  Features features(PhotoIndex photo) override;
  std::vector<Features> narrowed(PhotoIndex photo) override;
  // These read them, so that what is damaged is made again in the same run.
  bool has_narrowed(PhotoIndex photo) override { return kept_narrowed(photo).has_value(); }
  bool has(const ProposedPair& pair) override { return kept(pair).has_value(); }
  PairMatches get(const ProposedPair& pair) override;  // throws Error(resource) where it is not kept
  void put(const ProposedPair& pair, const PairMatches& matches) override;
  PhotoSource& files() { return files_; }

 private:
  Store& store_;
  const PhotoList& list_;
  PhotoFiles files_;
  const Settings& settings_;
  Fingerprint settings_key_;  // reading the settings for each of many pairs would take longer than the rest
  std::vector<Fingerprint> feature_keys_;
};

// Of a photo with its mask, as `match` finds them.
Features found_features(PhotoSource& photos, PhotoIndex photo, const FeatureOptions& options,
                        const Executor& executor = Executor(1));
std::vector<Features> found_in_narrowed(PhotoSource& photos, PhotoIndex photo, const FeatureOptions& options);

}  // namespace icefield
