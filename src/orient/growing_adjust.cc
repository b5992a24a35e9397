// Adjustment of a growing block: of all of it, of what is new, and of loops that come to their start again.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>
#include <numeric>

#include "icefield/base/random.h"
#include "icefield/geometry/resection.h"
#include "icefield/geometry/triangulate.h"
#include "src/orient/distribute.h"
#include "src/orient/growing_block.h"
#include "src/orient/precision.h"

namespace icefield {
namespace {

constexpr double kDegree = std::numbers::pi / 180;
constexpr std::size_t kLoopMatches = 20;  // that a pair must hold together by to close a loop
constexpr double kLoopShare = 0.4;        // and that share of its tracks
constexpr double kBendByHand = 150;       // px that rays miss each other by

}  // namespace

Block GrowingBlock::to_block() const {
  Block block;
  block.cameras = cameras_;
  std::vector<std::uint32_t> place(input_.photos.size(), 0);
  for (std::size_t i = 0; i < input_.photos.size(); ++i) {
    if (!posed_[i]) continue;
    place[i] = static_cast<std::uint32_t>(block.photos.size());
    block.photos.push_back({PhotoIndex(i), input_.photos[i].camera, poses_[i]});
  }
  for (std::uint32_t t = 0; t < tracks_->tracks.size(); ++t) {
    if (!has_point_[t]) continue;
    const auto list = elements(t);
    for (std::size_t k = 0; k < list.size(); ++k) {
      if (!posed_[list[k].photo.value]) continue;
      if (used_[tracks_->tracks.starts[t] + k])
        block.observations.push_back(
            {place[list[k].photo.value], list[k].feature, pixel(list[k].photo, list[k].feature)});
      else
        ++block.observations_dropped;
    }
    block.points.push_back(points_[t]);
    block.tracks.push_back(TrackIndex(t));
    block.starts.push_back(block.observations.size());
  }
  return block;
}

void GrowingBlock::from_block(const Block& block) {
  cameras_ = block.cameras;
  for (const PosedPhoto& photo : block.photos) poses_[photo.photo.value] = photo.pose;
  for (std::size_t i = 0; i < block.points.size(); ++i) points_[block.tracks[i].value] = block.points[i];
}

AdjustOptions GrowingBlock::adjust_options(bool last) const {
  AdjustOptions result;
  result.loss = last ? Loss::huber : Loss::cauchy;
  result.loss_width_px = last ? 1.0 : 2.0;
  if (last) result.loss_width_sigmas = input_.options.loss_width_sigmas;
  result.max_iterations = last ? 40 : 12;
  result.cost_tolerance = last ? 1e-8 : 1e-4;
  set_lens_freedoms(cameras_, input_.priors, input_.options, held_, result);
  // Distortion cannot be told from shape until several photos see the same points.
  for (std::vector<bool>& free : result.free_by_camera)
    for (std::size_t p = 0; p < free.size(); ++p) free[p] = free[p] && order_.size() >= (p == 0 ? 3u : 4u);
  return result;
}

void GrowingBlock::adjust_all(bool last) {
  const AdjustResult result = adjust(to_block(), adjust_options(last), input_.executor, input_.monitor);
  ++adjustments_;
  if (!result.summary.valid) return;
  from_block(result.block);
  adjusted_observations_ = result.summary.observations;
}

// From the two radial terms that serve while a block grows to the whole lens, as far as the photos tell of it. A camera
// that was given as a pinhole stays one.
void GrowingBlock::free_lenses() {
  constexpr std::size_t kPhotosForLens = 5;
  bool any = false;
  for (std::size_t c = 0; c < cameras_.size(); ++c) {
    if (camera_photos_[c] < kPhotosForLens || cameras_[c].model == CameraModel::pinhole) continue;
    cameras_[c] = with_tangential_terms(cameras_[c]);
    any = true;
  }
  if (!any) return;
  AdjustOptions options = adjust_options(true);
  options.cost_tolerance = 1e-6;
  const LensResult result = adjust_lenses(to_block(), options, input_.executor, input_.monitor);
  ++adjustments_;
  if (!result.adjusted.summary.valid) return;
  held_ = result.held;
  from_block(result.adjusted.block);
}

// New photos and those that share the most with them, with the points of the new ones; all others that see these are
// held.
void GrowingBlock::adjust_near(std::span<const PhotoIndex> added) {
  std::vector<std::uint32_t> tracks, shared(input_.photos.size(), 0);
  std::vector<std::uint8_t> is_new(input_.photos.size(), 0), moves(input_.photos.size(), 0);
  for (const PhotoIndex photo : added) is_new[photo.value] = moves[photo.value] = 1;
  for (const PhotoIndex photo : added)
    for (const std::uint32_t t : tracks_->photo_tracks[photo.value])
      if (has_point_[t]) tracks.push_back(t);
  std::sort(tracks.begin(), tracks.end());
  tracks.erase(std::unique(tracks.begin(), tracks.end()), tracks.end());
  for (const std::uint32_t t : tracks) {
    const auto list = elements(t);
    for (std::size_t k = 0; k < list.size(); ++k)
      if (used_[tracks_->tracks.starts[t] + k]) ++shared[list[k].photo.value];
  }
  std::vector<std::uint32_t> near;
  for (std::uint32_t i = 0; i < shared.size(); ++i)
    if (shared[i] > 0 && !is_new[i]) near.push_back(i);
  std::stable_sort(near.begin(), near.end(), [&](std::uint32_t a, std::uint32_t b) { return shared[a] > shared[b]; });
  near.resize(std::min(near.size(), added.size() + 4));
  // A neighbour moves if it keeps company with photos that do not.
  if (order_.size() > near.size() + added.size() + 2)
    for (const std::uint32_t i : near) {
      moves[i] = 1;
      for (const std::uint32_t t : tracks_->photo_tracks[i])
        if (has_point_[t]) tracks.push_back(t);
    }
  std::sort(tracks.begin(), tracks.end());
  tracks.erase(std::unique(tracks.begin(), tracks.end()), tracks.end());

  Block block;
  block.cameras = cameras_;
  AdjustOptions options = adjust_options(false);
  options.free_by_camera.assign(cameras_.size(), {});
  options.priors.clear();
  options.max_iterations = 8;
  std::vector<std::uint32_t> place(input_.photos.size(), TrackSet::kNone);
  for (const std::uint32_t t : tracks) {
    const auto list = elements(t);
    const std::uint64_t first = tracks_->tracks.starts[t];
    for (std::size_t k = 0; k < list.size(); ++k) {
      if (!used_[first + k]) continue;
      const std::uint32_t photo = list[k].photo.value;
      if (place[photo] == TrackSet::kNone) {
        place[photo] = static_cast<std::uint32_t>(block.photos.size());
        block.photos.push_back({list[k].photo, input_.photos[photo].camera, poses_[photo]});
        if (!moves[photo]) options.fixed_photos.push_back(place[photo]);
      }
      block.observations.push_back({place[photo], list[k].feature, pixel(list[k].photo, list[k].feature)});
    }
    block.points.push_back(points_[t]);
    block.tracks.push_back(TrackIndex(t));
    block.starts.push_back(block.observations.size());
  }
  if (options.fixed_photos.size() < 2) return adjust_all(false);
  const AdjustResult result = adjust(block, options, input_.executor, input_.monitor);
  if (!result.summary.valid) return;
  for (const PosedPhoto& photo : result.block.photos) poses_[photo.photo.value] = photo.pose;
  for (std::size_t i = 0; i < result.block.points.size(); ++i) points_[tracks[i]] = result.block.points[i];
  remove_outliers(tracks, input_.options.max_growing_residual_px);
}

// A loop that comes back to where it began does so with the drift it has gathered: the pairs that close it have
// matches, but their rays miss each other. Where such a pair holds together by itself (one photo can be resected from
// points that the other side has), its observations are taken in as they are and the block is bent until they fit,
// first gently, then for good; a bend that does not end in their fitting is taken back.
bool GrowingBlock::close_loops() {
  const OrientOptions& options = input_.options;
  struct Tie {
    std::uint32_t track;
    std::size_t element;  // within the track
  };
  std::vector<std::vector<Tie>> found(input_.pairs.size());
  std::vector<std::vector<RelativeStep>> steps(input_.pairs.size());
  Monitor silent;
  input_.executor.run("", input_.pairs.size(), silent, [&](std::size_t p) {
    const PairMatches& pair = input_.pairs[p];
    if (!input_.usable(p) || pair.matches.size() < kLoopMatches || !posed_[pair.first.value] ||
        !posed_[pair.second.value])
      return;
    std::vector<PointView> views;
    std::vector<Tie> ties;
    std::size_t held = 0, together = 0;
    const PhotoIndex a = pair.first, b = pair.second;
    std::vector<PointView> back_views;
    std::vector<Tie> back_ties;
    for (const Match& match : pair.matches) {
      const std::uint32_t t = tracks_->track_of[a.value][match.first.value];
      if (t == TrackSet::kNone || t != tracks_->track_of[b.value][match.second.value]) continue;
      const auto list = elements(t);
      const auto at = [&](PhotoIndex photo, FeatureIndex feature) {
        return static_cast<std::size_t>(std::lower_bound(list.begin(), list.end(), Tracks::Element{photo, feature}) -
                                        list.begin());
      };
      const std::size_t ka = at(a, match.first), kb = at(b, match.second);
      const std::uint64_t first = tracks_->tracks.starts[t];
      if (!has_point_[t]) continue;
      ++together;
      const bool ua = used_[first + ka], ub = used_[first + kb];
      if (ua && ub) ++held;
      if (ua && !ub)
        if (const auto d = direction(b, match.second)) views.push_back({points_[t], *d}), ties.push_back({t, kb});
      if (ub && !ua)
        if (const auto d = direction(a, match.first))
          back_views.push_back({points_[t], *d}), back_ties.push_back({t, ka});
    }
    if (held >= kLoopMatches || (held > 0 && 2 * held > together)) {
      const Pose &from = poses_[a.value], &to = poses_[b.value];
      steps[p].push_back(
          {a.value, b.value, to.orientation * from.orientation.conjugate(), from.to_camera(to.centre), 0, 1});
    }
    if (together < kLoopMatches || static_cast<double>(held) > 0.5 * static_cast<double>(together)) return;
    for (const bool back : {false, true}) {
      const auto& side = back ? back_views : views;
      if (side.size() < kLoopMatches) continue;
      const PhotoIndex photo = back ? a : b;
      ResectionOptions resection;
      resection.confidence = input_.options.resection_confidence;
      resection.max_samples = input_.options.max_resection_samples;
      resection.max_error = options.max_resection_error_px / cameras_[input_.photos[photo.value].camera.value].focal();
      const Resection pose = resect(side, resection, combine_keys(0x100b, p));
      if (pose.inliers.size() < kLoopMatches ||
          static_cast<double>(pose.inliers.size()) < kLoopShare * static_cast<double>(side.size()))
        continue;
      for (const std::uint32_t k : pose.inliers) found[p].push_back(back ? back_ties[k] : ties[k]);
      // How far its own side and the other differ in measure: depths of the same points.
      std::vector<double> scales;
      for (const std::uint32_t k : pose.inliers) {
        const Tie& tie = back ? back_ties[k] : ties[k];
        const auto list = elements(tie.track);
        std::vector<Ray> rays;
        for (std::size_t e = 0; e < list.size(); ++e) {
          if (used_[tracks_->tracks.starts[tie.track] + e] || !posed_[list[e].photo.value]) continue;
          if (const auto d = direction(list[e].photo, list[e].feature))
            rays.push_back({poses_[list[e].photo.value], *d});
        }
        if (rays.size() < 2) continue;
        const auto own = triangulate(rays);
        if (!own || triangulation_angle(rays, *own) < 0.5 * kDegree) continue;
        const double there = pose.pose.to_camera(points_[tie.track]).z(),
                     here = poses_[photo.value].to_camera(*own).z();
        if (there > 0 && here > 0) scales.push_back(std::log(here / there));
      }
      double log_scale = 0;
      if (scales.size() >= 5) {
        std::nth_element(scales.begin(), scales.begin() + static_cast<std::ptrdiff_t>(scales.size() / 2), scales.end());
        log_scale = scales[scales.size() / 2];
      }
      // The photo from the other one, in the other's measure; its own measure is this much larger in the block.
      const std::uint32_t other = back ? b.value : a.value;
      const Pose& from = poses_[other];
      steps[p].push_back({other, photo.value, pose.pose.orientation * from.orientation.conjugate(),
                          from.to_camera(pose.pose.centre), -log_scale, 1});
    }
  });
  std::size_t loops = 0;
  std::vector<std::uint64_t> forced;
  for (std::size_t p = 0; p < found.size(); ++p) {
    loops += !found[p].empty();
    for (const Tie& tie : found[p]) forced.push_back(tracks_->tracks.starts[tie.track] + tie.element);
  }
  if (loops == 0) return false;
  std::sort(forced.begin(), forced.end());
  forced.erase(std::unique(forced.begin(), forced.end()), forced.end());
  // One that did not fit is tried again when there is more of it.
  if (static_cast<double>(forced.size()) < 1.5 * static_cast<double>(loop_that_failed_)) return false;

  const auto cameras_before = cameras_;
  const auto poses_before = poses_;
  const auto points_before = points_;
  const auto used_before = used_;
  const auto has_point_before = has_point_;
  for (const std::uint64_t e : forced) used_[e] = 1;
  Block block = to_block();
  AdjustOptions bend = adjust_options(false);
  double farthest = 0;
  for (std::size_t i = 0; i < block.points.size(); ++i)
    for (const Observation& o : block.of_point(i)) {
      const auto r = residual_px(block, block.points[i], o);
      farthest = std::max(farthest, r ? r->norm() : 1e4);
    }
  if (farthest > kBendByHand) {
    // Too far for an adjustment to find its way: first what does not close is shared out among the poses.
    std::vector<RelativeStep> all;
    for (const auto& of_pair : steps) all.insert(all.end(), of_pair.begin(), of_pair.end());
    poses_ = distribute(poses_, all);
    settle();
    for (const std::uint64_t e : forced) used_[e] = 1;
    block = to_block();
  }
  bend.loss = Loss::huber;
  bend.max_iterations = 60;
  bend.cost_tolerance = 1e-5;
  for (double width = std::clamp(farthest, 4.0, kBendByHand);; width = std::max(2.0, width / 5)) {
    bend.loss_width_px = width;
    const AdjustResult result = adjust(block, bend, input_.executor, input_.monitor);
    ++adjustments_;
    if (!result.summary.valid) break;
    block = result.block;
    if (width <= 2.0) break;
  }
  from_block(block);
  std::size_t fitting = 0;
  for (std::size_t i = 0; i < block.points.size(); ++i) {
    const std::uint32_t t = block.tracks[i].value;
    const auto list = elements(t);
    for (std::size_t k = 0; k < list.size(); ++k)
      if (std::binary_search(forced.begin(), forced.end(), tracks_->tracks.starts[t] + k)) {
        const auto error = residual(list[k], points_[t]);
        fitting += error && *error <= options.max_growing_residual_px;
      }
  }
  const std::size_t before = static_cast<std::size_t>(std::count(used_before.begin(), used_before.end(), 1));
  remove_all_outliers(options.max_growing_residual_px);
  const bool closed = static_cast<double>(fitting) > 0.5 * static_cast<double>(forced.size()) &&
                      static_cast<double>(observation_count()) > 0.97 * static_cast<double>(before);
  input_.monitor.log(LogLevel::detail,
                     fmt::format("{} pair{} that close a loop, {} observations, {:.0f} px apart: {}", loops,
                                 loops == 1 ? "" : "s", forced.size(), farthest,
                                 closed ? fmt::format("{} of them fit now", fitting)
                                        : fmt::format("{} fit then, and {} of {} observations of the block: left out",
                                                      fitting, observation_count(), before)));
  if (closed) {
    ++loops_closed_;
    triangulate_all();
    return true;
  }
  loop_that_failed_ = forced.size();
  cameras_ = cameras_before;
  poses_ = poses_before;
  points_ = points_before;
  used_ = used_before;
  for (std::uint32_t t = 0; t < tracks_->tracks.size(); ++t) set_point(t, has_point_before[t] != 0);
  return false;
}

}  // namespace icefield
