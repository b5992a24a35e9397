// Which pairs of photos to match.
#pragma once
#include <Eigen/Core>
#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "icefield/base/parallel.h"
#include "icefield/match/match.h"

namespace icefield {

// Why a pair is tried. A pair may have several sources.
enum class PairSource : std::uint8_t {
  all,     // the set is small: every pair
  near,    // taken from places close to each other, or looking at places close to each other
  alike,   // look alike as a whole
  next,    // taken one after the other
  via,     // both match a third photo at the same spots
  listed,  // asked for by the user
};
inline constexpr int kPairSources = 6;
const char* name_of(PairSource source);

struct ProposedPair {
  PhotoIndex first, second;  // first < second
  std::uint8_t sources = 0;  // bits 1 << PairSource
  bool wide = false;         // matched anew with narrowed copies (choose_wide)
  bool has(PairSource source) const { return sources >> static_cast<int>(source) & 1; }
  void add(PairSource source) { sources = static_cast<std::uint8_t>(sources | 1u << static_cast<int>(source)); }
};

struct PairChoiceOptions {
  // Photos up to which all pairs are tried: choosing well among so few costs as much as it saves.
  int all_up_to = 40;
  // Proposals of each source for a photo. Many are looked at, since a look is cheap (see probe_features); those that
  // show nothing in common are not tried.
  int near_photos = 30;
  int alike_photos = 30;
  int next_photos = 3;
  // A look matches this many of the strongest features of both photos; the pair is tried when at least
  // min_probe_matches agree on a shift, turn and change of scale.
  int probe_features = 500;
  int min_probe_matches = 6;
  // Rounds of `via` after the first pairs are verified, and the spots of a third photo that two photos must share with
  // it.
  int via_rounds = 4;
  int min_via_spots = 12;
  // Size of the vocabulary for `alike`.
  int words = 64;
};

// What choosing needs to know of a photo.
struct ChoicePhoto {
  const Features* strongest = nullptr;       // its probe_features strongest
  std::optional<Eigen::Vector3d> position;   // east, north, up; metres, or any one unit
  std::optional<Eigen::Vector3d> direction;  // of view, length 1; used where the position is known
  // Photos of one sequence in the order in which they were taken; the number of the sequence and the place in it.
  std::uint32_t sequence = 0, place = 0;
};

// Words of descriptors: centres of clusters (k-means) of a sample of the survey's own, so that nothing is shipped and
// nothing foreign decides. Same descriptors, same words.
struct Vocabulary {
  std::vector<std::uint8_t> centres;  // 128 bytes for each word
  std::size_t size() const { return centres.size() / kDescriptorSize; }
};
Vocabulary train_vocabulary(std::span<const std::uint8_t> descriptors, int words, const Executor& executor);

// What words are made of: the gradient descriptors, or where a photo has none its binary ones, four bits to a byte.
std::vector<std::uint8_t> word_descriptors(const Features& features);

// One vector for a whole photo: the sums of the differences of descriptors from their words (Jegou, Douze, Schmid and
// Perez, "Aggregating local descriptors into a compact image representation", 2010), square-rooted and normalised
// (Jegou and Chum, "Negative evidences and co-occurences in image retrieval", 2012), in steps of 1/127 of the largest.
struct PhotoVector {
  std::vector<std::int8_t> values;  // 128 for each word
  float scale = 0;                  // values * scale have length 1
};
PhotoVector describe_photo(const Features& features, const Vocabulary& vocabulary);
float likeness(const PhotoVector& a, const PhotoVector& b);  // cosine, 1 for the same

// Number of matches among the strongest features that agree on one similarity of the plane within a tenth of the
// photo's size and half an octave: a quick look at whether two photos have anything in common.
int probe_pair(const Features& first, const Features& second);

// Where each photo looks at the ground (nothing where that is not known, or above the horizon). The height of the
// ground, and so the flying height, comes from photos whose lines of sight cross: the median height of the crossings;
// without them none is known.
std::vector<std::optional<Eigen::Vector3d>> places_looked_at(std::span<const ChoicePhoto> photos);

struct PairChoice {
  std::vector<ProposedPair> pairs;  // ascending
  std::size_t looked_at = 0;        // pairs that were proposed and probed
};

// The first round: every source but `via`. `listed` pairs are always taken. Deterministic; does not depend on the
// threads.
PairChoice choose_pairs(std::span<const ChoicePhoto> photos, std::span<const ProposedPair> listed,
                        const PairChoiceOptions& options = {}, const Executor& executor = Executor(),
                        Monitor& monitor = silent_monitor());

// A further round: photos that share at least min_via_spots spots with a third one and were not tried, ascending.
// `tried` are all pairs so far, `verified` their verified matches.
std::vector<ProposedPair> choose_via(std::size_t photos, std::span<const ProposedPair> tried,
                                     std::span<const PairMatches> verified, const PairChoiceOptions& options,
                                     const Executor& executor);

}  // namespace icefield
