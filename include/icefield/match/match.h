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

// Exact nearest neighbours with ratio and mutual check, each kind of feature with its own, matches in the order of
// `first`. Binary descriptors by the number of differing bits. Integer arithmetic: the result does not depend on the
// instruction set. Cost: 128 products, or 8 words, for each pair of features.
std::vector<Match> match_descriptors(const Features& first, const Features& second,
                                     const DescriptorMatchOptions& options = {});

// What the matches of a verified pair show.
enum class PairGeometry : std::uint8_t {
  none,    // not verified: PairFault says why
  depth,   // two places, a subject with depth
  flat,    // two places, a subject that is flat as far as the matches tell
  turned,  // one place: the photo was turned (or nothing but far things match); no depth can come of it
};
// Why there is no geometry.
enum class PairFault : std::uint8_t {
  none,  // there is one
  few_matches,
  disagree,     // no two-view geometry supports enough of the matches
  same_pixels,  // the matches stay at the same pixel: a date stamp, dust, the frame of a vehicle
};
inline constexpr int kPairGeometries = 4, kPairFaults = 4;
const char* name_of(PairGeometry geometry);  // one word or two, as in tables
const char* name_of(PairFault fault);
const char* describe(PairGeometry geometry);  // a sentence
const char* describe(PairFault fault);

// What a matrix between two photos maps.
enum class TwoViewModel : std::uint8_t { none, essential, fundamental, homography, rotation };

struct VerifyOptions {
  // Distance from the geometry at which a match is surely wrong, in px of the photo; the noise is found within it, and
  // matches over 3.5 times the noise are left out as well.
  // (Much of it is not noise but the distortion of a lens that is not known yet.)
  double max_error_px = 5.0;
  int min_inliers = 20;            // a pair with fewer is not verified: chance alone reaches a dozen
  double min_inlier_share = 0.12;  // and with a smaller share of the matches
  double confidence = 0.9999;
  int max_samples = 2000;
  // Largest uncertainty of the focal length, percent, at which it is used (essential matrix by five points); otherwise
  // the fundamental matrix by seven.
  double max_focal_uncertainty_percent = 15;
  // Share of the inliers that a plane, or a turn, must explain to be taken for the whole; so many left over are of no
  // weight.
  double min_plane_share = 0.95;
  int min_off_plane = 12;
  // Matches that move by less than this are of a fixed pattern, unless they are most of the matches.
  double fixed_pattern_px = 1.0;
  // A second pass of matching within reach of the geometry found, with a ratio among those within reach only.
  bool guided = true;
  float max_guided_ratio = 0.85f;
};

// The verified matches of a pair of photos.
struct PairMatches {
  PhotoIndex first, second;
  PairGeometry geometry = PairGeometry::none;
  PairFault fault = PairFault::few_matches;
  TwoViewModel model = TwoViewModel::none;
  std::uint32_t candidates = 0;  // matches before verification
  std::uint32_t fixed = 0;       // of them left out as a fixed pattern
  std::uint32_t guided = 0;      // of the verified ones found in the guided pass
  // Where both focal lengths are known, as far as a sample of the matches tells: the verified ones whose rays meet at 3
  // degrees or more, and by how much the photos are turned from each other; negative: not known.
  std::uint32_t near = 0;
  float turned_deg = -1;
  std::vector<Match> matches;  // verified, in the order of `first`; empty without a geometry
  // Second^T M first = 0 for an essential (on the planes z = 1 of the undistorted first cameras) or fundamental one
  // (pixels); second ~ M first for a homography (pixels, or planes z = 1 where both focal lengths are known) or
  // rotation (planes z = 1). Of a plane seen by known cameras the essential matrix where the plane leaves no doubt of
  // it, else the homography.
  Eigen::Matrix3d matrix = Eigen::Matrix3d::Zero();

  bool verified() const { return geometry != PairGeometry::none; }
};

// Without its photos, whose places in a set may change.
Bytes pair_to_bytes(const PairMatches& pair);
PairMatches pair_from_bytes(std::span<const std::byte> bytes);  // throws Error(input) for anything but such bytes

// A pair without its matches.
struct PairOutline {
  PhotoIndex first, second;
  PairGeometry geometry;
  PairFault fault;
  std::uint32_t candidates, matches, near;
  float turned_deg;
};
inline PairOutline outline_of(const PairMatches& p) {
  return {p.first, p.second,    p.geometry, p.fault, p.candidates, static_cast<std::uint32_t>(p.matches.size()),
          p.near,  p.turned_deg};
}

// What is known of a photo's camera before orientation.
struct CameraPrior {
  Camera camera;  // focal length 0 when unknown
  double focal_uncertainty_percent = 0;
};

// One photo of a pair. They must outlive the call.
struct PairPhoto {
  PhotoIndex photo;  // its place in the job's list
  const Features& features;
  const CameraPrior& camera;
};

// Keeps the matches that one two-view geometry supports, then looks for more along it. The result names the photos.
// Same seed, same result. Throws Error(usage) for a match of a feature that there is not.
PairMatches verify_pair(const PairPhoto& first, const PairPhoto& second, std::span<const Match> matches,
                        const VerifyOptions& options, std::uint64_t seed);

// A photo's features with those of its narrowed copies (find_narrowed_features). A match of theirs names a feature by
// its place in the row of all keypoints: `found` first, then copy by copy.
struct WideFeatures {
  Features found;
  std::vector<Features> narrowed;
  std::vector<Keypoint> keypoints() const;
};

// The same for photos that see a surface from directions far apart: the features of each photo are matched with the
// narrowed copies of the other as well, each copy by itself. A match at a place that has one already is left out; a
// keypoint of a copy that lies on one of the photo's own is taken for that. Takes nine times as long as a pair. Where
// this shows no more than `plain`, the pair as it is without copies, that comes back.
PairMatches verify_wide_pair(const WideFeatures& first, const WideFeatures& second, const PairMatches& plain,
                             const DescriptorMatchOptions& matching, const CameraPrior& first_camera,
                             const CameraPrior& second_camera, const VerifyOptions& options, std::uint64_t seed);

// Pairs (indices) to be matched anew with narrowed copies: those between photos that few pairs hold by something near,
// which are turned from each other by so much that a near subject changes its looks. `photos` is their number.
std::vector<std::size_t> choose_wide(std::span<const PairOutline> pairs, std::size_t photos);

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

// Union of the verified matches, those first that most other photos confirm (a third feature is matched with both), of
// equals the surest; a match that would put two features of one photo into a track is left out, so that in a conflict
// the better supported part stands. Tracks are in the order of their first elements. `feature_counts` by photo.
Tracks build_tracks(std::span<const PairMatches> pairs, std::span<const std::size_t> feature_counts,
                    const TrackOptions& options = {});

}  // namespace icefield
