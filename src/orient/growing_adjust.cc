// Adjustment of a growing block: of all of it, and of what is new.
#include <fmt/format.h>

#include <algorithm>

#include "src/orient/growing_block.h"
#include "src/orient/precision.h"

namespace icefield {
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
            {PosedIndex(place[list[k].photo.value]), list[k].feature, pixel(list[k].photo, list[k].feature)});
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
        if (!moves[photo]) options.fixed_photos.push_back(PosedIndex(place[photo]));
      }
      block.observations.push_back({PosedIndex(place[photo]), list[k].feature, pixel(list[k].photo, list[k].feature)});
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

}  // namespace icefield
