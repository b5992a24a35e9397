// Tie points of a growing block: triangulation, removal of outliers, tracks that are merged and split.
#include <algorithm>
#include <cmath>
#include <numeric>

#include "icefield/base/statistics.h"
#include "icefield/geometry/triangulate.h"
#include "src/orient/growing_block.h"

namespace icefield {
namespace {

constexpr std::size_t kViewsPaired = 14;  // of a longer track so many views, evenly taken, are tried two by two

struct TrackView {
  std::uint64_t element;
  Ray ray;
};

// The point that most views agree with: of all pairs of views the best supported, among equals the widest; then least
// squares over its supporters. `fits` tells whether a view agrees with a point.
template <class Fits>
std::optional<Eigen::Vector3d> point_of_most(std::span<const TrackView> views, double min_angle, std::size_t least,
                                             Fits&& fits) {
  std::size_t best_support = least - 1;
  double best_angle = 0;
  Eigen::Vector3d best_point;
  const std::size_t tried = std::min(views.size(), kViewsPaired);
  const auto at = [&](std::size_t k) { return k * views.size() / tried; };
  for (std::size_t a = 0; a < tried; ++a)
    for (std::size_t b = a + 1; b < tried; ++b) {
      const Ray two[] = {views[at(a)].ray, views[at(b)].ray};
      const auto point = triangulate(two);
      if (!point) continue;
      const double angle = triangulation_angle(two, *point);
      if (angle < min_angle) continue;
      std::size_t support = 0;
      for (const TrackView& view : views) support += fits(*point, view);
      if (support > best_support || (support == best_support && angle > best_angle && support >= least)) {
        best_support = support;
        best_angle = angle;
        best_point = *point;
      }
    }
  if (best_support < least) return std::nullopt;
  std::vector<Ray> rays;
  for (const TrackView& view : views)
    if (fits(best_point, view)) rays.push_back(view.ray);
  const auto point = triangulate(rays);
  if (!point || triangulation_angle(rays, *point) < min_angle) return std::nullopt;
  std::size_t support = 0;
  for (const TrackView& view : views) support += fits(*point, view);
  if (support < least) return std::nullopt;
  return point;
}

}  // namespace

// Gives tracks a point, or a point more observations. Tracks are independent.
void GrowingBlock::triangulate_tracks(std::span<const std::uint32_t> tracks) {
  const double max_error = input_.options.max_growing_residual_px, min_angle = min_angle_;
  std::vector<std::uint8_t> found(tracks.size(), 0);
  input_.executor.blocks(tracks.size(), 128, [&](std::size_t, std::size_t begin, std::size_t end) {
    std::vector<TrackView> views;
    for (std::size_t n = begin; n < end; ++n) {
      const std::uint32_t t = tracks[n];
      const auto list = elements(t);
      const std::uint64_t first = tracks_->tracks.starts[t];
      if (has_point_[t]) {
        for (std::size_t k = 0; k < list.size(); ++k) {
          if (used_[first + k] || !posed_[list[k].photo.value]) continue;
          const auto error = residual(list[k], points_[t]);
          if (error && *error <= max_error) used_[first + k] = 1;
        }
        continue;
      }
      std::size_t posed = 0;
      for (const Tracks::Element& e : list) posed += posed_[e.photo.value];
      if (posed < 2) continue;
      views.clear();
      for (std::size_t k = 0; k < list.size(); ++k) {
        if (!posed_[list[k].photo.value]) continue;
        if (const auto d = direction(list[k].photo, list[k].feature))
          views.push_back({first + k, {poses_[list[k].photo.value], *d}});
      }
      if (views.size() < 2) continue;
      const auto fits = [&](const Eigen::Vector3d& point, const TrackView& view) {
        const auto error = residual(tracks_->tracks.elements[view.element], point);
        return error && *error <= max_error;
      };
      const auto point = point_of_most(views, min_angle, 2, fits);
      if (!point) continue;
      points_[t] = *point;
      found[n] = 1;
      for (const TrackView& view : views) used_[view.element] = fits(*point, view);
    }
  });
  for (std::size_t n = 0; n < tracks.size(); ++n)
    if (found[n]) set_point(tracks[n], true);
}

void GrowingBlock::triangulate_all() {
  std::vector<std::uint32_t> all(tracks_->tracks.size());
  std::iota(all.begin(), all.end(), 0u);
  triangulate_tracks(all);
}

double GrowingBlock::ray_angle(std::uint32_t track) const {
  std::vector<Ray> rays;
  const auto list = elements(track);
  for (std::size_t k = 0; k < list.size(); ++k)
    if (used_[tracks_->tracks.starts[track] + k]) rays.push_back({poses_[list[k].photo.value], {}});
  return triangulation_angle(rays, points_[track]);
}

std::size_t GrowingBlock::remove_outliers(std::span<const std::uint32_t> tracks, double max_residual_px) {
  const double min_angle = min_angle_;
  std::vector<std::size_t> removed(block_count(tracks.size(), 256), 0);
  std::vector<std::uint8_t> gone(tracks.size(), 0);
  input_.executor.blocks(tracks.size(), 256, [&](std::size_t part, std::size_t begin, std::size_t end) {
    std::vector<Ray> rays;
    for (std::size_t n = begin; n < end; ++n) {
      const std::uint32_t t = tracks[n];
      if (!has_point_[t]) continue;
      rays.clear();
      const auto list = elements(t);
      std::uint8_t* const used = used_.data() + tracks_->tracks.starts[t];
      for (std::size_t k = 0; k < list.size(); ++k) {
        if (!used[k]) continue;
        const auto error = residual(list[k], points_[t]);
        if (!error || *error > max_residual_px) {
          used[k] = 0;
          ++removed[part];
        } else {
          rays.push_back({poses_[list[k].photo.value], {}});
        }
      }
      if (rays.size() >= 2 && triangulation_angle(rays, points_[t]) >= min_angle) continue;
      gone[n] = 1;
      for (std::size_t k = 0; k < list.size(); ++k) {
        removed[part] += used[k];
        used[k] = 0;
      }
    }
  });
  for (std::size_t n = 0; n < tracks.size(); ++n)
    if (gone[n]) set_point(tracks[n], false);
  return std::accumulate(removed.begin(), removed.end(), std::size_t{0});
}

std::size_t GrowingBlock::remove_all_outliers(double max_residual_px) {
  std::vector<std::uint32_t> all(tracks_->tracks.size());
  std::iota(all.begin(), all.end(), 0u);
  return remove_outliers(all, max_residual_px);
}

// Tracks were made of matches alone; with points it shows which of them are one spot and which are two. Two tracks that
// a match joins and whose points agree are merged, of two features of one photo the nearer one staying; three or more
// views that a track's point does not explain, and that agree on another, become a track of their own.
void GrowingBlock::refine_tracks() {
  const Tracks& old = tracks_->tracks;
  const double max_error = input_.options.max_growing_residual_px;
  const auto all_fit = [&](std::uint32_t t, const Eigen::Vector3d& point) {
    const auto list = elements(t);
    for (std::size_t k = 0; k < list.size(); ++k)
      if (used_[old.starts[t] + k]) {
        const auto error = residual(list[k], point);
        if (!error || *error > max_error) return false;
      }
    return true;
  };
  UnionFind sets(old.size());
  for (std::size_t p = 0; p < input_.pairs.size(); ++p) {
    const PairMatches& pair = input_.pairs[p];
    if (!input_.usable(p) || !posed_[pair.first.value] || !posed_[pair.second.value]) continue;
    for (const Match& match : pair.matches) {
      const std::uint32_t t1 = tracks_->track_of[pair.first.value][match.first.value],
                          t2 = tracks_->track_of[pair.second.value][match.second.value];
      if (t1 == TrackSet::kNone || t2 == TrackSet::kNone || t1 == t2 || !has_point_[t1] || !has_point_[t2]) continue;
      if (sets.find(t1) != sets.find(t2) && all_fit(t1, points_[t2]) && all_fit(t2, points_[t1])) sets.join(t1, t2);
    }
  }

  struct Part {
    std::vector<Tracks::Element> elements;
  };
  std::vector<std::vector<std::uint32_t>> members(old.size());
  for (std::uint32_t t = 0; t < old.size(); ++t) members[sets.find(t)].push_back(t);
  std::vector<std::vector<Tracks::Element>> main(old.size()), split(old.size());
  input_.executor.blocks(old.size(), 128, [&](std::size_t, std::size_t begin, std::size_t end) {
    std::vector<TrackView> views;
    for (std::size_t t = begin; t < end; ++t) {
      if (members[t].empty()) continue;
      auto& kept = main[t];
      for (const std::uint32_t m : members[t]) kept.insert(kept.end(), elements(m).begin(), elements(m).end());
      std::sort(kept.begin(), kept.end());
      if (members[t].size() > 1) {
        // One feature of each photo.
        const auto distance = [&](const Tracks::Element& e) {
          return posed_[e.photo.value] ? residual(e, points_[t]).value_or(1e30) : 1e20;
        };
        std::vector<Tracks::Element> one;
        for (const Tracks::Element& e : kept) {
          if (one.empty() || one.back().photo != e.photo)
            one.push_back(e);
          else if (distance(e) < distance(one.back()))
            one.back() = e;
        }
        kept = std::move(one);
      }
      if (!has_point_[t] || members[t].size() > 1) continue;
      views.clear();
      for (const Tracks::Element& e : kept) {
        const std::uint64_t element =
            old.starts[t] +
            static_cast<std::uint64_t>(std::lower_bound(elements(static_cast<std::uint32_t>(t)).begin(),
                                                        elements(static_cast<std::uint32_t>(t)).end(), e) -
                                       elements(static_cast<std::uint32_t>(t)).begin());
        if (used_[element] || !posed_[e.photo.value]) continue;
        if (const auto d = direction(e.photo, e.feature)) views.push_back({element, {poses_[e.photo.value], *d}});
      }
      if (views.size() < 3) continue;
      const auto fits = [&](const Eigen::Vector3d& point, const TrackView& view) {
        const auto error = residual(old.elements[view.element], point);
        return error && *error <= max_error;
      };
      const auto point = point_of_most(views, min_angle_, 3, fits);
      if (!point) continue;
      for (const TrackView& view : views)
        if (fits(*point, view)) split[t].push_back(old.elements[view.element]);
      std::erase_if(kept,
                    [&](const Tracks::Element& e) { return std::binary_search(split[t].begin(), split[t].end(), e); });
    }
  });
  Tracks refined;
  const auto add = [&](const std::vector<Tracks::Element>& list) {
    if (list.size() < 2) return;
    refined.elements.insert(refined.elements.end(), list.begin(), list.end());
    refined.starts.push_back(refined.elements.size());
  };
  for (std::size_t t = 0; t < old.size(); ++t) add(main[t]), add(split[t]);
  retrack(index_tracks(std::move(refined), input_.photos));
}

// Goes on with other tracks: a track has the point of its first used element.
void GrowingBlock::retrack(std::shared_ptr<const TrackSet> tracks) {
  const std::shared_ptr<const TrackSet> old = std::move(tracks_);
  const std::vector<std::uint8_t> had = std::move(has_point_), was_used = std::move(used_);
  const std::vector<Eigen::Vector3d> at = std::move(points_);
  tracks_ = std::move(tracks);
  has_point_.assign(tracks_->tracks.size(), 0);
  points_.assign(tracks_->tracks.size(), Eigen::Vector3d::Zero());
  used_.assign(tracks_->tracks.elements.size(), 0);
  for (View& view : view_) view = {};
  for (std::uint32_t t = 0; t < tracks_->tracks.size(); ++t) {
    const auto list = elements(t);
    std::size_t count = 0;
    for (std::size_t k = 0; k < list.size(); ++k) {
      const std::uint32_t before = old->track_of[list[k].photo.value][list[k].feature.value];
      if (before == TrackSet::kNone || !had[before]) continue;
      const auto list_before = old->tracks.track(TrackIndex(before));
      const auto place = static_cast<std::uint64_t>(std::lower_bound(list_before.begin(), list_before.end(), list[k]) -
                                                    list_before.begin());
      if (!was_used[old->tracks.starts[before] + place]) continue;
      if (count == 0) points_[t] = at[before];
      ++count;
      const auto error = residual(list[k], points_[t]);
      used_[tracks_->tracks.starts[t] + k] = error && *error <= input_.options.max_growing_residual_px;
    }
    if (count >= 2) set_point(t, true);
    if (count < 2)
      std::fill_n(used_.begin() + static_cast<std::ptrdiff_t>(tracks_->tracks.starts[t]), list.size(), std::uint8_t{0});
  }
}

}  // namespace icefield
