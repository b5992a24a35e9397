#include "icefield/orient/join.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include "icefield/base/random.h"
#include "src/orient/orient_input.h"

namespace icefield {
namespace {

using Eigen::Vector3d;

// A place that both blocks know, and how far off it may be: the size of a pixel there.
struct Common {
  Vector3d first, second;
  std::uint32_t first_point = 0, second_point = 0;  // kNone for a projection centre
};

// Key of an observation: its track, or else its photo and feature.
std::uint64_t key_of(const Block& block, const Observation& o, std::span<const std::vector<std::uint32_t>> track_of) {
  const std::uint32_t photo = block.photos[o.photo].photo.value;
  if (!o.feature.valid()) return ~std::uint64_t{0};
  if (photo < track_of.size() && o.feature.value < track_of[photo].size() &&
      track_of[photo][o.feature.value] != TrackSet::kNone)
    return std::uint64_t{track_of[photo][o.feature.value]} | std::uint64_t{1} << 63;
  return std::uint64_t{photo} << 32 | o.feature.value;
}

}  // namespace

JoinResult join(const Block& first, const Block& second, std::span<const std::vector<std::uint32_t>> track_of,
                const JoinOptions& options, const Executor& executor, Monitor& monitor) {
  JoinResult result;
  std::map<std::uint32_t, std::uint32_t> first_photos;
  for (std::uint32_t i = 0; i < first.photos.size(); ++i) first_photos[first.photos[i].photo.value] = i;
  std::vector<Common> common;
  std::map<std::uint64_t, std::uint32_t> first_points;
  for (std::uint32_t p = 0; p < first.points.size(); ++p)
    for (const Observation& o : first.of_point(p))
      if (const std::uint64_t key = key_of(first, o, track_of); key != ~std::uint64_t{0}) first_points.emplace(key, p);
  std::vector<std::uint32_t> partner(second.points.size(), TrackSet::kNone);
  for (std::uint32_t p = 0; p < second.points.size(); ++p)
    for (const Observation& o : second.of_point(p))
      if (const auto found = first_points.find(key_of(second, o, track_of));
          found != first_points.end() && partner[p] == TrackSet::kNone) {
        partner[p] = found->second;
        common.push_back({first.points[found->second], second.points[p], found->second, p});
      }
  result.common_points = common.size();
  for (const PosedPhoto& photo : second.photos)
    if (const auto found = first_photos.find(photo.photo.value); found != first_photos.end()) {
      common.push_back({first.photos[found->second].pose.centre, photo.pose.centre, TrackSet::kNone, TrackSet::kNone});
      ++result.common_photos;
    }
  if (common.size() < 3) {
    result.outcome =
        fmt::format("{} common photos and {} common points, three needed", result.common_photos, result.common_points);
    return result;
  }
  // An error in pixels of the photos of both blocks.
  const auto error_px = [&](const Similarity& to_first, const Similarity& to_second, const Common& c) {
    double worst = 0;
    const auto in = [&](const Block& block, std::uint32_t point, const Vector3d& x) {
      if (point == TrackSet::kNone) return;
      double sum = 0, count = 0;
      for (const Observation& o : block.of_point(point)) {
        const auto r = residual_px(block, x, o);
        sum += r ? std::min(r->norm(), 1e3) : 1e3, ++count;
      }
      worst = std::max(worst, sum / std::max(1.0, count));
    };
    in(first, c.first_point, to_first * c.second);
    in(second, c.second_point, to_second * c.first);
    if (c.first_point == TrackSet::kNone) {
      // A centre: as far off as its distance to the block's points allows at a pixel.
      const double reach =
          first.points.empty() ? 1e-12 : (first.photos.front().pose.centre - first.points.front()).norm();
      worst = (to_first * c.second - c.first).norm() / std::max(1e-12, reach) * first.cameras.front().focal();
    }
    return worst;
  };
  CounterRandom random(combine_keys(0x101, common.size()));
  std::vector<std::uint32_t> best;
  const auto agreeing = [&](const Similarity& s) {
    std::vector<std::uint32_t> list;
    const Similarity back = s.inverse();
    for (std::uint32_t i = 0; i < common.size(); ++i)
      if (error_px(s, back, common[i]) <= options.max_error_px) list.push_back(i);
    return list;
  };
  const auto fit = [&](std::span<const std::uint32_t> of) {
    std::vector<Vector3d> from, to;
    for (const std::uint32_t i : of) from.push_back(common[i].second), to.push_back(common[i].first);
    return fit_similarity(from, to);
  };
  std::optional<Similarity> found;
  for (int sample = 0; sample < 500; ++sample) {
    std::set<std::uint32_t> three;
    for (int k = 0; k < 12 && three.size() < 3; ++k)
      three.insert(random.below(static_cast<std::uint32_t>(common.size())));
    if (three.size() < 3) break;
    const std::vector<std::uint32_t> list(three.begin(), three.end());
    auto s = fit(list);
    if (!s || !(s->scale > 0)) continue;
    auto in = agreeing(*s);
    for (int round = 0; round < 3 && in.size() > 3; ++round) {
      const auto better = fit(in);
      if (!better) break;
      auto more = agreeing(*better);
      if (more.size() <= in.size() && round > 0) break;
      s = better, in = std::move(more);
    }
    if (in.size() > best.size()) best = std::move(in), found = s;
    if (sample > 30 && best.size() > common.size() / 2) break;
  }
  result.agreeing = best.size();
  // All common photos suffice where there are three of them.
  const bool by_photos = result.common_photos >= 3 && best.size() >= 3 && result.common_points == 0;
  if (!found || (!by_photos && static_cast<int>(best.size()) < options.min_agreeing) ||
      static_cast<double>(best.size()) < options.min_share * static_cast<double>(common.size())) {
    result.outcome = fmt::format(
        "of {} common points and {} common photos only {} agree on how the blocks lie to each other, {} needed",
        result.common_points, result.common_photos, best.size(),
        std::max(options.min_agreeing,
                 static_cast<int>(std::ceil(options.min_share * static_cast<double>(common.size())))));
    return result;
  }

  result.to_first = *found;
  Block moved = second;
  transform(moved, *found);
  Block& block = result.block;
  block = first;
  // Cameras of the second serve where the first has no photo.
  std::vector<std::uint8_t> has_photo(first.cameras.size(), 0);
  for (const PosedPhoto& p : first.photos) has_photo[p.camera.value] = 1;
  for (std::size_t c = 0; c < block.cameras.size() && c < moved.cameras.size(); ++c)
    if (!has_photo[c]) block.cameras[c] = moved.cameras[c];
  std::vector<std::uint32_t> place(moved.photos.size());
  for (std::uint32_t i = 0; i < moved.photos.size(); ++i) {
    const auto known = first_photos.find(moved.photos[i].photo.value);
    place[i] = known != first_photos.end() ? known->second : static_cast<std::uint32_t>(block.photos.size());
    if (known == first_photos.end()) block.photos.push_back(moved.photos[i]);
  }
  std::vector<std::uint8_t> agrees(second.points.size(), 0);
  for (const std::uint32_t i : best)
    if (common[i].second_point != TrackSet::kNone) agrees[common[i].second_point] = 1;
  std::vector<std::vector<Observation>> more(first.points.size());
  for (std::uint32_t p = 0; p < moved.points.size(); ++p)
    if (agrees[p])
      for (Observation o : moved.of_point(p)) {
        o.photo = place[o.photo];
        more[partner[p]].push_back(o);
      }
  std::vector<Vector3d> points = std::move(block.points);
  const std::vector<std::uint64_t> starts = std::move(block.starts);
  const std::vector<Observation> observations = std::move(block.observations);
  block.points.clear(), block.starts = {0}, block.observations.clear(), block.tracks.clear();
  std::vector<Observation> seen;
  for (std::size_t p = 0; p < points.size(); ++p) {
    seen.assign(observations.begin() + static_cast<std::ptrdiff_t>(starts[p]),
                observations.begin() + static_cast<std::ptrdiff_t>(starts[p + 1]));
    for (const Observation& o : more[p])
      if (std::none_of(seen.begin(), seen.end(), [&](const Observation& s) { return s.photo == o.photo; }))
        seen.push_back(o);
    block.add_point(points[p], seen);
  }
  for (std::uint32_t p = 0; p < moved.points.size(); ++p) {
    if (agrees[p] || partner[p] != TrackSet::kNone)
      continue;  // a common point that does not agree is one point of two places
    seen.assign(moved.of_point(p).begin(), moved.of_point(p).end());
    for (Observation& o : seen) o.photo = place[o.photo];
    block.add_point(moved.points[p], seen);
  }
  block.observations_dropped += moved.observations_dropped;
  if (options.adjusted) {
    const AdjustResult adjusted = adjust(block, options.adjust, executor, monitor);
    if (adjusted.summary.valid) block = adjusted.block;
  }
  result.joined = true;
  result.outcome = fmt::format("joined by {} of {} common points and {} common photos", best.size(),
                               result.common_points, result.common_photos);
  return result;
}

}  // namespace icefield
