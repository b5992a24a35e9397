// A growing block that comes back to where it began.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "icefield/base/random.h"
#include "icefield/base/statistics.h"
#include "icefield/geometry/resection.h"
#include "icefield/geometry/triangulate.h"
#include "src/orient/distribute.h"
#include "src/orient/growing_block.h"

namespace icefield {
namespace {

constexpr double kDegree = std::numbers::pi / 180;
constexpr std::size_t kLoopMatches = 20;  // that a pair must hold together by to close a loop
constexpr double kLoopShare = 0.4;        // and that share of its tracks
constexpr double kBendByHand = 150;       // px that rays miss each other by

}  // namespace

struct GrowingBlock::Loop {
  std::vector<std::uint64_t> ties;  // elements of tracks that would be observations if it closed
  std::vector<RelativeStep> steps;  // what the pair says of its photos' poses
};

// A point that one photo of a pair sees as an observation of the block, and the other as a match only.
struct GrowingBlock::LoopTie {
  std::uint32_t track;
  std::size_t element;  // of the other photo, within the track
  PointView view;       // of the other photo
};

GrowingBlock::Loop GrowingBlock::loop_of(std::size_t p) const {
  Loop loop;
  const PairMatches& pair = input_.pairs[p];
  const PhotoIndex a = pair.first, b = pair.second;
  if (!input_.usable(p) || pair.matches.size() < kLoopMatches || !posed_[a.value] || !posed_[b.value]) return loop;
  std::vector<LoopTie> forth, back;  // seen by the second photo, by the first
  std::size_t held = 0, together = 0;
  for (const Match& match : pair.matches) {
    const std::uint32_t t = tracks_->track_of[a.value][match.first.value];
    if (t == TrackSet::kNone || t != tracks_->track_of[b.value][match.second.value] || !has_point_[t]) continue;
    const auto list = elements(t);
    const auto at = [&](PhotoIndex photo, FeatureIndex feature) {
      return static_cast<std::size_t>(std::lower_bound(list.begin(), list.end(), Tracks::Element{photo, feature}) -
                                      list.begin());
    };
    const std::size_t ka = at(a, match.first), kb = at(b, match.second);
    const std::uint64_t first = tracks_->tracks.starts[t];
    ++together;
    const bool ua = used_[first + ka], ub = used_[first + kb];
    if (ua && ub) ++held;
    if (ua && !ub)
      if (const auto d = direction(b, match.second)) forth.push_back({t, kb, {points_[t], *d}});
    if (ub && !ua)
      if (const auto d = direction(a, match.first)) back.push_back({t, ka, {points_[t], *d}});
  }
  if (held >= kLoopMatches || (held > 0 && 2 * held > together)) {
    const Pose &from = poses_[a.value], &to = poses_[b.value];
    loop.steps.push_back(
        {a.value, b.value, to.orientation * from.orientation.conjugate(), from.to_camera(to.centre), 0, 1});
  }
  if (together < kLoopMatches || static_cast<double>(held) > 0.5 * static_cast<double>(together)) return loop;
  tie_up(forth, a, b, p, loop);
  tie_up(back, b, a, p, loop);
  return loop;
}

// Does `photo` hold together by itself with what `other` sees: can it be resected from the other's points?
void GrowingBlock::tie_up(std::span<const LoopTie> ties, PhotoIndex other, PhotoIndex photo, std::size_t pair,
                          Loop& loop) const {
  if (ties.size() < kLoopMatches) return;
  std::vector<PointView> views;
  for (const LoopTie& tie : ties) views.push_back(tie.view);
  ResectionOptions resection;
  resection.confidence = input_.options.resection_confidence;
  resection.max_samples = input_.options.max_resection_samples;
  resection.max_error =
      input_.options.max_resection_error_px / cameras_[input_.photos[photo.value].camera.value].focal();
  const Resection pose = resect(views, resection, combine_keys(0x100b, pair));
  if (pose.inliers.size() < kLoopMatches ||
      static_cast<double>(pose.inliers.size()) < kLoopShare * static_cast<double>(ties.size()))
    return;
  std::vector<double> scales;
  for (const std::uint32_t k : pose.inliers) {
    loop.ties.push_back(tracks_->tracks.starts[ties[k].track] + ties[k].element);
    if (const auto scale = log_measure(ties[k].track, photo, pose.pose)) scales.push_back(*scale);
  }
  const double log_scale = scales.size() >= 5 ? median(scales) : 0;
  // The photo from the other one, in the other's measure; its own measure is this much larger in the block.
  const Pose& from = poses_[other.value];
  loop.steps.push_back({other.value, photo.value, pose.pose.orientation * from.orientation.conjugate(),
                        from.to_camera(pose.pose.centre), -log_scale, 1});
}

// How far its own side of a loop and the other differ in measure (logarithm): depths of one point, by the photos that
// the block does not have it from and by the photo resected on the other side.
std::optional<double> GrowingBlock::log_measure(std::uint32_t track, PhotoIndex photo, const Pose& resected) const {
  const auto list = elements(track);
  std::vector<Ray> rays;
  for (std::size_t e = 0; e < list.size(); ++e) {
    if (used_[tracks_->tracks.starts[track] + e] || !posed_[list[e].photo.value]) continue;
    if (const auto d = direction(list[e].photo, list[e].feature)) rays.push_back({poses_[list[e].photo.value], *d});
  }
  if (rays.size() < 2) return std::nullopt;
  const auto own = triangulate(rays);
  if (!own || triangulation_angle(rays, *own) < 0.5 * kDegree) return std::nullopt;
  const double there = resected.to_camera(points_[track]).z(), here = poses_[photo.value].to_camera(*own).z();
  if (!(there > 0 && here > 0)) return std::nullopt;
  return std::log(here / there);
}

// Takes the ties in as observations and bends the block until they fit, first gently. Returns how far they were apart
// before, px.
double GrowingBlock::bend(std::span<const std::uint64_t> ties, std::span<const RelativeStep> steps) {
  for (const std::uint64_t e : ties) used_[e] = 1;
  Block block = to_block();
  double farthest = 0;
  for (std::size_t i = 0; i < block.points.size(); ++i)
    for (const Observation& o : block.of_point(i)) {
      const auto r = residual_px(block, block.points[i], o);
      farthest = std::max(farthest, r ? r->norm() : 1e4);
    }
  if (farthest > kBendByHand) {
    // Too far for an adjustment to find its way: first what does not close is shared out among the poses.
    poses_ = distribute(poses_, {steps.begin(), steps.end()});
    settle();
    for (const std::uint64_t e : ties) used_[e] = 1;
    block = to_block();
  }
  AdjustOptions options = adjust_options(false);
  options.loss = Loss::huber;
  options.max_iterations = 60;
  options.cost_tolerance = 1e-5;
  for (double width = std::clamp(farthest, 4.0, kBendByHand);; width = std::max(2.0, width / 5)) {
    options.loss_width_px = width;
    const AdjustResult result = adjust(block, options, input_.executor, input_.monitor);
    ++adjustments_;
    if (!result.summary.valid) break;
    block = result.block;
    if (width <= 2.0) break;
  }
  from_block(block);
  return farthest;
}

// A loop that comes back to where it began does so with the drift it has gathered: the pairs that close it have
// matches, but their rays miss each other. Where such a pair holds together by itself (one photo can be resected from
// points that the other side has), its observations are taken in as they are and the block is bent until they fit,
// first gently, then for good; a bend that does not end in their fitting is taken back.
bool GrowingBlock::close_loops() {
  const double max_error_px = input_.options.max_growing_residual_px;
  std::vector<Loop> found(input_.pairs.size());
  Monitor silent;
  input_.executor.run("", input_.pairs.size(), silent, [&](std::size_t p) { found[p] = loop_of(p); });
  std::size_t loops = 0;
  std::vector<std::uint64_t> ties;
  std::vector<RelativeStep> steps;
  for (const Loop& loop : found) {
    loops += !loop.ties.empty();
    ties.insert(ties.end(), loop.ties.begin(), loop.ties.end());
    steps.insert(steps.end(), loop.steps.begin(), loop.steps.end());
  }
  if (loops == 0) return false;
  std::sort(ties.begin(), ties.end());
  ties.erase(std::unique(ties.begin(), ties.end()), ties.end());
  // One that did not fit is tried again when there is more of it.
  if (static_cast<double>(ties.size()) < 1.5 * static_cast<double>(loop_that_failed_)) return false;

  const auto cameras_before = cameras_;
  const auto poses_before = poses_;
  const auto points_before = points_;
  const auto used_before = used_;
  const auto has_point_before = has_point_;
  const double farthest = bend(ties, steps);
  std::size_t fitting = 0;
  for (std::uint32_t t = 0; t < tracks_->tracks.size(); ++t) {
    const auto list = elements(t);
    for (std::size_t k = 0; has_point_[t] && k < list.size(); ++k)
      if (std::binary_search(ties.begin(), ties.end(), tracks_->tracks.starts[t] + k)) {
        const auto error = residual(list[k], points_[t]);
        fitting += error && *error <= max_error_px;
      }
  }
  const std::size_t before = static_cast<std::size_t>(std::count(used_before.begin(), used_before.end(), 1));
  remove_all_outliers(max_error_px);
  const bool closed = static_cast<double>(fitting) > 0.5 * static_cast<double>(ties.size()) &&
                      static_cast<double>(observation_count()) > 0.97 * static_cast<double>(before);
  input_.monitor.log(LogLevel::detail,
                     fmt::format("{} pair{} that close a loop, {} observations, {:.0f} px apart: {}", loops,
                                 loops == 1 ? "" : "s", ties.size(), farthest,
                                 closed ? fmt::format("{} of them fit now", fitting)
                                        : fmt::format("{} fit then, and {} of {} observations of the block: left out",
                                                      fitting, observation_count(), before)));
  if (closed) {
    ++loops_closed_;
    triangulate_all();
    return true;
  }
  loop_that_failed_ = ties.size();
  cameras_ = cameras_before;
  poses_ = poses_before;
  points_ = points_before;
  used_ = used_before;
  for (std::uint32_t t = 0; t < tracks_->tracks.size(); ++t) set_point(t, has_point_before[t] != 0);
  return false;
}

}  // namespace icefield
