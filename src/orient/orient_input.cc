#include "src/orient/orient_input.h"

namespace icefield {

std::shared_ptr<const TrackSet> index_tracks(Tracks tracks, std::span<const OrientPhoto> photos) {
  auto set = std::make_shared<TrackSet>();
  set->tracks = std::move(tracks);
  set->photo_tracks.resize(photos.size());
  set->photo_features.resize(photos.size());
  for (const OrientPhoto& photo : photos) set->track_of.emplace_back(photo.keypoints.size(), TrackSet::kNone);
  for (std::size_t t = 0; t < set->tracks.size(); ++t)
    for (const Tracks::Element& e : set->tracks.track(TrackIndex(t))) {
      set->photo_tracks[e.photo.value].push_back(static_cast<std::uint32_t>(t));
      set->photo_features[e.photo.value].push_back(e.feature);
      set->track_of[e.photo.value][e.feature.value] = static_cast<std::uint32_t>(t);
    }
  return set;
}

OrientInput prepare_input(std::span<const OrientPhoto> photos, std::span<const CameraPrior> priors,
                          std::span<const PairMatches> pairs, const OrientOptions& options, const Executor& executor,
                          Monitor& monitor) {
  OrientInput input{photos, priors, pairs, options, executor, monitor, {}, {}};
  input.cut.assign(pairs.size(), 0);
  input.photo_pairs.resize(photos.size());
  for (std::size_t i = 0; i < pairs.size(); ++i) {
    if (!pairs[i].verified()) continue;
    for (const PhotoIndex photo : {pairs[i].first, pairs[i].second})
      input.photo_pairs[photo.value].push_back(static_cast<std::uint32_t>(i));
  }
  return input;
}

std::shared_ptr<const TrackSet> tracks_of(const OrientInput& input) {
  std::vector<PairMatches> kept;
  for (std::size_t i = 0; i < input.pairs.size(); ++i)
    if (input.usable(i)) kept.push_back(input.pairs[i]);
  std::vector<std::size_t> counts;
  for (const OrientPhoto& photo : input.photos) counts.push_back(photo.keypoints.size());
  return index_tracks(build_tracks(kept, counts), input.photos);
}

}  // namespace icefield
