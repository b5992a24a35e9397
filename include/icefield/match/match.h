// From features to verified matches.
#pragma once
#include <Eigen/Core>
#include <cstdint>
#include <span>
#include <string>
#include <vector>

#include "icefield/base/index.h"
#include "icefield/camera/camera.h"
#include "icefield/feature/feature.h"

namespace icefield {

// Two features taken for the same spot, indices into the features of the first and the second photo.
struct Match {
  FeatureIndex first, second;
  // Distance to the nearest descriptor over the distance to the second nearest: the smaller the surer.
  float ratio = 0;
};

struct DescriptorMatchOptions {
  // Largest ratio of a match (Lowe 2004 takes 0.8); a little under it, since wrong matches cost more than lost ones.
  float max_ratio = 0.8f;
  bool mutual = true;  // each must be the other's nearest
};

// Exact nearest neighbours with ratio and mutual check, matches in the order of `first`. Integer arithmetic: the result
// does not depend on the instruction set. Cost: 128 products for each pair of features.
std::vector<Match> match_descriptors(const Features& first, const Features& second, const DescriptorMatchOptions& options = {});

// How a pair was verified, or why it was not.
enum class PairState : std::uint8_t { calibrated, uncalibrated, too_few_matches, no_geometry };
const char* describe(PairState state);

struct VerifyOptions {
  double max_error_px = 2.0;       // Sampson distance of an inlier, in px of the photo
  int min_inliers = 20;            // a pair with fewer is not verified: chance alone reaches a dozen
  double min_inlier_share = 0.12;  // and with a smaller share of the matches
  double confidence = 0.9999;
  int max_samples = 4000;
  // Largest uncertainty of the focal length, percent, at which it is used (essential matrix by five points); otherwise
  // the fundamental matrix by seven.
  double max_focal_uncertainty_percent = 15;
};

// The verified matches of a pair of photos.
struct PairMatches {
  PhotoIndex first, second;
  PairState state = PairState::too_few_matches;
  std::uint32_t candidates = 0;    // matches before verification
  std::vector<Match> matches;      // verified, in the order of `first`; empty unless the state says so
  // Second^T M first = 0: essential (on the planes z = 1 of the undistorted first cameras) or fundamental (pixels).
  Eigen::Matrix3d matrix = Eigen::Matrix3d::Zero();

  bool verified() const { return state == PairState::calibrated || state == PairState::uncalibrated; }
};

// What is known of a photo's camera before orientation.
struct CameraPrior {
  Camera camera;                        // focal length 0 when unknown
  double focal_uncertainty_percent = 0;
};

// Keeps the matches that one two-view geometry supports. Same seed, same result.
PairMatches verify_pair(const Features& first, const Features& second, std::span<const Match> matches, const CameraPrior& first_camera,
                        const CameraPrior& second_camera, const VerifyOptions& options, std::uint64_t seed);

// Tracks: arrays of (photo, feature), grouped by track.
struct Tracks {
  struct Element {
    PhotoIndex photo;
    FeatureIndex feature;
    auto operator<=>(const Element&) const = default;
  };
  std::vector<std::uint64_t> starts{0};  // one more than there are tracks
  std::vector<Element> elements;         // by photo within a track

  std::size_t size() const { return starts.size() - 1; }
  std::span<const Element> track(TrackIndex t) const {
    return {elements.data() + starts[t.value], elements.data() + starts[t.value + 1]};
  }
};

struct TrackOptions {
  int min_length = 2;  // photos
};

// Union of the verified matches, surest first; a match that would put two features of one photo into a track is left
// out. Tracks are in the order of their first elements. `feature_counts` by photo.
Tracks build_tracks(std::span<const PairMatches> pairs, std::span<const std::size_t> feature_counts, const TrackOptions& options = {});

}  // namespace icefield
