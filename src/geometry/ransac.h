// Locally optimised RANSAC, one form for all models.
#pragma once
#include <algorithm>
#include <cmath>
#include <cstdint>
#include <vector>

#include "icefield/base/random.h"

namespace icefield {

// Number of samples after which, with the given confidence, one was free of outliers.
inline double samples_needed(double inlier_share, int sample_size, double confidence) {
  const double good = std::pow(inlier_share, sample_size);
  if (good >= 1) return 1;
  if (good <= 1e-12) return 1e12;
  return std::log(1 - confidence) / std::log1p(-good);
}

struct RansacOptions {
  double max_error2 = 0;
  double confidence = 0.9999;
  int max_samples = 4000, min_samples = 40;
};

template <class Model>
struct RansacResult {
  Model model{};
  double score = 0;  // sum over inliers of 1 - error^2 / max_error^2; 0: nothing found
  std::vector<std::uint32_t> inliers;
  int samples = 0;
};

// Problem has: using Model; kSample; std::size_t size(); solve(indices, out models); error2(model, index) and
// polish(model, inliers) -> model. Errors that are not finite count as outliers.
template <class Problem>
RansacResult<typename Problem::Model> ransac(const Problem& problem, const RansacOptions& options, std::uint64_t seed) {
  using Model = typename Problem::Model;
  RansacResult<Model> best;
  const std::size_t count = problem.size();
  if (count < Problem::kSample) return best;
  const double inverse = 1 / options.max_error2;

  const auto score_of = [&](const Model& model, double to_beat, std::vector<std::uint32_t>* inliers) {
    double score = 0;
    if (inliers) inliers->clear();
    for (std::size_t i = 0; i < count; ++i) {
      const double share = problem.error2(model, i) * inverse;
      if (share < 1) {
        score += 1 - share;
        if (inliers) inliers->push_back(static_cast<std::uint32_t>(i));
      } else if (!inliers && (i & 63) == 63 && score + static_cast<double>(count - i) < to_beat) {
        return 0.0;  // cannot win any more
      }
    }
    return score;
  };

  CounterRandom random(seed);
  std::vector<Model> models;
  std::uint32_t sample[Problem::kSample];
  double needed = options.max_samples;
  while (best.samples < options.max_samples && (best.samples < options.min_samples || best.samples < needed)) {
    ++best.samples;
    for (std::size_t k = 0; k < Problem::kSample;) {
      sample[k] = random.below(static_cast<std::uint32_t>(count));
      if (std::find(sample, sample + k, sample[k]) == sample + k) ++k;
    }
    models.clear();
    problem.solve(sample, models);
    for (const Model& model : models) {
      const double score = score_of(model, best.score, nullptr);
      if (score <= best.score) continue;
      Model improved = model;
      double improved_score = score_of(model, 0, &best.inliers);
      best.model = improved;
      best.score = improved_score;
      for (int pass = 0; pass < 4 && best.inliers.size() > Problem::kSample; ++pass) {
        improved = problem.polish(best.model, best.inliers);
        std::vector<std::uint32_t> inliers;
        improved_score = score_of(improved, 0, &inliers);
        if (improved_score <= best.score * (1 + 1e-6)) break;
        best.model = improved;
        best.score = improved_score;
        best.inliers = std::move(inliers);
      }
      needed = samples_needed(static_cast<double>(best.inliers.size()) / static_cast<double>(count), Problem::kSample, options.confidence);
    }
  }
  return best;
}

}  // namespace icefield
