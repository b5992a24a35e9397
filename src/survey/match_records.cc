#include "src/survey/match_records.h"

#include "icefield/base/instructions.h"
#include "src/survey/records.h"
#include "src/survey/survey_state.h"
#include "src/survey/versions.h"

namespace icefield {

Features found_features(PhotoSource& photos, PhotoIndex photo, const FeatureOptions& options,
                        const Executor& executor) {
  const ImageU8 mask = photos.mask(photo);
  return find_features(photos.grey(photo), options, mask.empty() ? nullptr : &mask, executor);
}

std::vector<Features> found_in_narrowed(PhotoSource& photos, PhotoIndex photo, const FeatureOptions& options) {
  const ImageU8 mask = photos.mask(photo);
  return find_narrowed_features(photos.grey(photo), options, mask.empty() ? nullptr : &mask);
}

MatchRecords::MatchRecords(Store& store, const PhotoList& list, const Settings& settings)
    : store_(store),
      list_(list),
      files_(list, settings.photo),
      settings_(settings),
      settings_key_(Fingerprinter().add(kPairVersion).add(settings.text({"match"})).result()) {
  const std::string feature_settings = settings.text({"feature"});
  for (std::size_t i = 0; i < list.used; ++i)
    feature_keys_.push_back(Fingerprinter()
                                .add(kFeatureVersion)
                                .add(instruction_level())
                                .add(list.photos[i].content)
                                .add(list.photos[i].mask_content)
                                .add(feature_settings)
                                .result());
}

Fingerprint MatchRecords::narrowed_key(PhotoIndex photo) const {
  return Fingerprinter().add("narrowed").add(kWideVersion).add(feature_key(photo)).result();
}

Fingerprint MatchRecords::colours_key(PhotoIndex photo, bool with_narrowed) const {
  return Fingerprinter().add("colours").add(with_narrowed ? narrowed_key(photo) : feature_key(photo)).result();
}

Fingerprint MatchRecords::key_of(const ProposedPair& pair) const {
  Fingerprinter key;
  key.add(settings_key_).add(feature_key(pair.first)).add(feature_key(pair.second));
  for (const PhotoIndex photo : {pair.first, pair.second}) {
    const CameraPrior& prior = list_.cameras[list_.photos[photo.value].camera.value].prior;
    key.add(static_cast<std::uint32_t>(prior.camera.model));
    for (const double p : prior.camera.parameters) key.add(p);
    key.add(prior.focal_uncertainty_percent);
  }
  return pair.wide ? Fingerprinter().add("wide").add(kWideVersion).add(key.result()).result() : key.result();
}

std::optional<Features> MatchRecords::kept_features(PhotoIndex photo) const {
  return store_.read("features", feature_key(photo), features_from_bytes);
}

std::size_t MatchRecords::feature_count(PhotoIndex photo) const {
  const Bytes head = store_.head("features", feature_key(photo), sizeof(std::uint64_t));
  return head.size() == sizeof(std::uint64_t) ? ByteReader(head).get<std::uint64_t>() : 0;  // features_record
}

std::optional<std::vector<Features>> MatchRecords::kept_narrowed(PhotoIndex photo) const {
  return store_.read("narrowed", narrowed_key(photo), read_narrowed_record);
}

std::optional<PairMatches> MatchRecords::kept(const ProposedPair& pair) const {
  auto found = store_.read(kind_of(pair), key_of(pair), pair_from_bytes);
  if (found) found->first = pair.first, found->second = pair.second;
  return found;
}

Features MatchRecords::find(PhotoIndex photo) {
  Features found = found_features(files_, photo, settings_.feature);
  keep_features(photo, features_to_bytes(found));
  return found;
}

Features MatchRecords::features(PhotoIndex photo) {
  auto known = kept_features(photo);
  return known ? std::move(*known) : find(photo);
}

std::vector<Features> MatchRecords::narrowed(PhotoIndex photo) {
  if (auto known = kept_narrowed(photo)) return std::move(*known);
  std::vector<Features> copies = found_in_narrowed(files_, photo, settings_.feature);
  store_.put("narrowed", narrowed_key(photo), narrowed_record(copies));
  return copies;
}

PairMatches MatchRecords::get(const ProposedPair& pair) {
  auto known = kept(pair);
  if (!known)
    throw Error(ErrorKind::resource, "work/records.sqlite", "was changed during the run", "run the same command again");
  return std::move(*known);
}

void MatchRecords::put(const ProposedPair& pair, const PairMatches& matches) {
  store_.put(kind_of(pair), key_of(pair), pair_to_bytes(matches));
}

}  // namespace icefield
