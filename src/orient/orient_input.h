// What does not change while blocks are made.
#pragma once
#include <memory>
#include <span>
#include <vector>

#include "icefield/orient/orient.h"

namespace icefield {

// Tracks with the ways from a photo to its tracks. Blocks share it until they come to know tracks better.
struct TrackSet {
  static constexpr std::uint32_t kNone = 0xffffffffu;
  Tracks tracks;
  std::vector<std::vector<std::uint32_t>> photo_tracks;   // tracks by photo, ascending
  std::vector<std::vector<FeatureIndex>> photo_features;  // the feature of each of them
  std::vector<std::vector<std::uint32_t>> track_of;       // by photo and feature; kNone
};
std::shared_ptr<const TrackSet> index_tracks(Tracks tracks, std::span<const OrientPhoto> photos);

struct OrientInput {
  std::span<const OrientPhoto> photos;
  std::span<const CameraPrior> priors;
  std::span<const PairMatches> pairs;
  const OrientOptions& options;
  const Executor& executor;
  Monitor& monitor;
  std::vector<std::uint8_t> cut;                        // by pair: takes no part
  std::vector<std::vector<std::uint32_t>> photo_pairs;  // verified pairs by photo

  bool usable(std::size_t pair) const { return pairs[pair].verified() && !cut[pair]; }
  Eigen::Vector2d pixel(PhotoIndex photo, FeatureIndex feature) const {
    const Keypoint& k = photos[photo.value].keypoints[feature.value];
    return {k.x, k.y};
  }
};
OrientInput prepare_input(std::span<const OrientPhoto> photos, std::span<const CameraPrior> priors,
                          std::span<const PairMatches> pairs, const OrientOptions& options, const Executor& executor,
                          Monitor& monitor);

// Tracks of the pairs that are not cut.
std::shared_ptr<const TrackSet> tracks_of(const OrientInput& input);

}  // namespace icefield
