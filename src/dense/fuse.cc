#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <limits>
#include <map>
#include <mutex>
#include <numbers>
#include <numeric>

#include "icefield/base/rounds.h"
#include "icefield/base/statistics.h"
#include "icefield/dense/dense.h"
#include "src/base/recently_used.h"
#include "src/dense/exposure.h"
#include "src/dense/plan_dense.h"
#include "src/dense/surface_elements.h"
#include "src/dense/surface_samples.h"
#include "src/dense/tiles.h"

namespace icefield {
namespace {

using Eigen::Vector3d;
using Eigen::Vector3f;

// A map sees past a point when even the nearest of the surface around that pixel is farther than so many of its pixels.
constexpr double kSeenPast = 4;
constexpr float kVotingCost = 0.6f;  // of max_cost: maps that vote are surer of what they see
constexpr std::size_t kStrip = 256;  // rows of a map that are merged at a time

// What a first look at a map tells.
struct Look {
  std::size_t in_view = 0;                                     // pixels that look into the bounds
  double footprint = 0;                                        // middle distance of its pixels on the surface
  std::vector<std::pair<std::uint32_t, std::uint64_t>> cells;  // ground cells with the number of its points
  std::vector<SeenColour> colours;                             // of tie points
  bool touches(const Tile& tile) const {
    return std::any_of(cells.begin(), cells.end(),
                       [&](const auto& c) { return tile.holds(static_cast<int>(c.first)); });
  }
};

// A point near the border of its tile, which tiles merged later count as theirs.
struct BorderPoint {
  std::array<float, 3> position, normal;
  float footprint, variance;
};

// What comes of one tile.
struct FusedTile {
  Cleaned cloud;
  std::vector<BorderPoint> border;
  std::vector<std::uint32_t> photos;  // that have a part in it
  std::vector<std::uint64_t> filled;  // pixels of theirs that enough maps agree on

  Bytes to_bytes() const {
    ByteWriter out;
    out.put(cloud.kept.to_bytes()).put(cloud.aside.to_bytes()).put(cloud.counts);
    return out.put(border).put(photos).put(filled).take();
  }
  static FusedTile from_bytes(std::span<const std::byte> bytes) {
    ByteReader in(bytes);
    FusedTile tile;
    tile.cloud.kept = PointCloud::from_bytes(in.get_array<std::byte>());
    tile.cloud.aside = PointCloud::from_bytes(in.get_array<std::byte>());
    tile.cloud.counts = in.get<decltype(tile.cloud.counts)>();
    tile.border = in.get_array<BorderPoint>();
    tile.photos = in.get_array<std::uint32_t>(), tile.filled = in.get_array<std::uint64_t>();
    return tile;
  }
};

// Log and cancelling alone: tiles tell of their progress by the maps that they go through.
class NoProgress : public Monitor {
 public:
  explicit NoProgress(Monitor& whole) : whole_(whole) {}
  void log(LogLevel level, const std::string& message) override { whole_.log(level, message); }
  bool cancelled() const override { return whole_.cancelled(); }

 private:
  Monitor& whole_;
};

class Fusion {
 public:
  Fusion(const Block& block, const std::vector<std::vector<std::uint32_t>>& neighbours, DepthMapStore& store,
         const Bounds& bounds, const DenseOptions& options, const Executor& executor, Monitor& monitor, PointSink& sink,
         TileStore* kept_tiles)
      : block_(block),
        neighbours_(neighbours),
        store_(store),
        bounds_(bounds),
        options_(options),
        executor_(executor),
        monitor_(monitor),
        sink_(sink),
        kept_tiles_(kept_tiles),
        cells_(bounds, block.points),
        maps_(tiles_in_work(block, options, executor) * maps_held(options),
              [this](std::uint32_t i) {
                DepthMap map = load(i);
                map.colour = {}, map.support = {};  // not asked for of neighbours
                return std::make_shared<DepthMap>(std::move(map));
              }),
        looks_(block.photos.size()),
        filled_(block.photos.size(), 0),
        view_counts_(256, 0) {
    for (const PosedPhoto& photo : block.photos) cones_.push_back(widest_angle(block.camera_of(photo)));
  }

  DenseSummary run() {
    summary_.bounds = bounds_;
    look_at_maps();
    order_maps();
    if (order_.empty()) return summary_;
    sink_.begin(spacing());
    cut();
    const auto colours = static_cast<std::size_t>(*std::max_element(colours_.begin(), colours_.end())) + 1;
    for (std::size_t colour = 0; colour < colours; ++colour) merge_tiles_of(colour);
    monitor_.progress("fuse", 1, 1);
    sum_up();
    return summary_;
  }

 private:
  // The tiles of one colour, which do not touch each other.
  class TileRound : public UnitRound {
   public:
    TileRound(Fusion& fusion, std::vector<std::size_t> tiles) : fusion_(fusion), tiles_(std::move(tiles)) {}
    std::size_t size() const override { return tiles_.size(); }
    bool is_kept(std::size_t unit) override { return fusion_.kept_tiles_ && fusion_.kept_tiles_->has(tiles_[unit]); }
    std::uint64_t memory_bytes(std::size_t unit) const override { return fusion_.unit_bytes(tiles_[unit]); }
    Bytes compute(std::size_t unit, const Executor& inner) override {
      return fusion_.merge(tiles_[unit], inner).to_bytes();
    }
    void keep(std::size_t unit, const Bytes& result) override {
      if (fusion_.kept_tiles_) fusion_.kept_tiles_->put(tiles_[unit], result);
      const std::lock_guard lock(mutex_);
      waiting_[unit] = FusedTile::from_bytes(result);
      hand_out(false);
    }
    // In the order of the tiles, as far as they are there; in the end with those that were kept from before.
    void hand_out(bool all) {
      for (; next_ < tiles_.size(); ++next_) {
        auto found = waiting_.find(next_);
        if (found == waiting_.end()) {
          if (!all && !(fusion_.kept_tiles_ && fusion_.kept_tiles_->has(tiles_[next_]))) return;
          found = waiting_.emplace(next_, fusion_.kept(tiles_[next_])).first;
        }
        fusion_.take(tiles_[next_], std::move(found->second));
        waiting_.erase(found);
      }
    }

   private:
    Fusion& fusion_;
    std::vector<std::size_t> tiles_;
    std::mutex mutex_;
    std::map<std::size_t, FusedTile> waiting_;
    std::size_t next_ = 0;
  };

  double spacing() const { return options_.spacing > 0 ? options_.spacing : footprint_; }

  DepthMap load(std::uint32_t i) const {
    auto map = store_.get(block_.photos[i].photo, options_.consistency_rounds);
    if (!map && given_) throw lost_maps();
    if (!map) throw LostMap();
    return std::move(*map);
  }

  void look_at_maps() {
    // Tie points by photo, for their colours.
    std::vector<std::vector<std::uint32_t>> points(block_.photos.size());
    for (std::size_t p = 0; p < block_.points.size(); ++p)
      for (const Observation& o : block_.of_point(p)) points[o.photo].push_back(static_cast<std::uint32_t>(p));
    std::atomic<bool> lost{false};
    executor_.run("look at depth maps", block_.photos.size(), monitor_, [&](std::size_t i) {
      if (neighbours_[i].empty()) return;
      auto kept = store_.get(block_.photos[i].photo, options_.consistency_rounds);
      if (!kept) {
        lost = true;  // the others are looked at all the same, so that all that are lost are known
        return;
      }
      const Lifted own(std::make_shared<DepthMap>(std::move(*kept)));
      const DepthMap& map = *own.map;
      Look& look = looks_[i];
      std::vector<std::uint64_t> counts(GroundCells::kSide * GroundCells::kSide, 0);
      std::vector<float> footprints;
      for (int y = 0; y < map.depth.height(); ++y)
        for (int x = 0; x < map.depth.width(); ++x) {
          const Vector3d line = own.line(x, y);
          if (!bounds_.meets(own.centre, line)) continue;
          ++look.in_view;
          if (!believed(map, x, y, options_)) continue;
          const double depth = map.depth.at(x, y);
          const Vector3d p = own.centre + depth * line;
          if (!bounds_.contains(p)) continue;
          ++counts[static_cast<std::size_t>(cells_.cell(p))];
          if (((x | y) & 7) == 0) footprints.push_back(static_cast<float>(depth / own.focal));
        }
      for (std::uint32_t c = 0; c < counts.size(); ++c)
        if (counts[c] > 0) look.cells.emplace_back(c, counts[c]);
      if (!footprints.empty()) look.footprint = median(footprints);
      if (map.colour.empty()) return;
      for (const std::uint32_t p : points[i]) {
        int u, v;
        Vector3d q;
        if (!own.pixel(block_.points[p], u, v, q)) continue;
        SeenColour seen{p, {}};
        for (int c = 0; c < 3; ++c)
          seen.colour[static_cast<std::size_t>(c)] = map.colour.at(u, v, map.colour.channels() == 3 ? c : 0);
        look.colours.push_back(seen);
      }
    });
    if (lost) throw LostMap();
    counts_.assign(GroundCells::kSide * GroundCells::kSide, 0);
    std::vector<std::vector<SeenColour>> colours;
    for (Look& look : looks_) {
      for (const auto& [cell, count] : look.cells) counts_[cell] += count;
      colours.push_back(std::move(look.colours));
    }
    factors_ = options_.level_exposure ? exposure_factors(colours, block_.points.size())
                                       : std::vector<std::array<float, 3>>(looks_.size(), {1, 1, 1});
  }

  // Finest first, in classes of a factor of the square root of 2, so that photos taken one after the other stay
  // together.
  void order_maps() {
    std::vector<float> footprints;
    for (std::uint32_t i = 0; i < looks_.size(); ++i)
      if (looks_[i].footprint > 0) order_.push_back(i), footprints.push_back(static_cast<float>(looks_[i].footprint));
    if (order_.empty()) return;
    footprint_ = median(footprints);
    std::stable_sort(order_.begin(), order_.end(), [&](std::uint32_t a, std::uint32_t b) {
      const auto size = [&](std::uint32_t i) { return std::lround(2 * std::log2(looks_[i].footprint / footprint_)); };
      return size(a) < size(b);
    });
  }

  void cut() {
    tiles_ = cut_in_tiles(counts_, options_.tile_samples);
    colours_ = colours_of(tiles_);
    summary_.tiles = tiles_.size();
    borders_.resize(tiles_.size());
    tile_of_.assign(counts_.size(), -1);
    for (std::size_t cell = 0; cell < counts_.size(); ++cell)
      for (std::size_t t = 0; t < tiles_.size(); ++t)
        if (tiles_[t].holds(static_cast<int>(cell))) tile_of_[cell] = static_cast<std::int32_t>(t);
  }

  std::uint64_t samples_in(std::size_t tile) const {
    std::uint64_t samples = 0;
    for (std::size_t cell = 0; cell < counts_.size(); ++cell)
      if (tile_of_[cell] == static_cast<std::int32_t>(tile)) samples += counts_[cell];
    return samples;
  }
  std::uint64_t unit_bytes(std::size_t tile) const {
    return static_cast<std::uint64_t>(static_cast<double>(samples_in(tile)) * kBytesPerTileSample) +
           held_map_bytes(block_, options_);
  }

  void merge_tiles_of(std::size_t colour) {
    std::vector<std::size_t> chosen;
    for (std::size_t t = 0; t < tiles_.size(); ++t)
      if (colours_[t] == static_cast<int>(colour)) chosen.push_back(t);
    NoProgress quiet(monitor_);
    TileRound round(*this, std::move(chosen));
    run_round("fuse", round, executor_, quiet);
    round.hand_out(true);
    // What no tile asks for any more.
    for (std::vector<BorderPoint>& border : borders_)
      std::erase_if(border, [&](const BorderPoint& p) { return !wanted_after(p, static_cast<int>(colour)); });
  }

  // A tile that was kept by an earlier run; merged again where it turns out damaged.
  FusedTile kept(std::size_t tile) {
    if (const auto bytes = kept_tiles_->get(tile)) try {
        return FusedTile::from_bytes(*bytes);
      } catch (const Error&) {
      }
    return merge(tile, executor_);
  }

  // Called for one tile at a time.
  void take(std::size_t tile, FusedTile fused) {
    borders_[tile] = std::move(fused.border);
    for (std::size_t k = 0; k < fused.photos.size(); ++k) filled_.at(fused.photos[k]) += fused.filled[k];
    const PointCloud& cloud = fused.cloud.kept;
    for (const std::uint16_t v : cloud.views) ++view_counts_[std::min<std::size_t>(v, 255)];
    for (std::size_t f = 1; f < kFaults; ++f) summary_.aside[f] += fused.cloud.counts[f];
    summary_.points += cloud.size();
    given_ = true;
    sink_.add(cloud);
    if (fused.cloud.aside.size() > 0) sink_.set_aside(fused.cloud.aside);
  }

  void sum_up() {
    std::size_t pixels = 0, filled = 0, sum = 0;
    for (std::size_t i = 0; i < looks_.size(); ++i) {
      if (neighbours_[i].empty()) continue;
      ++summary_.maps;
      pixels += looks_[i].in_view, filled += filled_[i];
      summary_.fill.push_back({block_.photos[i].photo,
                               looks_[i].in_view > 0
                                   ? 100.0 * static_cast<double>(filled_[i]) / static_cast<double>(looks_[i].in_view)
                                   : 0});
    }
    summary_.spacing = spacing();
    summary_.filled_percent = pixels > 0 ? 100.0 * static_cast<double>(filled) / static_cast<double>(pixels) : 0;
    for (std::size_t v = 0; v < view_counts_.size() && 2 * sum < summary_.points; ++v)
      sum += view_counts_[v], summary_.median_views = static_cast<double>(v);
    std::size_t few = 0;
    for (std::size_t v = 0; v <= std::min<std::size_t>(255, static_cast<std::size_t>(options_.min_views)); ++v)
      few += view_counts_[v];
    summary_.few_views_percent =
        summary_.points > 0 ? 100.0 * static_cast<double>(few) / static_cast<double>(summary_.points) : 0;
    summary_.outcome = fmt::format("{} points from {} depth maps", summary_.points, summary_.maps);
  }

  FusedTile merge(std::size_t index, const Executor& inner) {
    const Tile& tile = tiles_[index];
    FusedTile fused;
    std::vector<float> footprints;
    PointCloud cloud = merge_maps(index, inner, fused, footprints);
    std::vector<std::uint8_t> open(cloud.size(), 0);  // 1: what it hangs together with may be in another tile
    if (tiles_.size() > 1)
      for (std::size_t i = 0; i < cloud.size(); ++i) {
        const Vector3f &p = cloud.positions[i], &n = cloud.normals[i];
        const BorderPoint point{
            {p.x(), p.y(), p.z()}, {n.x(), n.y(), n.z()}, footprints[i], cloud.errors[i] * cloud.errors[i]};
        for (const int cell : cells_around(p, footprints[i])) open[i] |= static_cast<std::uint8_t>(!tile.holds(cell));
        if (open[i] && wanted_after(point, colours_[index])) fused.border.push_back(point);
      }
    vote(cloud, inner);
    std::vector<Fault> faults(cloud.size(), Fault::none);
    if (options_.clean) faults = find_faults(cloud, options_.cleaning, inner, open);
    fused.cloud = part(cloud, faults);
    return fused;
  }

  PointCloud merge_maps(std::size_t index, const Executor& inner, FusedTile& fused, std::vector<float>& footprints) {
    const Tile& tile = tiles_[index];
    SurfaceElements elements(static_cast<float>(spacing()));
    elements.reserve(samples_in(index) / 3);
    add_border(index, elements);
    for (std::size_t k = 0; k < order_.size(); ++k) {
      tell();
      const std::uint32_t i = order_[k];
      if (!looks_[i].touches(tile)) continue;
      Witnesses witnesses;
      witnesses.map = maps_.get(i);
      const ImageU8 colour = load(i).colour;
      witnesses.colour = &colour, witnesses.exposure = factors_[i];
      for (const std::uint32_t n : neighbours_[i])
        if (!neighbours_[n].empty()) witnesses.others.push_back(maps_.get(n));
      // In strips, which bounds what waits to be merged.
      const auto height = static_cast<std::size_t>(witnesses.map->depth.height());
      std::uint64_t filled = 0;
      for (std::size_t row = 0; row < height; row += kStrip) {
        const std::vector<SurfaceSample> samples = surface_samples(
            witnesses, row, std::min(height, row + kStrip),
            [&](const Vector3d& p) { return bounds_.contains(p) && tile.holds(cells_.cell(p)); }, footprint_, options_,
            inner);
        filled += samples.size();
        elements.add(samples, i, inner);
      }
      if (filled > 0) fused.photos.push_back(i), fused.filled.push_back(filled);
    }
    // The mean of several maps may lie just outside the bounds.
    return elements.points(footprints, [&](const Vector3f& place) { return bounds_.contains(place.cast<double>()); });
  }

  // What tiles merged before have at the border.
  void add_border(std::size_t index, SurfaceElements& elements) const {
    for (std::size_t t = 0; t < tiles_.size(); ++t) {
      if (colours_[t] >= colours_[index]) continue;
      for (const BorderPoint& p : borders_[t]) {
        const Vector3f position(p.position[0], p.position[1], p.position[2]);
        const auto around = cells_around(position, p.footprint);
        if (std::none_of(around.begin(), around.end(), [&](int cell) { return tiles_[index].holds(cell); })) continue;
        const Vector3f normal(p.normal[0], p.normal[1], p.normal[2]);
        elements.add_foreign({position, normal, p.footprint, p.variance, 0, {0, 0, 0}, 0});
      }
    }
  }

  // Whether tiles of later colours meet the point.
  bool wanted_after(const BorderPoint& p, int colour) const {
    const auto around = cells_around(Vector3f(p.position[0], p.position[1], p.position[2]), p.footprint);
    return std::any_of(around.begin(), around.end(), [&](int cell) {
      const std::int32_t tile = tile_of_[static_cast<std::size_t>(cell)];
      return tile >= 0 && colours_[static_cast<std::size_t>(tile)] > colour;
    });
  }

  // The ground cells a few footprints around a point.
  std::array<int, 4> cells_around(const Vector3f& position, float footprint) const {
    const Vector3d p = position.cast<double>();
    const double reach = 4 * static_cast<double>(footprint);
    std::array<int, 4> cells;
    for (std::size_t corner = 0; corner < 4; ++corner)
      cells[corner] =
          cells_.cell(p + bounds_.orientation * Vector3d(corner & 1 ? reach : -reach, corner & 2 ? reach : -reach, 0));
    return cells;
  }

  struct Ball {
    Vector3d centre = Vector3d::Zero();
    double radius = 0;
  };
  static Ball ball_around(const PointCloud& cloud) {
    Vector3f low = Vector3f::Constant(std::numeric_limits<float>::max()), high = -low;
    for (const Vector3f& p : cloud.positions) low = low.cwiseMin(p), high = high.cwiseMax(p);
    if (cloud.size() == 0) return {};
    return {cloud.origin + 0.5 * (low + high).cast<double>(), 0.5 * (high - low).cast<double>().norm() * (1 + 1e-6)};
  }
  // False where the ball lies beside the cone that the photo's corners span: a look at each photo for each tile must
  // cost next to nothing.
  bool may_see(std::uint32_t i, const Ball& ball) const {
    const Pose& pose = block_.photos[i].pose;
    const Vector3d p = pose.to_camera(ball.centre);
    const double distance = p.norm();
    if (distance <= ball.radius) return true;
    return std::atan2(p.head<2>().norm(), p.z()) <= cones_[i] + std::asin(ball.radius / distance);
  }
  // Between the optical axis and a place on the border of the image, the largest.
  static double widest_angle(const Camera& camera) {
    double widest = 0;
    for (int k = 0; k <= 16; ++k)
      for (const Eigen::Vector2d& pixel :
           {Eigen::Vector2d(camera.width * k / 16.0, 0), Eigen::Vector2d(camera.width * k / 16.0, camera.height),
            Eigen::Vector2d(0, camera.height * k / 16.0), Eigen::Vector2d(camera.width, camera.height * k / 16.0)}) {
        const auto direction = unproject(camera, pixel);
        if (!direction) return std::numbers::pi;
        widest = std::max(widest, std::atan(direction->norm()));
      }
    return 1.02 * widest;
  }

  // Counts, for each point, the maps that see surface behind it.
  void vote(PointCloud& cloud, const Executor& inner) {
    cloud.conflicts.assign(cloud.size(), 0);
    const Ball ball = ball_around(cloud);
    for (const std::uint32_t i : order_) {
      tell();
      if (may_see(i, ball) && looks_at(i, cloud)) vote_of(Lifted(maps_.get(i)), cloud, inner);
    }
  }

  // Does the photo look at the points at all?
  bool looks_at(std::uint32_t i, const PointCloud& cloud) const {
    const PosedPhoto& photo = block_.photos[i];
    const Camera& camera = block_.camera_of(photo);
    for (std::size_t k = 0; k < cloud.size(); k += 61) {
      const auto pixel = project(camera, photo.pose.to_camera(cloud.position(k)));
      if (pixel && pixel->x() >= 0 && pixel->y() >= 0 && pixel->x() <= camera.width && pixel->y() <= camera.height)
        return true;
    }
    return false;
  }

  void vote_of(const Lifted& own, PointCloud& cloud, const Executor& inner) const {
    const DepthMap& map = *own.map;
    inner.blocks(cloud.size(), 4096, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t i = begin; i < end; ++i) {
        int u, v;
        Vector3d q;
        if (!own.pixel(cloud.position(i), u, v, q) || u < 1 || v < 1 || u + 1 >= map.depth.width() ||
            v + 1 >= map.depth.height())
          continue;
        float nearest = map.depth.at(u, v);
        if (!(nearest > q.z())) continue;
        bool sure = true;
        for (int y = v - 1; y <= v + 1 && sure; ++y)
          for (int x = u - 1; x <= u + 1; ++x) {
            sure = sure && map.depth.at(x, y) > 0 && map.cost_at(x, y) <= kVotingCost * options_.max_cost;
            nearest = std::min(nearest, map.depth.at(x, y));
          }
        if (sure && nearest - q.z() > kSeenPast * nearest / own.focal) ++cloud.conflicts[i];
      }
    });
  }

  // One more map of one tile, of those that are gone through twice in each.
  void tell() {
    monitor_.check();
    const std::size_t done = looked_at_.fetch_add(1);
    monitor_.progress("fuse", done, std::max(done + 1, 2 * tiles_.size() * order_.size()));
  }

  const Block& block_;
  const std::vector<std::vector<std::uint32_t>>& neighbours_;
  DepthMapStore& store_;
  const Bounds& bounds_;
  const DenseOptions& options_;
  const Executor& executor_;
  Monitor& monitor_;
  PointSink& sink_;
  TileStore* kept_tiles_;
  GroundCells cells_;
  RecentlyUsed<std::uint32_t, DepthMap> maps_;  // without their colours
  std::vector<Look> looks_;
  std::vector<double> cones_;                  // by photo
  std::vector<std::uint64_t> filled_;          // by photo: pixels that enough maps agree on
  std::vector<std::uint64_t> counts_;          // by ground cell
  std::vector<std::array<float, 3>> factors_;  // by photo
  std::vector<std::uint32_t> order_;
  double footprint_ = 0;
  std::vector<Tile> tiles_;
  std::vector<int> colours_;                       // by tile
  std::vector<std::int32_t> tile_of_;              // by ground cell; -1: none
  std::vector<std::vector<BorderPoint>> borders_;  // by tile, as far as later colours ask for them
  std::vector<std::size_t> view_counts_;
  DenseSummary summary_;
  std::atomic<std::size_t> looked_at_{0};
  std::atomic<bool> given_{false};  // the sink has got something
};

}  // namespace

DenseSummary fuse_maps(const Block& block, const std::vector<std::vector<std::uint32_t>>& neighbours,
                       DepthMapStore& store, const Bounds& bounds, const DenseOptions& options,
                       const Executor& executor, Monitor& monitor, PointSink& sink, TileStore* tiles) {
  return Fusion(block, neighbours, store, bounds, options, executor, monitor, sink, tiles).run();
}

DenseSummary fuse(const Block& block, const std::vector<std::vector<std::uint32_t>>& neighbours, DepthMapStore& store,
                  const Bounds& bounds, const DenseOptions& options, const Executor& executor, Monitor& monitor,
                  PointSink& sink, TileStore* tiles) {
  try {
    return fuse_maps(block, neighbours, store, bounds, options, executor, monitor, sink, tiles);
  } catch (const LostMap&) {
    throw lost_maps();
  }
}

}  // namespace icefield
