#include <algorithm>
#include <cmath>
#include <set>

#include "icefield/match/match.h"

namespace icefield {
namespace {

constexpr float kSamePlacePx = 2.0f;

// All features of a photo in one: gradient features of the photo, of its copies, then its binary ones.
struct Together {
  Features features;
  std::vector<std::uint32_t> as;      // the feature that each is taken for
  std::vector<std::uint32_t> number;  // in WideFeatures::keypoints()
};

// Places in squares of so many px, for what lies near to a place.
class Places {
 public:
  explicit Places(float size) : size_(size) {}
  void add(const Keypoint& k, std::uint32_t index) { cells_.push_back({cell(k.x), cell(k.y), index}); }
  void sort() { std::sort(cells_.begin(), cells_.end()); }
  template <class F>
  void near(const Keypoint& k, F visit) const {
    for (int dy = -1; dy <= 1; ++dy)
      for (int dx = -1; dx <= 1; ++dx) {
        const Cell from{cell(k.x) + dx, cell(k.y) + dy, 0};
        for (auto c = std::lower_bound(cells_.begin(), cells_.end(), from);
             c != cells_.end() && c->x == from.x && c->y == from.y; ++c)
          visit(c->index);
      }
  }

 private:
  struct Cell {
    int x, y;
    std::uint32_t index;
    auto operator<=>(const Cell&) const = default;
  };
  int cell(float v) const { return static_cast<int>(std::floor(v / size_)); }
  float size_;
  std::vector<Cell> cells_;
};

Together together(const WideFeatures& wide) {
  constexpr float kOnePx = 1.5f, kOneScale = 1.7f;
  Together all;
  const Features& found = wide.found;
  const std::size_t own = found.gradient_size();
  all.features.keypoints.assign(found.keypoints.begin(), found.keypoints.begin() + static_cast<std::ptrdiff_t>(own));
  all.features.descriptors = found.descriptors;
  Places places(kOnePx);
  for (std::uint32_t i = 0; i < own; ++i) {
    all.as.push_back(i), all.number.push_back(i);
    places.add(found.keypoints[i], i);
  }
  places.sort();
  for (const Features& copy : wide.narrowed) {
    for (const Keypoint& k : copy.keypoints) {
      const auto here = static_cast<std::uint32_t>(all.as.size());
      std::uint32_t same = here;
      float nearest = kOnePx;
      places.near(k, [&](std::uint32_t i) {
        const Keypoint& o = found.keypoints[i];
        const float d = std::hypot(o.x - k.x, o.y - k.y), ratio = o.scale / k.scale;
        if (d < nearest && ratio < kOneScale && ratio > 1 / kOneScale) nearest = d, same = i;
      });
      all.as.push_back(same);
      all.number.push_back(static_cast<std::uint32_t>(found.size() + here - own));
    }
    all.features.keypoints.insert(all.features.keypoints.end(), copy.keypoints.begin(), copy.keypoints.end());
    all.features.descriptors.insert(all.features.descriptors.end(), copy.descriptors.begin(), copy.descriptors.end());
  }
  for (std::size_t i = own; i < found.size(); ++i) {
    all.as.push_back(static_cast<std::uint32_t>(all.as.size()));
    all.number.push_back(static_cast<std::uint32_t>(i));
    all.features.keypoints.push_back(found.keypoints[i]);
  }
  all.features.bits = found.bits;
  return all;
}

// The matches in their order without those that name a place of either photo again.
std::vector<Match> one_each_place(const std::vector<Match>& matches, const Features& first, const Features& second) {
  std::vector<Match> kept;
  // A sorted grid of all, and marks of those that are in.
  Places at_first(kSamePlacePx), at_second(kSamePlacePx);
  for (std::uint32_t i = 0; i < matches.size(); ++i) {
    at_first.add(first.keypoints[matches[i].first.value], i);
    at_second.add(second.keypoints[matches[i].second.value], i);
  }
  at_first.sort(), at_second.sort();
  std::vector<std::uint8_t> in(matches.size(), 0);
  for (std::uint32_t i = 0; i < matches.size(); ++i) {
    const Keypoint &a = first.keypoints[matches[i].first.value], &b = second.keypoints[matches[i].second.value];
    bool taken = false;
    const auto look = [&](const Places& places, const Features& features, const Keypoint& k, bool of_first) {
      places.near(k, [&](std::uint32_t j) {
        const Keypoint& o = features.keypoints[of_first ? matches[j].first.value : matches[j].second.value];
        taken = taken || (in[j] && std::hypot(o.x - k.x, o.y - k.y) < kSamePlacePx);
      });
    };
    look(at_first, first, a, true);
    look(at_second, second, b, false);
    if (taken) continue;
    in[i] = 1;
    kept.push_back(matches[i]);
  }
  return kept;
}

}  // namespace

std::vector<Keypoint> WideFeatures::keypoints() const {
  std::vector<Keypoint> all = found.keypoints;
  for (const Features& copy : narrowed) all.insert(all.end(), copy.keypoints.begin(), copy.keypoints.end());
  return all;
}

std::vector<std::size_t> choose_wide(std::span<const PairOutline> pairs, std::size_t photos) {
  constexpr std::uint32_t kSound = 100;         // near matches that hold a pair
  constexpr std::uint32_t kSoundUnknown = 300;  // all matches, where focal lengths are not known
  constexpr int kSoundPairs = 2;                // of a photo that needs no more
  constexpr float kLeastTurn = 12,
                  kMostTurn = 60;                 // degrees; under it copies look like the photo, over it nothing helps
  constexpr std::size_t kLooks = 3;               // a photo
  constexpr std::uint32_t kLeastCandidates = 25;  // of a pair without a geometry
  const auto sound = [&](const PairOutline& pair) {
    return pair.turned_deg >= 0 ? pair.near >= kSound
                                : pair.geometry == PairGeometry::depth && pair.matches >= kSoundUnknown;
  };
  std::vector<int> sound_pairs(photos, 0);
  for (const PairOutline& pair : pairs)
    if (sound(pair)) ++sound_pairs[pair.first.value], ++sound_pairs[pair.second.value];
  std::vector<std::vector<std::size_t>> of_photo(photos);
  for (std::size_t p = 0; p < pairs.size(); ++p) {
    const PairOutline& pair = pairs[p];
    if (sound(pair) || pair.fault == PairFault::same_pixels) continue;
    if (pair.turned_deg >= 0 && (pair.turned_deg < kLeastTurn || pair.turned_deg > kMostTurn)) continue;
    if (pair.geometry == PairGeometry::none && pair.candidates < kLeastCandidates) continue;
    for (const PhotoIndex photo : {pair.first, pair.second})
      if (sound_pairs[photo.value] < kSoundPairs) of_photo[photo.value].push_back(p);
  }
  std::vector<std::size_t> chosen;
  for (auto& list : of_photo) {
    // Verified ones first, those with the most in common.
    std::sort(list.begin(), list.end(), [&](std::size_t a, std::size_t b) {
      const PairOutline &x = pairs[a], &y = pairs[b];
      if (x.matches != y.matches) return x.matches > y.matches;
      return x.candidates != y.candidates ? x.candidates > y.candidates : a < b;
    });
    if (list.size() > kLooks) list.resize(kLooks);
    chosen.insert(chosen.end(), list.begin(), list.end());
  }
  std::sort(chosen.begin(), chosen.end());
  chosen.erase(std::unique(chosen.begin(), chosen.end()), chosen.end());
  return chosen;
}

PairMatches verify_wide_pair(const WideFeatures& first, const WideFeatures& second, const PairMatches& plain,
                             const DescriptorMatchOptions& matching, const CameraPrior& first_camera,
                             const CameraPrior& second_camera, const VerifyOptions& options, std::uint64_t seed) {
  const Together a = together(first), b = together(second);
  std::vector<Match> own = match_descriptors(first.found, second.found, matching), more;
  // Numbers of the row of all gradient features; binary ones come behind the copies.
  const auto shift = [](std::uint32_t i, const WideFeatures& wide, const Together& all) {
    return FeatureIndex(i < wide.found.gradient_size() ? i : i + all.as.size() - wide.found.size());
  };
  for (Match& m : own) m = {shift(m.first.value, first, a), shift(m.second.value, second, b), m.ratio};
  const auto add = [&](const Features& from, const Features& to, std::size_t from_begin, std::size_t to_begin) {
    for (const Match& m : match_descriptors(from, to, matching))
      more.push_back(
          {FeatureIndex(a.as[from_begin + m.first.value]), FeatureIndex(b.as[to_begin + m.second.value]), m.ratio});
  };
  const auto gradients_of = [](const Features& features) {
    Features out;
    out.keypoints.assign(features.keypoints.begin(),
                         features.keypoints.begin() + static_cast<std::ptrdiff_t>(features.gradient_size()));
    out.descriptors = features.descriptors;
    return out;
  };
  const Features own_first = gradients_of(first.found), own_second = gradients_of(second.found);
  std::size_t begin = own_second.size();
  for (const Features& copy : second.narrowed) add(own_first, copy, 0, begin), begin += copy.size();
  begin = own_first.size();
  for (const Features& copy : first.narrowed) add(copy, own_second, begin, 0), begin += copy.size();
  // The photos' own matches first, then the surest.
  const auto surer = [](const Match& x, const Match& y) {
    return x.ratio != y.ratio ? x.ratio < y.ratio
                              : std::pair(x.first.value, x.second.value) < std::pair(y.first.value, y.second.value);
  };
  std::sort(own.begin(), own.end(), surer);
  std::sort(more.begin(), more.end(), surer);
  own.insert(own.end(), more.begin(), more.end());
  // So many tries bring more matches by chance: where the pair had no geometry without them, more must agree, and the
  // second pass, in which a line has five times the features, is not for a geometry that few matches hold.
  VerifyOptions wider = options;
  wider.max_guided_ratio = 0.8f * options.max_guided_ratio;
  if (!plain.verified()) wider.min_inliers += wider.min_inliers / 2, wider.guided = false;
  const std::vector<Match> candidates = one_each_place(own, a.features, b.features);
  PairMatches pair = verify_pair({plain.first, a.features, first_camera}, {plain.second, b.features, second_camera},
                                 candidates, wider, seed);
  // What the guided pass found may lie where a match is already.
  std::sort(pair.matches.begin(), pair.matches.end(), [&](const Match& x, const Match& y) {
    const auto of_copies = [&](const Match& m) {
      return (m.first.value >= own_first.size() && m.first.value < a.as.size() - first.found.binary_size()) +
             (m.second.value >= own_second.size() && m.second.value < b.as.size() - second.found.binary_size());
    };
    return of_copies(x) != of_copies(y) ? of_copies(x) < of_copies(y) : surer(x, y);
  });
  const std::size_t before = pair.matches.size();
  pair.matches = one_each_place(pair.matches, a.features, b.features);
  pair.near = static_cast<std::uint32_t>(pair.near * pair.matches.size() / std::max<std::size_t>(1, before));
  std::set<std::pair<std::uint32_t, std::uint32_t>> by_descriptor;
  for (const Match& m : candidates) by_descriptor.emplace(m.first.value, m.second.value);
  pair.guided = static_cast<std::uint32_t>(std::count_if(pair.matches.begin(), pair.matches.end(), [&](const Match& m) {
    return !by_descriptor.contains({m.first.value, m.second.value});
  }));
  for (Match& m : pair.matches)
    m.first = FeatureIndex(a.number[a.as[m.first.value]]), m.second = FeatureIndex(b.number[b.as[m.second.value]]);
  std::sort(pair.matches.begin(), pair.matches.end(), [](const Match& x, const Match& y) {
    return std::pair(x.first.value, x.second.value) < std::pair(y.first.value, y.second.value);
  });
  pair.first = plain.first, pair.second = plain.second;
  // (What is near is counted in a sample.)
  return pair.verified() && pair.matches.size() > plain.matches.size() && 2 * pair.near >= plain.near ? pair : plain;
}

}  // namespace icefield
