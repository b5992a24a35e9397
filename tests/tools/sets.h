// Orientation of made-up matched sets, against their truth.
#pragma once
#include "icefield/judge/compare.h"
#include "simulate/matched_set.h"

namespace icefield::test {

struct SetScore {
  std::size_t posed = 0, usable_missed = 0, wrong = 0;  // wrong: over 10 GSD or 1 degree, and not doubtful
  double median_gsd = 0, largest_gsd = 0;
  double median_ratio = 0;  // of the errors to what the block says of them
  OrientResult result;
};

inline SetScore orient_set(const simulate::MatchedSet& set, const OrientOptions& options = {}, int threads = 2) {
  SetScore score;
  Monitor silent;
  score.result = orient(set.photos, set.priors, set.pairs, options, Executor(threads), silent);
  std::vector<bool> in_block(set.photos.size(), false), doubtful(set.photos.size(), false);
  for (const DoubtfulPhoto& d : score.result.doubtful) doubtful[d.photo.value] = true;
  std::vector<double> errors, ratios;
  for (std::size_t b = 0; b < score.result.blocks.size(); ++b) {
    const Block& block = score.result.blocks[b];
    // Doubtful photos take no part in the fit to the truth.
    std::vector<NamedPose> got, truth;
    std::vector<std::size_t> sure;
    for (std::size_t i = 0; i < block.photos.size(); ++i) {
      const PosedPhoto& p = block.photos[i];
      in_block[p.photo.value] = true;
      if (doubtful[p.photo.value]) continue;
      sure.push_back(i);
      got.push_back({set.photos[p.photo.value].name, block.camera_of(p), p.pose, 0});
      truth.push_back({set.photos[p.photo.value].name, set.truth.camera_of(set.truth.photos[p.photo.value]),
                       set.truth.photos[p.photo.value].pose, 0});
    }
    score.posed += block.photos.size();
    const auto compared = compare_cameras(got, truth);
    if (!compared) continue;
    for (std::size_t i = 0; i < compared->photos.size(); ++i) {
      const std::uint32_t photo = block.photos[sure[i]].photo.value;
      const double gsd = compared->photos[i].position / set.gsd[photo];
      errors.push_back(gsd);
      score.wrong += gsd > 10 || compared->photos[i].orientation_deg > 1;
      score.largest_gsd = std::max(score.largest_gsd, gsd);
      const BlockPrecision& precision = score.result.precision[b];
      if (precision.known)
        ratios.push_back(compared->photos[i].position / (precision.place_sigma[sure[i]] * compared->to_truth.scale));
    }
  }
  const auto median = [](std::vector<double>& v) {
    if (v.empty()) return 0.0;
    std::nth_element(v.begin(), v.begin() + static_cast<std::ptrdiff_t>(v.size() / 2), v.end());
    return v[v.size() / 2];
  };
  score.median_gsd = median(errors);
  score.median_ratio = median(ratios);
  for (std::size_t i = 0; i < set.photos.size(); ++i) score.usable_missed += set.usable[i] && !in_block[i];
  return score;
}

inline simulate::MatchedSet small_set(const std::string& kind, int photos, std::uint64_t seed = 1,
                                      const std::function<void(simulate::MatchedSetOptions&)>& change = {}) {
  simulate::MatchedSetOptions options;
  options.kind = kind;
  options.photos = photos;
  options.seed = seed;
  options.features = 600;
  if (change) change(options);
  return simulate::make_matched_set(options, Executor(2));
}

}  // namespace icefield::test
