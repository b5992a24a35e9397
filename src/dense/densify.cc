#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "icefield/base/random.h"
#include "icefield/base/rounds.h"
#include "icefield/dense/dense.h"
#include "src/dense/plan_dense.h"
#include "src/base/recently_used.h"

namespace icefield {

DenseJob plan_views(const Block& block, const Bounds& bounds, const DenseOptions& options,
                    std::span<const double> sharpness, const Executor& executor) {
  DenseJob job;
  job.bounds = bounds;
  job.views = choose_views(block, bounds, options, sharpness, executor);
  for (const MatchViews& views : job.views) job.neighbours.push_back(views.photos);
  for (const auto& list : job.neighbours) job.with_neighbours += !list.empty();
  job.repeated.assign(block.photos.size(), 0);
  if (options.skip_repeats) {
    const auto repeated = repeated_photos(block, bounds, sharpness);
    for (std::size_t i = 0; i < repeated.size(); ++i)
      if (repeated[i] && !job.neighbours[i].empty()) job.neighbours[i].clear(), job.repeated[i] = 1;
  }
  return job;
}

DenseJob plan_dense(const Block& block, const std::optional<Bounds>& bounds, const DenseOptions& options,
                    const PhotoSource* photos, const Executor& executor) {
  if (block.points.empty())
    throw Error(ErrorKind::computation, "block", "has no tie points", "run `icefield pose` again");
  const Bounds box = bounds ? *bounds : automatic_bounds(block);
  if (!holds_points(box, block))
    throw Error(ErrorKind::computation, "bounds", "contain no tie point of the block",
                "check their centre and size, or leave them out");
  std::vector<double> sharpness;
  if (photos)
    for (const PosedPhoto& photo : block.photos) sharpness.push_back(photos->sharpness(photo.photo));
  DenseJob job = plan_views(block, box, options, sharpness, executor);
  if (job.with_neighbours == 0)
    throw Error(ErrorKind::computation, "block",
                fmt::format("no photo shares {} tie points with another at {:.1f} to {:.0f} degrees",
                            options.min_shared_points, options.min_angle_deg, options.max_angle_deg),
                "take photos closer together, or lower dense.min_shared_points");
  return job;
}

double largest_view_pixels(const Block& block, const DenseOptions& options) {
  double largest = 0;
  for (const PosedPhoto& photo : block.photos)
    largest = std::max(largest, static_cast<double>(block.camera_of(photo).width) * block.camera_of(photo).height);
  return largest / (options.shrink * options.shrink);
}

std::uint64_t map_unit_bytes(const Block& block, const DenseOptions& options) {
  double largest_photo = 0;
  for (const PosedPhoto& photo : block.photos)
    largest_photo =
        std::max(largest_photo, static_cast<double>(block.camera_of(photo).width) * block.camera_of(photo).height);
  const double pixels = largest_view_pixels(block, options), views = options.max_neighbours + 1.0;
  // Views, depths of neighbours, the quads and planes of the map itself, and a photo being read.
  return static_cast<std::uint64_t>(pixels * (kBytesPerViewPixel * views + 4 * views + 4 * views * 1.25 + 30 * 1.25) +
                                    6 * largest_photo);
}

std::size_t maps_in_work(const Block& block, const DenseOptions& options, const Executor& executor) {
  const std::uint64_t fitting = executor.memory_bytes() / std::max<std::uint64_t>(1, map_unit_bytes(block, options));
  return std::clamp<std::size_t>(fitting, 1, static_cast<std::size_t>(executor.threads()));
}

std::uint64_t held_map_bytes(const Block& block, const DenseOptions& options) {
  const double largest = largest_view_pixels(block, options);
  return static_cast<std::uint64_t>(
      largest * (static_cast<double>(maps_held(options)) * kBytesPerHeldPixel + 2 * kBytesPerWholePixel));
}

std::size_t tiles_in_work(const Block& block, const DenseOptions& options, const Executor& executor) {
  const double tile = static_cast<double>(options.tile_samples) * kBytesPerTileSample +
                      static_cast<double>(held_map_bytes(block, options));
  const auto fitting = static_cast<std::size_t>(static_cast<double>(executor.memory_bytes()) / tile);
  return std::clamp<std::size_t>(fitting, 1, static_cast<std::size_t>(executor.threads()));
}

// Views take long to come by (a photo to decode), so that twice as many are held as take part, while they are small.
std::size_t views_held(double pixels, const DenseOptions& options, std::size_t units) {
  constexpr double kRoom = 400e6;
  const std::size_t least = maps_held(options) + 2 * (units - 1);  // maps in work at a time share most of their views
  return std::clamp(static_cast<std::size_t>(kRoom / std::max(1.0, kBytesPerViewPixel * pixels)), least, 2 * least);
}

namespace {

// What all rounds of maps share.
struct MapWork {
  const Block& block;
  PhotoSource& photos;
  DepthMapStore& store;
  const DenseJob& job;
  const DenseOptions& options;
  std::vector<std::vector<Eigen::Vector3d>> sparse;  // tie points by photo, in the camera frame
  RecentlyUsed<std::uint32_t, DenseView> views;

  MapWork(const Block& b, PhotoSource& p, DepthMapStore& s, const DenseJob& j, const DenseOptions& o, std::size_t held)
      : block(b),
        photos(p),
        store(s),
        job(j),
        options(o),
        sparse(b.photos.size()),
        views(held, [this](std::uint32_t i) {
          const PosedPhoto& photo = block.photos[i];
          return std::make_shared<DenseView>(undistort(photos.load(photo.photo), block.camera_of(photo), photo.pose,
                                                       options.shrink, photos.mask(photo.photo)));
        }) {
    for (std::size_t i = 0; i < block.points.size(); ++i)
      for (const Observation& seen : block.of_point(i))
        sparse[seen.photo].push_back(block.photos[seen.photo].pose.to_camera(block.points[i]));
  }
};

// The maps of one round.
class MapRound : public UnitRound {
 public:
  MapRound(MapWork& work, int round, std::vector<std::uint8_t> wanted, std::size_t units)
      : work_(work),
        round_(round),
        wanted_(std::move(wanted)),
        maps_(units * maps_held(work.options), [this](std::uint32_t i) {
          // Of neighbours only the depths are asked for.
          DepthMap map = before(i);
          map.normal = {}, map.cost = {}, map.support = {}, map.colour = {};
          return std::make_shared<DepthMap>(std::move(map));
        }) {}
  std::size_t size() const override { return work_.block.photos.size(); }
  bool is_kept(std::size_t i) override { return !wanted_[i] || work_.store.has(photo(i), round_); }
  std::uint64_t memory_bytes(std::size_t) const override { return map_unit_bytes(work_.block, work_.options); }
  void look_ahead(std::size_t i) override {
    work_.views.get(static_cast<std::uint32_t>(i));
    for (const std::uint32_t n : work_.job.neighbours[i]) work_.views.get(n);
  }
  Bytes compute(std::size_t i, const Executor& inner) override {
    const std::vector<std::uint32_t>& neighbours = work_.job.neighbours[i];
    std::vector<std::shared_ptr<const DenseView>> held;
    std::vector<const DenseView*> others;
    std::vector<std::shared_ptr<const DepthMap>> held_maps;
    std::vector<const DepthMap*> other_maps;
    for (const std::uint32_t n : neighbours) {
      held.push_back(work_.views.get(n));
      others.push_back(held.back().get());
      if (round_ == 0) continue;
      held_maps.push_back(work_.job.neighbours[n].empty() ? nullptr : maps_.get(n));
      other_maps.push_back(held_maps.back().get());
    }
    const auto index = static_cast<std::uint32_t>(i);
    const auto reference = work_.views.get(index);
    std::optional<DepthMap> start;
    if (round_ > 0) start = before(index);
    DepthMap map = match_depth(*reference, others, work_.sparse[i], start ? &*start : nullptr, other_maps,
                               work_.options, combine_keys(photo(i).value, static_cast<std::uint64_t>(round_)), inner,
                               work_.job.bounds, &work_.job.views[i]);
    if (round_ == work_.options.consistency_rounds) map.colour = reference->colour;
    return map.to_bytes();
  }
  void keep(std::size_t i, const Bytes& result) override {
    work_.store.put(photo(i), round_, DepthMap::from_bytes(result));
  }

 private:
  PhotoIndex photo(std::size_t i) const { return work_.block.photos[i].photo; }
  DepthMap before(std::uint32_t i) {
    auto map = work_.store.get(photo(i), round_ - 1);
    if (!map) throw LostMap();
    return std::move(*map);
  }
  MapWork& work_;
  int round_;
  std::vector<std::uint8_t> wanted_;  // by photo of the block
  RecentlyUsed<std::uint32_t, DepthMap> maps_;
};

// By round and photo: maps of the last round, and of earlier ones those that missing maps are made from.
std::vector<std::vector<std::uint8_t>> wanted_maps(const MapWork& work) {
  const auto rounds = static_cast<std::size_t>(work.options.consistency_rounds) + 1;
  const auto& neighbours = work.job.neighbours;
  std::vector<std::vector<std::uint8_t>> wanted(rounds, std::vector<std::uint8_t>(neighbours.size(), 0));
  for (std::size_t i = 0; i < neighbours.size(); ++i) wanted.back()[i] = !neighbours[i].empty();
  for (std::size_t round = rounds - 1; round > 0; --round)
    for (std::size_t i = 0; i < neighbours.size(); ++i) {
      if (!wanted[round][i] || work.store.has(work.block.photos[i].photo, static_cast<int>(round))) continue;
      wanted[round - 1][i] = 1;
      for (const std::uint32_t n : neighbours[i]) wanted[round - 1][n] = !neighbours[n].empty();
    }
  return wanted;
}

// From maps to the cloud. The store drops a map that it cannot read: that is made again.
DenseSummary make_maps_and_fuse(MapWork& work, std::size_t units, const Executor& executor, Monitor& monitor,
                                PointSink& sink, TileStore* tiles) {
  const std::size_t tries = work.block.photos.size() + 2;  // each drops one at least
  for (std::size_t attempt = 1;; ++attempt) {
    try {
      const auto wanted = wanted_maps(work);
      for (int round = 0; round <= work.options.consistency_rounds; ++round) {
        MapRound maps(work, round, wanted[static_cast<std::size_t>(round)], units);
        run_round(round == 0 ? "depth maps" : "depth maps agree", maps, executor, monitor);
      }
      work.views.clear();
      return fuse_maps(work.block, work.job.neighbours, work.store, work.job.bounds, work.options, executor, monitor,
                       sink, tiles);
    } catch (const LostMap&) {
      if (attempt == tries) throw lost_maps();
    }
  }
}

}  // namespace

DenseSummary densify(const Block& block, PhotoSource& photos, DepthMapStore& store, const std::optional<Bounds>& bounds,
                     const DenseOptions& options, const Executor& executor, Monitor& monitor, PointSink& sink,
                     TileStore* tiles) {
  const DenseJob job = plan_dense(block, bounds, options, &photos, executor);
  const std::size_t units = maps_in_work(block, options, executor);
  MapWork work(block, photos, store, job, options, views_held(largest_view_pixels(block, options), options, units));
  DenseSummary summary = make_maps_and_fuse(work, units, executor, monitor, sink, tiles);
  summary.photos_without_neighbours = block.photos.size() - job.with_neighbours;
  summary.photos_repeated = job.repeated_count();
  for (const PhotoCoverage& photo : coverage_of_photos(block, job, options, executor))
    summary.parts.push_back({photo.photo, photo.parts, photo.main_reason()});
  return summary;
}

DenseResult densify(const Block& block, PhotoSource& photos, DepthMapStore& store, const std::optional<Bounds>& bounds,
                    const DenseOptions& options, const Executor& executor, Monitor& monitor) {
  struct InMemory : PointSink {
    DenseResult result;
    void add(const PointCloud& part) override { result.cloud.append(part); }
    void set_aside(const PointCloud& part) override { result.aside.append(part); }
  } sink;
  sink.result.summary = densify(block, photos, store, bounds, options, executor, monitor, sink);
  return std::move(sink.result);
}

}  // namespace icefield
