// One robust estimator for all models: progressive sampling, early rejection, local optimisation, a score that
// marginalises over the scale of the noise, and adaptive stopping.
#pragma once
#include <algorithm>
#include <cmath>
#include <cstdint>
#include <vector>

#include "icefield/base/random.h"
#include "icefield/base/statistics.h"

namespace icefield {

// Weight and loss of a squared error, u = error^2 / max_error^2 from 0 to 1, marginalised over noise of every standard
// deviation up to max_error / 3.64 (the 99 percent quantile of chi with four degrees of freedom): Barath, Noskova,
// Ivashechkin and Matas, "MAGSAC++, a fast, reliable and accurate robust estimator", 2020. Both are 1 at their largest,
// 0 at their least.
class MarginalLoss {
 public:
  MarginalLoss();
  double loss(double u) const { return u < 1 ? loss_[static_cast<std::size_t>(u * kSteps)] : 1; }
  double weight(double u) const { return u < 1 ? weight_[static_cast<std::size_t>(u * kSteps)] : 0; }

 private:
  static constexpr int kSteps = 1024;
  double loss_[kSteps], weight_[kSteps];
};
const MarginalLoss& marginal_loss();

// Draws samples from a growing set of the best pairs first: Chum and Matas, "Matching with PROSAC - progressive sample
// consensus", 2005. Without an order of quality all are drawn alike.
class ProgressiveSampler {
 public:
  ProgressiveSampler(std::size_t count, std::size_t sample_size, bool best_first);
  void draw(CounterRandom& random, std::uint32_t* sample);
  // Size of the set that samples are drawn from at present.
  std::size_t reach() const { return reach_; }

 private:
  std::size_t count_, size_, reach_;
  double drawn_ = 0, wanted_ = 1, exact_ = 1;
};

// Wald's sequential test of a model against the best one so far: Matas and Chum, "Randomized RANSAC with sequential
// probability ratio test", 2005. A wrong model is left after few pairs; a better one with a chance below 1 percent.
class SequentialTest {
 public:
  SequentialTest(double chance, double least_share) : chance_(std::clamp(chance, 0.005, 0.5)), least_(least_share) {
    best_share(0);
  }
  void best_share(double share) {
    share = std::max(share, least_);
    if (share > 1.5 * chance_) in_ = chance_ / share, out_ = (1 - chance_) / (1 - std::min(share, 0.9));
  }
  double in() const { return in_; }
  double out() const { return out_; }
  static constexpr double kLimit = 200;

 private:
  double chance_, least_, in_ = 1, out_ = 1;
};

// Number of samples after which, with the given confidence, one was free of outliers.
inline double samples_needed(double inlier_share, std::size_t sample_size, double confidence) {
  const double good = std::pow(inlier_share, static_cast<double>(sample_size));
  if (good >= 1) return 1;
  if (good <= 1e-12) return 1e12;
  return std::log(1 - confidence) / std::log1p(-good);
}

struct RobustOptions {
  double max_error2 = 0;
  double confidence = 0.9999;
  int max_samples = 4000, min_samples = 40;
  bool best_first = false;       // the pairs are in order of quality
  double outlier_chance = 0.02;  // that an outlier agrees with a wrong model
  double least_share = 0;        // of inliers, below which a model is of no use
};

template <class Model>
struct RobustResult {
  Model model{};
  double score = 0;                    // sum of 1 - loss; 0: nothing found
  std::vector<std::uint32_t> inliers;  // within max_error
  int samples = 0;
};

// Models from samples compete with each other; the best so far of them are polished and then compete for the result. A
// polished model would keep out all others, better places to start from among them.
template <class Problem>
class RobustFit {
 public:
  using Model = typename Problem::Model;
  RobustFit(const Problem& problem, const RobustOptions& options, std::uint64_t seed)
      : problem_(problem),
        options_(options),
        count_(problem.size()),
        inverse_(1 / options.max_error2),
        marginal_(marginal_loss()),
        test_(options.outlier_chance, options.least_share),
        random_(seed),
        shuffled_(count_) {
    // The sequential test takes the pairs to come in no order.
    for (std::size_t i = 0; i < count_; ++i) {
      const std::uint32_t k = random_.below(static_cast<std::uint32_t>(i + 1));
      shuffled_[i] = shuffled_[k];
      shuffled_[k] = static_cast<std::uint32_t>(i);
    }
  }

  RobustResult<Model> run() {
    ProgressiveSampler sampler(count_, Problem::kSample, options_.best_first);
    std::vector<Model> models;
    std::uint32_t sample[Problem::kSample];
    double needed = options_.max_samples;
    while (best_.samples < options_.max_samples && (best_.samples < options_.min_samples || best_.samples < needed)) {
      ++best_.samples;
      sampler.draw(random_, sample);
      models.clear();
      problem_.solve(sample, models);
      for (const Model& model : models)
        if (take(model)) needed = needed_samples();
    }
    return polished(std::move(best_), 8);
  }

 private:
  // True when it becomes the best.
  bool take(const Model& model) {
    const double raw = quick_score(model);
    if (!(raw > best_raw_)) return false;
    best_raw_ = raw;
    RobustResult<Model> found;
    found.model = model;
    found.score = full_score(model);
    found.inliers = inliers_;
    test_.best_share(static_cast<double>(inliers_.size()) / static_cast<double>(count_));
    found = polished(std::move(found), 4);
    if (!(found.score > best_.score)) return false;
    found.samples = best_.samples;
    best_ = std::move(found);
    return true;
  }

  // 0 when the model is not going to beat the best.
  double quick_score(const Model& model) {
    double score = 0, ratio = 1;
    for (std::size_t i = 0; i < count_; ++i) {
      const double u = problem_.error2(model, shuffled_[i]) * inverse_;
      if (u < 1) {
        score += 1 - marginal_.loss(u);
        ratio *= test_.in();
      } else {
        ratio *= test_.out();
        if (ratio > SequentialTest::kLimit) return 0.0;
      }
      if ((i & 63) == 63) {
        if (score + static_cast<double>(count_ - i) < best_raw_) return 0.0;
        ratio = std::max(ratio, 1e-12);
      }
    }
    return score;
  }

  // And its inliers with their weights.
  double full_score(const Model& model) {
    double score = 0;
    inliers_.clear();
    weights_.clear();
    for (std::size_t i = 0; i < count_; ++i) {
      const double u = problem_.error2(model, i) * inverse_;
      if (!(u < 1)) continue;
      score += 1 - marginal_.loss(u);
      inliers_.push_back(static_cast<std::uint32_t>(i));
      weights_.push_back(marginal_.weight(u));
    }
    return score;
  }

  // The fewest samples that any of the sets of best pairs asks for; a set counts once its inliers are more than chance.
  double needed_samples() const {
    double needed = samples_needed(static_cast<double>(best_.inliers.size()) / static_cast<double>(count_),
                                   Problem::kSample, options_.confidence);
    if (!options_.best_first) return needed;
    std::size_t found = 0;
    for (std::size_t set = 50; set < count_; set += set / 2) {
      while (found < best_.inliers.size() && best_.inliers[found] < set) ++found;
      const double chance = options_.outlier_chance * static_cast<double>(set);
      if (static_cast<double>(found) > Problem::kSample + chance + 5 * std::sqrt(chance))
        needed = std::min(needed, samples_needed(static_cast<double>(found) / static_cast<double>(set),
                                                 Problem::kSample, options_.confidence));
    }
    return needed;
  }

  RobustResult<Model> polished(RobustResult<Model> result, int passes) {
    for (int pass = 0; pass < passes && result.inliers.size() > Problem::kSample; ++pass) {
      full_score(result.model);
      const Model improved = problem_.polish(result.model, inliers_, weights_);
      const double score = full_score(improved);
      if (!(score > result.score * (1 + 1e-6))) break;
      result.model = improved;
      result.score = score;
      result.inliers = inliers_;
    }
    return result;
  }

  const Problem& problem_;
  const RobustOptions& options_;
  std::size_t count_;
  double inverse_;
  const MarginalLoss& marginal_;
  SequentialTest test_;
  CounterRandom random_;
  std::vector<std::uint32_t> shuffled_, inliers_;
  std::vector<double> weights_;
  double best_raw_ = 0;
  RobustResult<Model> best_;
};

// Problem has: using Model; kSample; std::size_t size(); solve(indices, out models); error2(model, index) and
// polish(model, inliers, weights) -> model. Errors that are not finite count as outliers.
template <class Problem>
RobustResult<typename Problem::Model> robust_fit(const Problem& problem, const RobustOptions& options,
                                                 std::uint64_t seed) {
  if (problem.size() < Problem::kSample) return {};
  return RobustFit<Problem>(problem, options, seed).run();
}

// Standard deviation of the errors of inliers, from their median, which the outliers among them hardly move.
template <class Problem>
double noise_of(const Problem& problem, const typename Problem::Model& model,
                const std::vector<std::uint32_t>& inliers) {
  if (inliers.empty()) return 0;
  std::vector<double> errors;
  errors.reserve(inliers.size());
  for (const std::uint32_t i : inliers) errors.push_back(problem.error2(model, i));
  return 1.4826 * std::sqrt(median(errors));
}

}  // namespace icefield
