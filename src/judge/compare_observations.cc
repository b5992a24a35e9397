#include <algorithm>

#include "icefield/geometry/triangulate.h"
#include "icefield/judge/compare.h"

namespace icefield {

ObservationComparison compare_observations(std::span<const OrientPhoto> photos, const Tracks& tracks,
                                           std::span<const Block> blocks,
                                           std::span<const std::optional<NamedPose>> truth, const Executor& executor,
                                           double max_error_px) {
  std::vector<std::vector<std::uint8_t>> kept(photos.size());  // by photo and feature
  for (std::size_t i = 0; i < photos.size(); ++i) kept[i].assign(photos[i].keypoints.size(), 0);
  for (const Block& block : blocks)
    for (const Observation& o : block.observations)
      if (o.feature.valid()) kept[block.photos[o.photo].photo.value][o.feature.value] = 1;

  constexpr std::size_t kGrain = 256;
  std::vector<ObservationComparison> parts(block_count(tracks.size(), kGrain));
  executor.blocks(tracks.size(), kGrain, [&](std::size_t part, std::size_t begin, std::size_t end) {
    ObservationComparison& sum = parts[part];
    struct View {
      Tracks::Element element;
      const NamedPose* truth;
      Eigen::Vector2d pixel;
      Ray ray;
    };
    std::vector<View> views;
    for (std::size_t t = begin; t < end; ++t) {
      views.clear();
      for (const Tracks::Element& e : tracks.track(TrackIndex(t))) {
        if (!truth[e.photo.value]) continue;
        const NamedPose& pose = *truth[e.photo.value];
        const Keypoint& k = photos[e.photo.value].keypoints[e.feature.value];
        const Eigen::Vector2d pixel(k.x, k.y);
        if (const auto direction = unproject(pose.camera, pixel))
          views.push_back({e, &pose, pixel, {pose.pose, *direction}});
      }
      if (views.size() < 2) continue;
      std::vector<std::uint8_t> best(views.size(), 0);
      std::size_t most = 0;
      for (std::size_t i = 0; i < views.size(); ++i)
        for (std::size_t j = i + 1; j < views.size() && most < views.size(); ++j) {
          const Ray two[] = {views[i].ray, views[j].ray};
          const auto point = triangulate(two);
          if (!point) continue;
          std::vector<std::uint8_t> near(views.size(), 0);
          std::size_t count = 0;
          for (std::size_t k = 0; k < views.size(); ++k) {
            const auto p = project(views[k].truth->camera, views[k].ray.pose.to_camera(*point));
            near[k] = p && (*p - views[k].pixel).norm() <= max_error_px;
            count += near[k];
          }
          if (count > most) most = count, best = near;
        }
      ++sum.tracks;
      sum.wrong_tracks += most < views.size();
      for (std::size_t k = 0; k < views.size(); ++k) {
        const bool used = kept[views[k].element.photo.value][views[k].element.feature.value];
        (best[k] ? sum.right : sum.wrong) += 1;
        (best[k] ? sum.right_kept : sum.wrong_kept) += used;
      }
    }
  });
  ObservationComparison all;
  for (const ObservationComparison& p : parts) {
    all.tracks += p.tracks;
    all.wrong_tracks += p.wrong_tracks;
    all.right += p.right;
    all.right_kept += p.right_kept;
    all.wrong += p.wrong;
    all.wrong_kept += p.wrong_kept;
  }
  return all;
}

}  // namespace icefield
