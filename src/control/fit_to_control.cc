#include "src/control/fit_to_control.h"

#include <algorithm>
#include <array>
#include <cmath>

#include "icefield/base/random.h"
#include "icefield/base/statistics.h"
#include "src/geometry/decompositions.h"

namespace icefield {

using Eigen::Vector3d;

Reach reach_of(std::span<const Vector3d> places) {
  if (places.empty()) return {};
  Vector3d middle = Vector3d::Zero();
  for (const Vector3d& p : places) middle += p / static_cast<double>(places.size());
  Eigen::Matrix3d spread = Eigen::Matrix3d::Zero();
  for (const Vector3d& p : places) spread += (p - middle) * (p - middle).transpose();
  const auto [values, axes] = spectrum(spread);
  Reach reach;
  for (const Vector3d& p : places) {
    const double along = axes.col(2).dot(p - middle);
    reach.along = std::max(reach.along, std::abs(along));
    reach.across = std::max(reach.across, (p - middle - along * axes.col(2)).norm());
  }
  return reach;
}

namespace {

constexpr double kSigmas = 5;         // at which a tie agrees
constexpr double kPixels = 4;         // on the subject
constexpr double kBentShare = 0.003;  // of the ties' reach: what a free block may be bent by

class Fitting {
 public:
  Fitting(std::span<const ControlTie> ties, double gsd) : ties_(ties), gsd_(gsd) {
    std::vector<Vector3d> places;
    std::vector<double> sigmas;
    for (const ControlTie& tie : ties) places.push_back(tie.world), sigmas.push_back(tie.sigma);
    const Reach reach = reach_of(places);
    bent_ = kBentShare * reach.along;
    level_ = reach.in_a_line(median(sigmas));
  }
  bool level() const { return level_; }

  double tolerance(std::size_t i, double scale) const {
    return std::max(kSigmas * ties_[i].sigma, kPixels * gsd_ * scale + bent_);
  }
  std::optional<Similarity> from(std::span<const std::uint32_t> of) const {
    std::vector<Vector3d> source, target;
    std::vector<double> weights;
    for (const std::uint32_t i : of) {
      source.push_back(ties_[i].block), target.push_back(ties_[i].world);
      weights.push_back(1 / (ties_[i].sigma * ties_[i].sigma));
    }
    auto fit = level_ ? fit_level_similarity(source, target, weights) : fit_similarity(source, target, weights);
    if (fit && !(fit->scale > 0 && std::isfinite(fit->scale))) fit.reset();
    return fit;
  }
  double cost(const Similarity& fit, std::vector<bool>* agrees = nullptr) const {
    double sum = 0;
    if (agrees) agrees->assign(ties_.size(), false);
    for (std::size_t i = 0; i < ties_.size(); ++i) {
      const double d = (fit * ties_[i].block - ties_[i].world).norm() / tolerance(i, fit.scale);
      sum += std::min(1.0, d * d);
      if (agrees) (*agrees)[i] = d <= 1;
    }
    return sum;
  }
  void try_sample(std::span<const std::uint32_t> of) {
    if (const auto fit = from(of))
      if (const double now = cost(*fit); now < least_) least_ = now, best_ = fit;
  }
  void try_all() {
    const auto n = static_cast<std::uint32_t>(ties_.size());
    constexpr std::uint32_t kMostWhole = 24;  // ties whose samples are all tried
    if (level_) {
      for (std::uint32_t a = 0; a < std::min(n, 60u); ++a)
        for (std::uint32_t b = a + 1; b < std::min(n, 60u); ++b) try_sample(std::array{a, b});
    } else if (n <= kMostWhole) {
      for (std::uint32_t a = 0; a < n; ++a)
        for (std::uint32_t b = a + 1; b < n; ++b)
          for (std::uint32_t c = b + 1; c < n; ++c) try_sample(std::array{a, b, c});
    } else {
      CounterRandom random(combine_keys(0x6e0, n));
      for (int k = 0; k < 2000; ++k) {
        const std::uint32_t a = random.below(n), b = random.below(n), c = random.below(n);
        if (a != b && b != c && a != c) try_sample(std::array{a, b, c});
      }
    }
  }
  std::optional<ControlFit> result() {
    if (!best_) return std::nullopt;
    ControlFit fit;
    fit.level_guessed = level_;
    cost(*best_, &fit.agrees);
    for (int round = 0; round < 10; ++round) {
      std::vector<std::uint32_t> in;
      for (std::uint32_t i = 0; i < ties_.size(); ++i)
        if (fit.agrees[i]) in.push_back(i);
      const auto better = from(in);
      if (!better || cost(*better) > least_ + 1e-12) break;
      const auto before = fit.agrees;
      least_ = cost(*better, &fit.agrees);
      best_ = better;
      if (fit.agrees == before && round > 0) break;
    }
    fit.to_world = *best_;
    const auto agreeing = static_cast<std::size_t>(std::count(fit.agrees.begin(), fit.agrees.end(), true));
    if (agreeing < 3 || 2 * agreeing < ties_.size()) return std::nullopt;
    fit.checked = agreeing > 3;
    return fit;
  }

 private:
  std::span<const ControlTie> ties_;
  double gsd_, bent_ = 0, least_ = 1e300;
  bool level_ = false;
  std::optional<Similarity> best_;
};

}  // namespace

std::optional<ControlFit> fit_to_control(std::span<const ControlTie> ties, double gsd) {
  if (ties.size() < 3) return std::nullopt;
  Fitting fitting(ties, gsd);
  fitting.try_all();
  return fitting.result();
}

}  // namespace icefield
