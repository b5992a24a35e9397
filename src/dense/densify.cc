#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "icefield/base/random.h"
#include "icefield/dense/dense.h"
#include "src/dense/plan_dense.h"
#include "src/dense/view_cache.h"

namespace icefield {

DenseJob plan_dense(const Block& block, const std::optional<Bounds>& bounds, const DenseOptions& options,
                    const PhotoSource* photos) {
  if (block.points.empty())
    throw Error(ErrorKind::computation, "block", "has no tie points", "run `icefield pose` again");
  DenseJob job;
  job.bounds = bounds ? *bounds : automatic_bounds(block);
  if (!holds_points(job.bounds, block))
    throw Error(ErrorKind::computation, "bounds", "contain no tie point of the block",
                "check their centre and size, or leave them out");
  std::vector<double> sharpness;
  if (photos)
    for (const PosedPhoto& photo : block.photos) sharpness.push_back(photos->sharpness(photo.photo));
  job.neighbours = choose_neighbours(block, job.bounds, options, sharpness);
  for (const auto& list : job.neighbours) job.with_neighbours += !list.empty();
  if (job.with_neighbours == 0)
    throw Error(ErrorKind::computation, "block",
                fmt::format("no photo shares {} tie points with another at {:.1f} to {:.0f} degrees",
                            options.min_shared_points, options.min_angle_deg, options.max_angle_deg),
                "take photos closer together, or lower dense.min_shared_points");
  if (options.skip_repeats) {
    const auto repeated = repeated_photos(block, job.bounds, sharpness);
    for (std::size_t i = 0; i < repeated.size(); ++i)
      if (repeated[i] && !job.neighbours[i].empty()) job.neighbours[i].clear(), ++job.repeated;
  }
  return job;
}

double largest_view_pixels(const Block& block, const DenseOptions& options) {
  double largest = 0;
  for (const PosedPhoto& photo : block.photos)
    largest = std::max(largest, static_cast<double>(block.camera_of(photo).width) * block.camera_of(photo).height);
  return largest / (options.shrink * options.shrink);
}

// Views take long to come by (a photo to decode), so that twice as many are held as take part, while they are small.
std::size_t views_held(double pixels, const DenseOptions& options) {
  constexpr double kRoom = 400e6;
  const std::size_t least = maps_held(options);
  return std::clamp(static_cast<std::size_t>(kRoom / std::max(1.0, kBytesPerViewPixel * pixels)), least, 2 * least);
}

DenseSummary densify(const Block& block, PhotoSource& photos, DepthMapStore& store, const std::optional<Bounds>& bounds,
                     const DenseOptions& options, const Executor& executor, Monitor& monitor, PointSink& sink) {
  const DenseJob job = plan_dense(block, bounds, options, &photos);
  const Bounds& box = job.bounds;
  const auto& neighbours = job.neighbours;
  std::vector<std::vector<Eigen::Vector3d>> sparse(block.photos.size());  // in the camera frame
  for (std::size_t i = 0; i < block.points.size(); ++i)
    for (const Observation& o : block.of_point(i))
      sparse[o.photo].push_back(block.photos[o.photo].pose.to_camera(block.points[i]));

  RecentlyUsed<DenseView> views(views_held(largest_view_pixels(block, options), options), [&](std::uint32_t i) {
    const PosedPhoto& photo = block.photos[i];
    return std::make_shared<DenseView>(undistort(photos.load(photo.photo), block.camera_of(photo), photo.pose,
                                                 options.shrink, photos.mask(photo.photo)));
  });
  for (int round = 0; round <= options.consistency_rounds; ++round) {
    const auto map_before = [&](std::uint32_t i) {
      auto map = store.get(block.photos[i].photo, round - 1);
      if (!map)
        throw Error(ErrorKind::resource, "depth maps", "were removed while in use", "run the same command again");
      return std::move(*map);
    };
    // Of neighbours only the depths are asked for.
    RecentlyUsed<DepthMap> maps(maps_held(options), [&](std::uint32_t i) {
      DepthMap map = map_before(i);
      map.normal = {}, map.cost = {}, map.support = {}, map.colour = {};
      return std::make_shared<DepthMap>(std::move(map));
    });
    const std::string what = round == 0 ? "depth maps" : "depth maps agree";
    for (std::size_t i = 0; i < block.photos.size(); ++i) {
      monitor.check();
      monitor.progress(what, i, block.photos.size());
      const PhotoIndex photo = block.photos[i].photo;
      if (neighbours[i].empty() || store.get(photo, round)) continue;
      std::vector<std::shared_ptr<const DenseView>> held;
      std::vector<const DenseView*> others;
      std::vector<std::shared_ptr<const DepthMap>> held_maps;
      std::vector<const DepthMap*> other_maps;
      for (const std::uint32_t n : neighbours[i]) {
        held.push_back(views.get(n));
        others.push_back(held.back().get());
        if (round > 0) {
          held_maps.push_back(neighbours[n].empty() ? nullptr : maps.get(n));
          other_maps.push_back(held_maps.back().get());
        }
      }
      const auto reference = views.get(static_cast<std::uint32_t>(i));
      std::optional<DepthMap> start;
      if (round > 0) start = map_before(static_cast<std::uint32_t>(i));
      DepthMap map = match_depth(*reference, others, sparse[i], start ? &*start : nullptr, other_maps, options,
                                 combine_keys(photo.value, round), executor, box);
      if (round == options.consistency_rounds) map.colour = reference->colour;
      store.put(photo, round, map);
    }
    monitor.progress(what, block.photos.size(), block.photos.size());
  }
  DenseSummary summary = fuse(block, neighbours, store, box, options, executor, monitor, sink);
  summary.photos_without_neighbours = block.photos.size() - job.with_neighbours;
  summary.photos_repeated = job.repeated;
  return summary;
}

DenseResult densify(const Block& block, PhotoSource& photos, DepthMapStore& store, const std::optional<Bounds>& bounds,
                    const DenseOptions& options, const Executor& executor, Monitor& monitor) {
  struct InMemory : PointSink {
    DenseResult result;
    void add(const PointCloud& part) override { join(result.cloud, part); }
    void set_aside(const PointCloud& part) override { join(result.aside, part); }
    static void join(PointCloud& all, const PointCloud& part) {
      all.origin = part.origin;
      for (std::size_t i = 0; i < part.size(); ++i) all.append(part, i);
    }
  } sink;
  sink.result.summary = densify(block, photos, store, bounds, options, executor, monitor, sink);
  return std::move(sink.result);
}

}  // namespace icefield
