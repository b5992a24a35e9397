#include "src/geometry/robust.h"

#include <numbers>

namespace icefield {
namespace {

// Upper incomplete gamma function of 3/2 and lower one of 5/2.
double upper_gamma_3_2(double x) {
  return 0.5 * std::sqrt(std::numbers::pi) * std::erfc(std::sqrt(x)) + std::sqrt(x) * std::exp(-x);
}
double lower_gamma_5_2(double x) {
  const double lower_3_2 = 0.5 * std::sqrt(std::numbers::pi) - upper_gamma_3_2(x);
  return 1.5 * lower_3_2 - x * std::sqrt(x) * std::exp(-x);
}

}  // namespace

MarginalLoss::MarginalLoss() {
  constexpr double kHalfQuantile2 = 0.5 * 3.64 * 3.64;
  const double least = upper_gamma_3_2(kHalfQuantile2), largest_weight = upper_gamma_3_2(0) - least;
  const double largest_loss = 0.5 * lower_gamma_5_2(kHalfQuantile2);
  for (int i = 0; i < kSteps; ++i) {
    // With the largest standard deviation as the unit, error^2 / 2 = x.
    const double x = (i + 0.5) / kSteps * kHalfQuantile2;
    weight_[i] = (upper_gamma_3_2(x) - least) / largest_weight;
    loss_[i] = (0.5 * lower_gamma_5_2(x) + 0.5 * x * (upper_gamma_3_2(x) - least)) / largest_loss;
  }
}

const MarginalLoss& marginal_loss() {
  static const MarginalLoss table;
  return table;
}

ProgressiveSampler::ProgressiveSampler(std::size_t count, std::size_t sample_size, bool best_first)
    : count_(count), size_(sample_size), reach_(best_first ? sample_size : count) {
  // The number of samples after which all sets have been used as uniform sampling would (2005, section 2.2).
  constexpr double kSpread = 100000;
  exact_ = kSpread;
  for (std::size_t i = 0; i < size_; ++i) exact_ *= static_cast<double>(size_ - i) / static_cast<double>(count_ - i);
}

void ProgressiveSampler::draw(CounterRandom& random, std::uint32_t* sample) {
  drawn_ += 1;
  while (reach_ < count_ && drawn_ > wanted_) {
    const double next = exact_ * static_cast<double>(reach_ + 1) / static_cast<double>(reach_ + 1 - size_);
    wanted_ += std::ceil(next - exact_);
    exact_ = next;
    ++reach_;
  }
  // One of them is the newest of the set, so that no sample is drawn twice from smaller sets.
  const bool with_newest = reach_ < count_;
  const auto from = static_cast<std::uint32_t>(with_newest ? reach_ - 1 : reach_);
  std::size_t k = 0;
  if (with_newest) sample[k++] = from;
  while (k < size_) {
    sample[k] = random.below(from);
    if (std::find(sample, sample + k, sample[k]) == sample + k) ++k;
  }
}

}  // namespace icefield
