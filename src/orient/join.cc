#include "icefield/orient/join.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <set>
#include <utility>

#include "icefield/base/random.h"
#include "src/orient/lay_together.h"
#include "src/orient/orient_input.h"

namespace icefield {
namespace {

using Eigen::Vector3d;
constexpr std::uint32_t kNone = TrackSet::kNone;

// A place that both blocks know.
struct Common {
  Vector3d first, second;
  std::uint32_t first_point = kNone, second_point = kNone;  // a tie point of both
  std::uint32_t first_photo = kNone, second_photo = kNone;  // or a projection centre
};

// Key of an observation: its track, or else its photo and feature.
std::uint64_t key_of(const Block& block, const Observation& o, std::span<const std::vector<std::uint32_t>> track_of) {
  const std::uint32_t photo = block.photos[o.photo].photo.value;
  if (!o.feature.valid()) return ~std::uint64_t{0};
  if (photo < track_of.size() && o.feature.value < track_of[photo].size() && track_of[photo][o.feature.value] != kNone)
    return std::uint64_t{track_of[photo][o.feature.value]} | std::uint64_t{1} << 63;
  return std::uint64_t{photo} << 32 | o.feature.value;
}

class Joining {
 public:
  Joining(const Block& first, const Block& second, const JoinOptions& options)
      : first_(first), second_(second), options_(options), partner_(second.points.size(), kNone) {}

  void find_common(std::span<const std::vector<std::uint32_t>> track_of, JoinResult& result) {
    std::map<std::uint64_t, std::uint32_t> first_points;
    for (std::uint32_t p = 0; p < first_.points.size(); ++p)
      for (const Observation& o : first_.of_point(p))
        if (const std::uint64_t key = key_of(first_, o, track_of); key != ~std::uint64_t{0})
          first_points.emplace(key, p);
    for (std::uint32_t p = 0; p < second_.points.size(); ++p)
      for (const Observation& o : second_.of_point(p))
        if (const auto found = first_points.find(key_of(second_, o, track_of));
            found != first_points.end() && partner_[p] == kNone) {
          partner_[p] = found->second;
          common_.push_back({first_.points[found->second], second_.points[p], found->second, p});
        }
    result.common_points = common_.size();
    for (std::uint32_t i = 0; i < first_.photos.size(); ++i) first_photos_[first_.photos[i].photo.value] = i;
    for (std::uint32_t i = 0; i < second_.photos.size(); ++i)
      if (const auto found = first_photos_.find(second_.photos[i].photo.value); found != first_photos_.end()) {
        common_.push_back(
            {first_.photos[found->second].pose.centre, second_.photos[i].pose.centre, kNone, kNone, found->second, i});
        ++result.common_photos;
      }
    if (result.common_photos > 0) {
      first_gsd_ = gsd_of_photos(first_);
      second_gsd_ = gsd_of_photos(second_);
    }
  }
  std::size_t common() const { return common_.size(); }

  // How the second block lies to the first by most of what is common: three places at a time, then all that agree.
  std::optional<Similarity> fit_robustly() {
    CounterRandom random(combine_keys(0x101, common_.size()));
    std::optional<Similarity> found;
    for (int sample = 0; sample < 500; ++sample) {
      std::set<std::uint32_t> three;
      for (int k = 0; k < 12 && three.size() < 3; ++k)
        three.insert(random.below(static_cast<std::uint32_t>(common_.size())));
      if (three.size() < 3) break;
      auto s = fit(std::vector<std::uint32_t>(three.begin(), three.end()));
      if (!s || !(s->scale > 0)) continue;
      auto in = agreeing(*s);
      for (int round = 0; round < 3 && in.size() > 3; ++round) {
        const auto better = fit(in);
        if (!better) break;
        auto more = agreeing(*better);
        if (more.size() <= in.size() && round > 0) break;
        s = better, in = std::move(more);
      }
      if (in.size() > agreeing_.size()) agreeing_ = std::move(in), found = s;
      if (sample > 30 && agreeing_.size() > common_.size() / 2) break;
    }
    return found;
  }
  std::size_t agreeing() const { return agreeing_.size(); }

  // Both blocks as one in the frame of the first.
  Block laid_together(const Similarity& to_first) const {
    Block moved = second_;
    transform(moved, to_first);
    std::vector<std::uint32_t> place;  // of its photos
    Block block = photos_of_both(first_, moved, place);
    std::vector<std::vector<Observation>> more(first_.points.size());
    std::vector<std::uint8_t> agrees(second_.points.size(), 0);
    for (const std::uint32_t i : agreeing_)
      if (common_[i].second_point != kNone) agrees[common_[i].second_point] = 1;
    for (std::uint32_t p = 0; p < moved.points.size(); ++p)
      if (agrees[p])
        for (Observation o : moved.of_point(p)) {
          o.photo = PosedIndex(place[o.photo]);
          more[partner_[p]].push_back(o);
        }
    std::vector<Observation> seen;
    for (std::size_t p = 0; p < first_.points.size(); ++p) {
      seen.assign(first_.of_point(p).begin(), first_.of_point(p).end());
      for (const Observation& o : more[p])
        if (std::none_of(seen.begin(), seen.end(), [&](const Observation& s) { return s.photo == o.photo; }))
          seen.push_back(o);
      block.add_point(first_.points[p], seen);
    }
    for (std::uint32_t p = 0; p < moved.points.size(); ++p) {
      if (partner_[p] != kNone) continue;  // taken in above; or it does not agree: one point of two places
      seen.assign(moved.of_point(p).begin(), moved.of_point(p).end());
      for (Observation& o : seen) o.photo = PosedIndex(place[o.photo]);
      block.add_point(moved.points[p], seen);
    }
    block.observations_dropped = first_.observations_dropped + moved.observations_dropped;
    return block;
  }

 private:
  // Where a photo has no observation, as in the middle of the block.
  static std::vector<double> gsd_of_photos(const Block& block) {
    BlockStatistics statistics = block_statistics(block);
    for (double& gsd : statistics.photo_gsd)
      if (!(gsd > 0)) gsd = statistics.median_gsd;
    return std::move(statistics.photo_gsd);
  }

  // In pixels of the photos of both blocks: for a tie point those that see it, for a projection centre what a pixel of
  // the photo itself is on its subject. The worse of the two.
  double error_px(const Similarity& to_first, const Similarity& to_second, const Common& c) const {
    if (c.first_photo != kNone)
      return std::max((to_first * c.second - c.first).norm() / std::max(1e-300, first_gsd_[c.first_photo]),
                      (to_second * c.first - c.second).norm() / std::max(1e-300, second_gsd_[c.second_photo]));
    const auto in = [](const Block& block, std::uint32_t point, const Vector3d& x) {
      double sum = 0, count = 0;
      for (const Observation& o : block.of_point(point)) {
        const auto r = residual_px(block, x, o);
        sum += r ? std::min(r->norm(), 1e3) : 1e3, ++count;
      }
      return sum / std::max(1.0, count);
    };
    return std::max(in(first_, c.first_point, to_first * c.second), in(second_, c.second_point, to_second * c.first));
  }
  std::vector<std::uint32_t> agreeing(const Similarity& to_first) const {
    std::vector<std::uint32_t> list;
    const Similarity to_second = to_first.inverse();
    for (std::uint32_t i = 0; i < common_.size(); ++i)
      if (error_px(to_first, to_second, common_[i]) <= options_.max_error_px) list.push_back(i);
    return list;
  }
  std::optional<Similarity> fit(std::span<const std::uint32_t> of) const {
    std::vector<Vector3d> from, to;
    for (const std::uint32_t i : of) from.push_back(common_[i].second), to.push_back(common_[i].first);
    return fit_similarity(from, to);
  }
  const Block &first_, &second_;
  const JoinOptions& options_;
  std::map<std::uint32_t, std::uint32_t> first_photos_;  // place in the first block, by index in the photo list
  std::vector<std::uint32_t> partner_;                   // by point of the second block: point of the first
  std::vector<Common> common_;
  std::vector<double> first_gsd_, second_gsd_;  // by photo of the block
  std::vector<std::uint32_t> agreeing_;         // of what is common
};

}  // namespace

Block photos_of_both(const Block& first, const Block& second, std::vector<std::uint32_t>& place) {
  Block block = first.without_points();
  std::vector<std::uint8_t> has_photo(first.cameras.size(), 0);
  std::map<std::uint32_t, std::uint32_t> by_photo;  // place in the first block, by index in the photo list
  for (std::uint32_t i = 0; i < first.photos.size(); ++i) {
    has_photo[first.photos[i].camera.value] = 1;
    by_photo[first.photos[i].photo.value] = i;
  }
  for (std::size_t c = 0; c < block.cameras.size() && c < second.cameras.size(); ++c)
    if (!has_photo[c]) block.cameras[c] = second.cameras[c];
  place.clear();
  for (const PosedPhoto& photo : second.photos) {
    const auto known = by_photo.find(photo.photo.value);
    place.push_back(known != by_photo.end() ? known->second : static_cast<std::uint32_t>(block.photos.size()));
    if (known == by_photo.end()) block.photos.push_back(photo);
  }
  return block;
}

JoinResult join(const Block& first, const Block& second, std::span<const std::vector<std::uint32_t>> track_of,
                const JoinOptions& options, const Executor& executor, Monitor& monitor) {
  JoinResult result;
  Joining joining(first, second, options);
  joining.find_common(track_of, result);
  if (joining.common() < 3) {
    result.outcome =
        fmt::format("{} common photos and {} common points, three needed", result.common_photos, result.common_points);
    return result;
  }
  const std::optional<Similarity> found = joining.fit_robustly();
  result.agreeing = joining.agreeing();
  // All common photos suffice where there are three of them.
  const bool by_photos = result.common_photos >= 3 && result.agreeing >= 3 && result.common_points == 0;
  const double wanted = options.min_share * static_cast<double>(joining.common());
  if (!found || (!by_photos && static_cast<int>(result.agreeing) < options.min_agreeing) ||
      static_cast<double>(result.agreeing) < wanted) {
    result.outcome = fmt::format(
        "of {} common points and {} common photos only {} agree on how the blocks lie to each other, {} needed",
        result.common_points, result.common_photos, result.agreeing,
        std::max(options.min_agreeing, static_cast<int>(std::ceil(wanted))));
    return result;
  }
  result.to_first = *found;
  result.block = joining.laid_together(*found);
  if (options.adjusted) {
    const AdjustResult adjusted = adjust(result.block, options.adjust, executor, monitor);
    if (adjusted.summary.valid) result.block = adjusted.block;
  }
  result.joined = true;
  result.outcome = fmt::format("joined by {} of {} common points and {} common photos", result.agreeing,
                               result.common_points, result.common_photos);
  return result;
}

}  // namespace icefield
