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

}  // namespace

WeakPointResult remove_weak_points(const Block& block, const WeakPointOptions& options, const Executor& executor,
                                   Monitor& monitor) {
  WeakPointResult result;
  result.block = block;
  if (block.points.empty()) {
    result.outcome = "no points";
    return result;
  }
  const Places places(block);
  std::vector<Tally> by_photo(block.photos.size());
  std::map<int, std::pair<Tally, Vector3d>> by_place;
  for (std::size_t p = 0; p < block.points.size(); ++p) {
    auto& [tally, sum] = by_place.try_emplace(places.part_of(block.points[p]), Tally{}, Vector3d::Zero()).first->second;
    ++tally.of;
    sum += block.points[p];
    for (const Observation& o : block.of_point(p)) ++by_photo[o.photo].of;
  }
  std::size_t removed_points = 0, removed_observations = 0;
  AdjustOptions adjusting = options.adjust;  // its points are counted anew where some go
  result.outcome = "reached the limit of passes";
  for (int number = 0; number < options.max_passes; ++number) {
    monitor.check();
    monitor.progress("remove weak tie points", static_cast<std::size_t>(number),
                     static_cast<std::size_t>(options.max_passes));
    Block& now = result.block;
    UncertaintyOptions wanted;
    wanted.residuals = true;
    const Uncertainty uncertain = uncertainty(now, adjusting, wanted, executor, monitor);
    if (!uncertain.valid) {
      result.outcome = "the covariances cannot be computed: " + uncertain.outcome;
      break;
    }
    WeakPointPass pass;
    pass.points = now.points.size();
    pass.observations = now.observations.size();
    pass.sigma_px = uncertain.sigma_px;
    pass.rms_before_px = block_statistics(now).rms_px;
    std::vector<Weakness> weak;
    for (std::uint32_t p = 0; p < now.points.size(); ++p) {
      const Weakness w = weakness_of(now, p, uncertain, options, pass);
      if (w.size > 1) weak.push_back(w);
    }
    pass.weak = weak.size();
    for (const Weakness& w : weak)
      ++(w.cause == Cause::residual ? pass.by_residual : w.cause == Cause::sigma ? pass.by_sigma : pass.by_angle);
    if (weak.empty()) {
      pass.rms_after_px = pass.rms_before_px;
      result.passes.push_back(pass);
      result.outcome = "no tie point is weak";
      break;
    }
    std::stable_sort(weak.begin(), weak.end(), [](const Weakness& a, const Weakness& b) { return a.size > b.size; });
    weak.resize(std::min(weak.size(),
                         std::max<std::size_t>(
                             1, static_cast<std::size_t>(options.max_share * static_cast<double>(now.points.size())))));

    // Photos keep what they need, and what is known of a point keeps the point.
    std::vector<std::uint8_t> known(now.points.size(), 0);
    for (const PointPrior& prior : adjusting.point_priors) known[prior.point] = 1;
    for (const ScaleBar& bar : adjusting.scale_bars) known[bar.first] = known[bar.second] = 1;
    std::vector<std::size_t> left(now.photos.size(), 0);
    for (const Observation& o : now.observations) ++left[o.photo];
    std::vector<std::uint8_t> point_out(now.points.size(), 0), observation_out(now.observations.size(), 0);
    for (const Weakness& w : weak) {
      const std::uint64_t first = now.starts[w.point], last = now.starts[w.point + 1];
      const bool whole = w.cause != Cause::residual || last - first < 4;
      bool spared = !(whole && known[w.point]);
      for (std::uint64_t o = first; o < last; ++o)
        if (whole || o == w.observation)
          spared = spared && left[now.observations[o].photo] > static_cast<std::size_t>(options.min_photo_observations);
      if (!spared) continue;
      for (std::uint64_t o = first; o < last; ++o) {
        if (!whole && o != w.observation) continue;
        --left[now.observations[o].photo];
        ++by_photo[now.observations[o].photo].removed;
        observation_out[o] = 1;
      }
      ++by_place.try_emplace(places.part_of(now.points[w.point]), Tally{}, Vector3d::Zero())
            .first->second.first.removed;
      point_out[w.point] = whole;
      ++(whole ? pass.removed_points : pass.removed_observations);
    }
    if (pass.removed_points + pass.removed_observations == 0) {
      pass.rms_after_px = pass.rms_before_px;
      result.passes.push_back(pass);
      result.outcome = "all that is weak is needed by its photos";
      break;
    }
    Block kept;
    kept.cameras = now.cameras;
    kept.photos = now.photos;
    kept.observations_dropped = now.observations_dropped + pass.removed_observations;
    std::vector<Observation> seen;
    std::vector<std::uint32_t> place(now.points.size(), 0);
    for (std::size_t p = 0; p < now.points.size(); ++p) {
      if (point_out[p]) continue;
      place[p] = static_cast<std::uint32_t>(kept.points.size());
      seen.clear();
      for (std::uint64_t o = now.starts[p]; o < now.starts[p + 1]; ++o)
        if (!observation_out[o]) seen.push_back(now.observations[o]);
      kept.add_point(now.points[p], seen);
      if (!now.tracks.empty()) kept.tracks.push_back(now.tracks[p]);
    }
    for (PointPrior& prior : adjusting.point_priors) prior.point = place[prior.point];
    for (ScaleBar& bar : adjusting.scale_bars) bar.first = place[bar.first], bar.second = place[bar.second];
    const AdjustResult adjusted = adjust(kept, adjusting, executor, monitor);
    if (!adjusted.summary.valid) {
      result.outcome = "the adjustment failed: " + adjusted.summary.outcome;
      break;
    }
    now = adjusted.block;
    pass.rms_after_px = block_statistics(now).rms_px;
    removed_points += pass.removed_points;
    removed_observations += pass.removed_observations;
    result.passes.push_back(pass);
  }
  monitor.progress("remove weak tie points", static_cast<std::size_t>(options.max_passes),
                   static_cast<std::size_t>(options.max_passes));

  std::size_t gone = 0;
  for (const Tally& t : by_photo) gone += t.removed;
  const double usual = static_cast<double>(gone) / static_cast<double>(block.observations.size());
  for (std::uint32_t i = 0; i < by_photo.size(); ++i)
    if (crowded(by_photo[i], usual))
      result.crowding.push_back({true, i, Vector3d::Zero(), 0, by_photo[i].removed, by_photo[i].of, usual});
  const double usual_points =
      static_cast<double>(removed_points + removed_observations) / static_cast<double>(block.points.size());
  for (const auto& [key, value] : by_place) {
    const auto& [tally, sum] = value;
    if (tally.of > 0 && crowded(tally, usual_points))
      result.crowding.push_back(
          {false, 0, sum / static_cast<double>(tally.of), places.size(), tally.removed, tally.of, usual_points});
  }
  return result;
}

}  // namespace icefield
