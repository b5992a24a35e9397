#include "icefield/adjust/weak_points.h"

#include <fmt/format.h>

#include <Eigen/Eigenvalues>
#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <numbers>

#include "icefield/adjust/uncertainty.h"
#include "icefield/geometry/triangulate.h"
#include "src/geometry/decompositions.h"

namespace icefield {
namespace {

using Eigen::Vector3d;
constexpr std::size_t kLeastToCrowd = 20;  // removed in one place before it can be called a crowd
constexpr double kCrowd = 3;               // times the usual share
constexpr int kParts = 5;                  // along each axis of the block

enum class Cause { residual, sigma, angle };

struct Weakness {
  std::uint32_t point = 0;
  double size = 0;  // over 1: weak
  Cause cause = Cause::residual;
  std::uint64_t observation = 0;  // the worst one
};

// What was seen and what of it went, by photo and by part of the block.
struct Tally {
  std::size_t removed = 0, of = 0;
};

class Places {
 public:
  explicit Places(const Block& block) {
    std::array<std::vector<double>, 3> coordinates;
    for (const Vector3d& p : block.points)
      for (int c = 0; c < 3; ++c) coordinates[static_cast<std::size_t>(c)].push_back(p[c]);
    for (int c = 0; c < 3; ++c) {
      auto& list = coordinates[static_cast<std::size_t>(c)];
      std::sort(list.begin(), list.end());
      low_[c] = list[list.size() / 50], high_[c] = list[list.size() - 1 - list.size() / 50];
    }
  }
  int part_of(const Vector3d& p) const {
    int key = 0;
    for (int c = 0; c < 3; ++c)
      key = key * kParts + std::clamp(static_cast<int>((p[c] - low_[c]) / std::max(1e-12, high_[c] - low_[c]) * kParts),
                                      0, kParts - 1);
    return key;
  }
  double size() const { return (high_ - low_).maxCoeff() / kParts; }

 private:
  Vector3d low_, high_;
};

// Whether so many of so many are more than chance and the usual share allow.
bool crowded(const Tally& tally, double usual) {
  if (tally.removed < kLeastToCrowd || !(usual > 0)) return false;
  const double of = static_cast<double>(tally.of), removed = static_cast<double>(tally.removed);
  return removed > kCrowd * usual * of && removed > usual * of + 6 * std::sqrt(usual * of);
}

double gsd_of(const Block& block, std::size_t point) {
  double least = std::numeric_limits<double>::infinity();
  for (const Observation& o : block.of_point(point)) {
    const PosedPhoto& photo = block.photos[o.photo];
    least = std::min(least, photo.pose.to_camera(block.points[point]).norm() / block.camera_of(photo).focal());
  }
  return least;
}

Weakness weakness_of(const Block& block, std::uint32_t point, const Uncertainty& uncertain,
                     const WeakPointOptions& options, WeakPointPass& pass) {
  Weakness weak{point, 0, Cause::residual, block.starts[point]};
  std::vector<Ray> rays;
  for (std::uint64_t o = block.starts[point]; o < block.starts[point + 1]; ++o) {
    rays.push_back({block.photos[block.observations[o].photo].pose, {}});
    const double w = uncertain.standardised_residuals[o];
    pass.largest_standardised = std::max(pass.largest_standardised, w);
    if (w / options.max_standardised > weak.size) weak.size = w / options.max_standardised, weak.observation = o;
  }
  const Eigen::Matrix3d& covariance = uncertain.points[point];
  const double sigma = covariance.allFinite()
                           ? std::sqrt(std::max(0.0, spectrum(covariance).values[2])) / gsd_of(block, point)
                           : std::numeric_limits<double>::infinity();
  if (std::isfinite(sigma)) pass.largest_sigma_gsd = std::max(pass.largest_sigma_gsd, sigma);
  if (sigma / options.max_sigma_gsd > weak.size) weak.size = sigma / options.max_sigma_gsd, weak.cause = Cause::sigma;
  const double angle = triangulation_angle(rays, block.points[point]) * 180 / std::numbers::pi;
  if (options.min_angle_deg / std::max(angle, 1e-9) > weak.size)
    weak.size = options.min_angle_deg / std::max(angle, 1e-9), weak.cause = Cause::angle;
  return weak;
}

class Removal {
 public:
  Removal(const Block& block, const WeakPointOptions& options, const Executor& executor, Monitor& monitor)
      : options_(options),
        executor_(executor),
        monitor_(monitor),
        places_(block),
        by_photo_(block.photos.size()),
        points_before_(block.points.size()),
        observations_before_(block.observations.size()),
        adjusting_(options.adjust) {
    result_.block = block;
    for (std::size_t p = 0; p < block.points.size(); ++p) {
      auto& [tally, sum] = at(block.points[p]);
      ++tally.of;
      sum += block.points[p];
      for (const Observation& o : block.of_point(p)) ++by_photo_[o.photo].of;
    }
  }

  WeakPointResult run() {
    result_.outcome = "reached the limit of passes";
    const auto passes = static_cast<std::size_t>(options_.max_passes);
    for (std::size_t number = 0; number < passes; ++number) {
      monitor_.check();
      monitor_.progress(kWhat, number, passes);
      if (!pass()) break;
    }
    monitor_.progress(kWhat, passes, passes);
    find_crowding();
    return std::move(result_);
  }

 private:
  static constexpr const char* kWhat = "remove weak tie points";
  struct Choice {
    std::vector<std::uint8_t> points, observations;  // 1: goes
  };

  std::pair<Tally, Vector3d>& at(const Vector3d& point) {
    return by_place_.try_emplace(places_.part_of(point), Tally{}, Vector3d::Zero()).first->second;
  }

  // False when it was the last.
  bool pass() {
    Block& now = result_.block;
    UncertaintyOptions wanted;
    wanted.residuals = true;
    const Uncertainty uncertain = uncertainty(now, adjusting_, wanted, executor_, monitor_);
    if (!uncertain.valid) {
      result_.outcome = "the covariances cannot be computed: " + uncertain.outcome;
      return false;
    }
    WeakPointPass pass;
    pass.points = now.points.size();
    pass.observations = now.observations.size();
    pass.sigma_px = uncertain.sigma_px;
    pass.rms_before_px = block_statistics(now).rms_px;
    const std::vector<Weakness> weak = weakest(uncertain, pass);
    if (weak.empty()) return end(pass, "no tie point is weak");
    const Choice out = choose(weak, pass);
    if (pass.removed_points + pass.removed_observations == 0)
      return end(pass, "all that is weak is needed by its photos");
    const AdjustResult adjusted = adjust(without(out, pass), adjusting_, executor_, monitor_);
    if (!adjusted.summary.valid) {
      result_.outcome = "the adjustment failed: " + adjusted.summary.outcome;
      return false;
    }
    now = adjusted.block;
    pass.rms_after_px = block_statistics(now).rms_px;
    removed_ += pass.removed_points + pass.removed_observations;
    result_.passes.push_back(pass);
    return true;
  }

  bool end(WeakPointPass pass, const char* outcome) {
    pass.rms_after_px = pass.rms_before_px;
    result_.passes.push_back(pass);
    result_.outcome = outcome;
    return false;
  }

  // Of those over a level, the weakest first, as many as a pass may take.
  std::vector<Weakness> weakest(const Uncertainty& uncertain, WeakPointPass& pass) const {
    const Block& now = result_.block;
    std::vector<Weakness> weak;
    for (std::uint32_t p = 0; p < now.points.size(); ++p) {
      const Weakness w = weakness_of(now, p, uncertain, options_, pass);
      if (w.size > 1) weak.push_back(w);
    }
    pass.weak = weak.size();
    for (const Weakness& w : weak)
      ++(w.cause == Cause::residual ? pass.by_residual : w.cause == Cause::sigma ? pass.by_sigma : pass.by_angle);
    std::stable_sort(weak.begin(), weak.end(), [](const Weakness& a, const Weakness& b) { return a.size > b.size; });
    const auto most = static_cast<std::size_t>(options_.max_share * static_cast<double>(now.points.size()));
    weak.resize(std::min(weak.size(), std::max<std::size_t>(1, most)));
    return weak;
  }

  // Photos keep what they need, and what is known of a point keeps the point.
  Choice choose(const std::vector<Weakness>& weak, WeakPointPass& pass) {
    const Block& now = result_.block;
    std::vector<std::uint8_t> known(now.points.size(), 0);
    for (const PointPrior& prior : adjusting_.point_priors) known[prior.point] = 1;
    for (const ScaleBar& bar : adjusting_.scale_bars) known[bar.first] = known[bar.second] = 1;
    std::vector<std::size_t> left(now.photos.size(), 0);
    for (const Observation& o : now.observations) ++left[o.photo];
    const auto least = static_cast<std::size_t>(options_.min_photo_observations);
    Choice out{std::vector<std::uint8_t>(now.points.size(), 0), std::vector<std::uint8_t>(now.observations.size(), 0)};
    for (const Weakness& w : weak) {
      const std::uint64_t first = now.starts[w.point], last = now.starts[w.point + 1];
      const bool whole = w.cause != Cause::residual || last - first < 4;
      bool spared = !(whole && known[w.point]);
      for (std::uint64_t o = first; o < last; ++o)
        if (whole || o == w.observation) spared = spared && left[now.observations[o].photo] > least;
      if (!spared) continue;
      for (std::uint64_t o = first; o < last; ++o) {
        if (!whole && o != w.observation) continue;
        --left[now.observations[o].photo];
        ++by_photo_[now.observations[o].photo].removed;
        out.observations[o] = 1;
      }
      ++at(now.points[w.point]).first.removed;
      out.points[w.point] = whole;
      ++(whole ? pass.removed_points : pass.removed_observations);
    }
    return out;
  }

  // What is left; priors and scale bars then name its points.
  Block without(const Choice& out, const WeakPointPass& pass) {
    const Block& now = result_.block;
    Block kept = now.without_points();
    kept.observations_dropped = now.observations_dropped + pass.removed_observations;
    std::vector<Observation> seen;
    std::vector<std::uint32_t> place(now.points.size(), 0);
    for (std::size_t p = 0; p < now.points.size(); ++p) {
      if (out.points[p]) continue;
      place[p] = static_cast<std::uint32_t>(kept.points.size());
      seen.clear();
      for (std::uint64_t o = now.starts[p]; o < now.starts[p + 1]; ++o)
        if (!out.observations[o]) seen.push_back(now.observations[o]);
      kept.add_point(now.points[p], seen);
      if (!now.tracks.empty()) kept.tracks.push_back(now.tracks[p]);
    }
    for (PointPrior& prior : adjusting_.point_priors) prior.point = PointIndex(place[prior.point]);
    for (ScaleBar& bar : adjusting_.scale_bars)
      bar.first = PointIndex(place[bar.first]), bar.second = PointIndex(place[bar.second]);
    return kept;
  }

  void find_crowding() {
    std::size_t gone = 0;
    for (const Tally& t : by_photo_) gone += t.removed;
    const double usual = static_cast<double>(gone) / static_cast<double>(observations_before_);
    for (std::size_t i = 0; i < by_photo_.size(); ++i)
      if (crowded(by_photo_[i], usual))
        result_.crowding.push_back(
            {true, PosedIndex(i), Vector3d::Zero(), 0, by_photo_[i].removed, by_photo_[i].of, usual});
    const double usual_points = static_cast<double>(removed_) / static_cast<double>(points_before_);
    for (const auto& [key, value] : by_place_) {
      const auto& [tally, sum] = value;
      if (tally.of > 0 && crowded(tally, usual_points))
        result_.crowding.push_back(
            {false, {}, sum / static_cast<double>(tally.of), places_.size(), tally.removed, tally.of, usual_points});
    }
  }

  const WeakPointOptions& options_;
  const Executor& executor_;
  Monitor& monitor_;
  Places places_;
  std::vector<Tally> by_photo_;
  std::map<int, std::pair<Tally, Vector3d>> by_place_;  // with the sum of its points
  std::size_t points_before_, observations_before_, removed_ = 0;
  AdjustOptions adjusting_;  // its points are counted anew where some go
  WeakPointResult result_;
};

}  // namespace

WeakPointResult remove_weak_points(const Block& block, const WeakPointOptions& options, const Executor& executor,
                                   Monitor& monitor) {
  if (!block.points.empty()) return Removal(block, options, executor, monitor).run();
  WeakPointResult nothing;
  nothing.block = block;
  nothing.outcome = "no points";
  return nothing;
}

}  // namespace icefield
