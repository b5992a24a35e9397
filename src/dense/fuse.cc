#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <limits>
#include <numbers>
#include <numeric>

#include "icefield/base/statistics.h"
#include "icefield/dense/dense.h"
#include "src/dense/exposure.h"
#include "src/dense/plan_dense.h"
#include "src/dense/surface_elements.h"
#include "src/dense/tiles.h"
#include "src/base/recently_used.h"

namespace icefield {
namespace {

using Eigen::Vector3d;
using Eigen::Vector3f;

// Of a place found in a neighbour, px of the depth map, one standard deviation; and what patches smooth away, in
// footprints. With them the expected errors are about those that simulated scenes show (docs/benchmarks.md).
constexpr double kPlaceSigma = 0.12, kSmoothed = 0.15;
// A map sees past a point when even the nearest of the surface around that pixel is farther than so many of its pixels.
constexpr double kSeenPast = 4;
constexpr float kVotingCost = 0.6f;     // of max_cost: maps that vote are surer of what they see
constexpr std::size_t kStrip = 256;     // rows of a map that are merged at a time
constexpr double kThinTolerance = 0.5;  // of the distances, where only two photos see thin detail
constexpr float kThinCost = 0.75f;      // of max_cost

Vector3f normal_at(const DepthMap& map, int x, int y) {
  return Vector3f(map.normal.at(x, y, 0), map.normal.at(x, y, 1), map.normal.at(x, y, 2)).normalized();
}

// A map with what is needed to go from its pixels into the world and back, pixel middles at integers.
struct Lifted {
  std::shared_ptr<const DepthMap> map;
  Eigen::Matrix3d to_world, to_camera;
  Vector3d centre;
  double focal, cx, cy;

  explicit Lifted(std::shared_ptr<const DepthMap> m) : map(std::move(m)) {
    to_camera = map->pose.rotation();
    to_world = to_camera.transpose();
    centre = map->pose.centre;
    focal = map->camera.focal();
    cx = map->camera.principal_point().x() - 0.5;
    cy = map->camera.principal_point().y() - 0.5;
  }
  Vector3d line(double x, double y) const { return to_world * Vector3d((x - cx) / focal, (y - cy) / focal, 1); }
  Vector3f sight(int x, int y) const {
    return Vector3d((x - cx) / focal, (y - cy) / focal, 1).cast<float>();
  }  // in the camera frame
  // The pixel that a point falls on, and its depth; false behind the photo or outside.
  bool pixel(const Vector3d& p, int& u, int& v, Vector3d& q) const {
    q = to_camera * (p - centre);
    if (!(q.z() > 0)) return false;
    const double x = q.x() / q.z() * focal + cx, y = q.y() / q.z() * focal + cy;
    if (!(x > -0.5 && y > -0.5 && x < map->depth.width() - 0.5 && y < map->depth.height() - 0.5)) return false;
    u = static_cast<int>(std::lround(x)), v = static_cast<int>(std::lround(y));
    return true;
  }
};

// A map as seen from the camera of another: all within a few depths, so that single precision is good for a thousandth
// of a pixel.
struct Beside {
  std::shared_ptr<const DepthMap> map;
  Eigen::Matrix3f turn, back;  // from the other's camera frame to this one's, and the other way
  Eigen::Vector3f shift;
  float focal, cx, cy, right, bottom;

  Beside(std::shared_ptr<const DepthMap> m, const Lifted& from) : map(std::move(m)) {
    const Lifted own(map);
    turn = (own.to_camera * from.to_world).cast<float>();
    back = turn.transpose();
    shift = (own.to_camera * (from.centre - own.centre)).cast<float>();
    focal = static_cast<float>(own.focal), cx = static_cast<float>(own.cx), cy = static_cast<float>(own.cy);
    right = static_cast<float>(map->depth.width()), bottom = static_cast<float>(map->depth.height());
  }
  // The pixel on which a place falls that is given in this map's camera frame.
  bool pixel(const Vector3f& q, int& u, int& v) const {
    if (!(q.z() > 0)) return false;
    const float scale = focal / q.z(), x = q.x() * scale + cx + 0.5f, y = q.y() * scale + cy + 0.5f;
    if (!(x > 0 && y > 0 && x < right && y < bottom)) return false;
    u = static_cast<int>(x), v = static_cast<int>(y);
    return true;
  }
};

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

class Fusion {
 public:
  Fusion(const Block& block, const std::vector<std::vector<std::uint32_t>>& neighbours, DepthMapStore& store,
         const Bounds& bounds, const DenseOptions& options, const Executor& executor, Monitor& monitor)
      : block_(block),
        neighbours_(neighbours),
        store_(store),
        bounds_(bounds),
        options_(options),
        executor_(executor),
        monitor_(monitor),
        cells_(bounds, block.points),
        maps_(maps_held(options),
              [this](std::uint32_t i) {
                DepthMap map = load(i);
                if (i == in_work_) colour_ = std::move(map.colour);
                map.colour = {}, map.support = {};  // not asked for of neighbours
                return std::make_shared<DepthMap>(std::move(map));
              }),
        looks_(block.photos.size()),
        filled_(block.photos.size(), 0) {}

  DenseSummary run(PointSink& sink) {
    DenseSummary summary;
    summary.bounds = bounds_;
    look_at_maps();
    order_maps();
    if (order_.empty()) return summary;
    const std::vector<Tile> tiles = cut_in_tiles(counts_, options_.tile_samples);
    summary.tiles = tiles.size();
    pending_.assign(counts_.size(), 0);
    for (std::size_t cell = 0; cell < counts_.size(); ++cell)
      pending_[cell] =
          std::any_of(tiles.begin(), tiles.end(), [&](const Tile& tile) { return tile.holds(static_cast<int>(cell)); });
    std::vector<std::size_t> view_counts(256, 0);
    for (std::size_t t = 0; t < tiles.size(); ++t) {
      PointCloud cloud = merge(tiles[t], t, tiles.size());
      vote(cloud, t, tiles.size());
      std::vector<Fault> faults(cloud.size(), Fault::none);
      if (options_.clean) faults = find_faults(cloud, options_.cleaning, executor_, open_);
      Cleaned cleaned = part(cloud, faults);
      for (const std::uint16_t v : cleaned.kept.views) ++view_counts[std::min<std::size_t>(v, 255)];
      for (std::size_t f = 1; f < kFaults; ++f) summary.aside[f] += cleaned.counts[f];
      summary.points += cleaned.kept.size();
      given_ = true;
      sink.add(cleaned.kept);
      if (cleaned.aside.size() > 0) sink.set_aside(cleaned.aside);
    }
    monitor_.progress("fuse", 1, 1);
    std::size_t pixels = 0, filled = 0, sum = 0;
    for (std::size_t i = 0; i < looks_.size(); ++i) {
      if (neighbours_[i].empty()) continue;
      ++summary.maps;
      pixels += looks_[i].in_view, filled += filled_[i];
      summary.fill.push_back({block_.photos[i].photo, looks_[i].in_view > 0 ? 100.0 * static_cast<double>(filled_[i]) /
                                                                                  static_cast<double>(looks_[i].in_view)
                                                                            : 0});
    }
    summary.spacing = options_.spacing > 0 ? options_.spacing : footprint_;
    summary.filled_percent = pixels > 0 ? 100.0 * static_cast<double>(filled) / static_cast<double>(pixels) : 0;
    for (std::size_t v = 0; v < view_counts.size() && 2 * sum < summary.points; ++v)
      sum += view_counts[v], summary.median_views = static_cast<double>(v);
    std::size_t few = 0;
    for (std::size_t v = 0; v <= std::min<std::size_t>(255, static_cast<std::size_t>(options_.min_views)); ++v)
      few += view_counts[v];
    summary.few_views_percent =
        summary.points > 0 ? 100.0 * static_cast<double>(few) / static_cast<double>(summary.points) : 0;
    summary.outcome = fmt::format("{} points from {} depth maps", summary.points, summary.maps);
    return summary;
  }

 private:
  DepthMap load(std::uint32_t i) const {
    auto map = store_.get(block_.photos[i].photo, options_.consistency_rounds);
    if (!map && given_) throw lost_maps();
    if (!map) throw LostMap();
    return std::move(*map);
  }

  // The map's photo, of which only the one in work is held.
  void take_colour(std::uint32_t i) {
    in_work_ = i;
    colour_ = {};
    maps_.get(i);
    if (colour_.empty()) colour_ = load(i).colour;  // the map was there already
  }

  bool believed(const DepthMap& map, int x, int y) const {
    return map.depth.at(x, y) > 0 && map.cost_at(x, y) <= options_.max_cost;
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
          if (!believed(map, x, y)) continue;
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

  // The samples of some rows of a map within a tile that enough others agree on.
  std::vector<SurfaceSample> samples_of(std::uint32_t i, const Tile& tile, std::size_t first_row,
                                        std::size_t last_row) {
    const Lifted own(maps_.get(i));
    std::vector<Beside> others;
    for (const std::uint32_t n : neighbours_[i])
      if (!neighbours_[n].empty()) others.emplace_back(maps_.get(n), own);
    const int width = own.map->depth.width();
    const auto max_distance = static_cast<float>(options_.return_px + 0.5),
               max_depth = static_cast<float>(0.01 * options_.depth_gap_percent);
    const auto min_cosine = static_cast<float>(std::cos(options_.facing_gap_deg * std::numbers::pi / 180));
    const auto thin_tolerance = static_cast<float>(kThinTolerance), focal = static_cast<float>(own.focal);
    const Eigen::Matrix3f own_to_world = own.to_world.cast<float>();
    const ImageU8& colour = colour_;
    struct Part {
      std::vector<SurfaceSample> samples;
    };
    constexpr std::size_t kRows = 8;
    std::vector<Part> parts(block_count(last_row - first_row, kRows));
    executor_.blocks(last_row - first_row, kRows, [&](std::size_t index, std::size_t begin, std::size_t end) {
      Part& part = parts[index];
      // In squares, so that what is near on the surface stays near in memory.
      const std::size_t rows = end - begin, columns = static_cast<std::size_t>(width);
      for (std::size_t square = 0; square < columns; square += kRows)
        for (std::size_t k = 0, across = std::min(kRows, columns - square); k < rows * across; ++k) {
          const int x = static_cast<int>(square + k % across), y = static_cast<int>(first_row + begin + k / across);
          if (!believed(*own.map, x, y)) continue;
          const double depth = own.map->depth.at(x, y);
          const Vector3d line = own.line(x, y), p = own.centre + depth * line;
          if (!bounds_.contains(p) || !tile.holds(cells_.cell(p))) continue;
          // In the camera frame.
          const auto z = static_cast<float>(depth);
          const Vector3f sight = own.sight(x, y), n = normal_at(*own.map, x, y);
          const float sight_length = sight.norm();
          Vector3f normal = n;
          float sum = z, information = 0;
          int agree = 1, agree_closely = 1;
          for (const Beside& other : others) {
            int u, v;
            const Vector3f along = other.turn * sight, q = z * along + other.shift;
            if (!other.pixel(q, u, v) || !believed(*other.map, u, v)) continue;
            const float there = other.map->depth.at(u, v);
            if (std::abs(there - q.z()) > max_depth * q.z()) continue;
            const float inverse = 1 / other.focal;
            const Vector3f met(there * (static_cast<float>(u) - other.cx) * inverse,
                               there * (static_cast<float>(v) - other.cy) * inverse, there);
            const Vector3f r = other.back * (met - other.shift);
            const float dx = (r.x() / r.z() - sight.x()) * focal, dy = (r.y() / r.z() - sight.y()) * focal,
                        distance2 = dx * dx + dy * dy;
            if (!(distance2 <= max_distance * max_distance)) continue;
            const Vector3f other_normal = other.back * normal_at(*other.map, u, v);
            if (n.dot(other_normal) < min_cosine) continue;
            ++agree;
            agree_closely += distance2 <= thin_tolerance * thin_tolerance * max_distance * max_distance &&
                             std::abs(there - q.z()) <= thin_tolerance * max_depth * q.z();
            // What the other map says of this very spot: its plane met by this line of sight. Averaging the
            // neighbouring pixel's own point would shift the spot along the surface.
            const float facing = other_normal.dot(sight);
            sum += std::abs(facing) > 0.1f * sight_length ? other_normal.dot(r) / facing : z;
            normal += other_normal;
            // How the place in the other photo moves with the depth.
            const float scale = other.focal / (q.z() * q.z());
            const float mx = scale * (along.x() * q.z() - q.x() * along.z()),
                        my = scale * (along.y() * q.z() - q.y() * along.z());
            information += mx * mx + my * my;
          }
          const bool thin =
              options_.keep_thin && agree_closely >= 2 && own.map->cost_at(x, y) <= kThinCost * options_.max_cost;
          if ((agree < options_.min_views && !thin) || !(information > 0)) continue;
          normal.normalize();
          const double cosine = std::abs(normal.dot(sight));
          SurfaceSample s;
          s.position = (own.centre + static_cast<double>(sum) / agree * line).cast<float>();
          s.normal = own_to_world * normal;
          s.footprint = static_cast<float>(options_.spacing > 0 ? options_.spacing : depth / own.focal);
          s.variance = static_cast<float>(kPlaceSigma * kPlaceSigma * cosine * cosine / information +
                                          std::pow(kSmoothed * depth / own.focal, 2));
          // The best views are those from near at a right angle.
          const double weight = cosine / sight_length * own.focal / depth * footprint_;
          s.colour_weight = static_cast<float>(weight * weight * weight * weight);
          for (std::size_t c = 0; c < 3; ++c)
            s.colour[c] = colour.empty()
                              ? 128.0f
                              : static_cast<float>(colour.at(x, y, colour.channels() == 3 ? static_cast<int>(c) : 0)) *
                                    factors_[i][c];
          s.views = static_cast<std::uint16_t>(agree);
          part.samples.push_back(s);
        }
    });
    std::vector<SurfaceSample> samples;
    for (Part& part : parts) {
      samples.insert(samples.end(), part.samples.begin(), part.samples.end());
      part.samples = {};
    }
    return samples;
  }

  PointCloud merge(const Tile& tile, std::size_t index, std::size_t count) {
    SurfaceElements elements(static_cast<float>(options_.spacing > 0 ? options_.spacing : footprint_));
    std::uint64_t expected = 0;
    for (int cell = 0; cell < static_cast<int>(counts_.size()); ++cell)
      if (tile.holds(cell))
        expected += counts_[static_cast<std::size_t>(cell)], pending_[static_cast<std::size_t>(cell)] = 0;
    elements.reserve(expected / 3);
    for (const SurfaceSample& s : border_) {
      const auto around = cells_around(s.position, s.footprint);
      if (std::any_of(around.begin(), around.end(), [&](int cell) { return tile.holds(cell); }))
        elements.add_foreign(s);
    }
    for (std::size_t k = 0; k < order_.size(); ++k) {
      monitor_.check();
      monitor_.progress("fuse", index * order_.size() + k, count * order_.size());
      if (!looks_[order_[k]].touches(tile)) continue;
      take_colour(order_[k]);
      // In strips, which bounds what waits to be merged.
      const auto height = static_cast<std::size_t>(maps_.get(order_[k])->depth.height());
      for (std::size_t row = 0; row < height; row += kStrip) {
        const std::vector<SurfaceSample> samples = samples_of(order_[k], tile, row, std::min(height, row + kStrip));
        filled_[order_[k]] += samples.size();
        elements.add(samples, order_[k], executor_);
      }
    }
    std::vector<float> footprints;
    // The mean of several maps may lie just outside the bounds.
    PointCloud cloud =
        elements.points(footprints, [&](const Vector3f& place) { return bounds_.contains(place.cast<double>()); });
    // What reaches the tile's border is remembered for the tiles that follow, and is open for what is not here yet.
    open_.assign(cloud.size(), 0);
    if (count > 1)
      for (std::size_t i = 0; i < cloud.size(); ++i) {
        bool wanted = false;
        for (const int cell : cells_around(cloud.positions[i], footprints[i])) {
          open_[i] |= static_cast<std::uint8_t>(!tile.holds(cell));
          wanted = wanted || pending_[static_cast<std::size_t>(cell)];
        }
        if (wanted)
          border_.push_back({cloud.positions[i],
                             cloud.normals[i],
                             footprints[i],
                             cloud.errors[i] * cloud.errors[i],
                             0,
                             {0, 0, 0},
                             0});
      }
    std::erase_if(border_, [&](const SurfaceSample& s) {
      const auto around = cells_around(s.position, s.footprint);
      return std::none_of(around.begin(), around.end(),
                          [&](int cell) { return pending_[static_cast<std::size_t>(cell)] != 0; });
    });
    return cloud;
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
  bool may_see(std::uint32_t i, const Ball& ball) {
    if (cones_.empty())
      for (const PosedPhoto& photo : block_.photos) cones_.push_back(widest_angle(block_.camera_of(photo)));
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
  void vote(PointCloud& cloud, std::size_t index, std::size_t count) {
    cloud.conflicts.assign(cloud.size(), 0);
    const Ball ball = ball_around(cloud);
    for (std::size_t k = 0; k < order_.size(); ++k) {
      monitor_.check();
      monitor_.progress("votes", index * order_.size() + k, count * order_.size());
      if (!may_see(order_[k], ball)) continue;
      // Does the photo look at the tile at all?
      const PosedPhoto& photo = block_.photos[order_[k]];
      const Camera& camera = block_.camera_of(photo);
      bool sees = false;
      for (std::size_t i = 0; i < cloud.size() && !sees; i += 61) {
        const auto pixel = project(camera, photo.pose.to_camera(cloud.position(i)));
        sees = pixel && pixel->x() >= 0 && pixel->y() >= 0 && pixel->x() <= camera.width && pixel->y() <= camera.height;
      }
      if (!sees) continue;
      const Lifted own(maps_.get(order_[k]));
      const DepthMap& map = *own.map;
      executor_.blocks(cloud.size(), 4096, [&](std::size_t, std::size_t begin, std::size_t end) {
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
  }

  const Block& block_;
  const std::vector<std::vector<std::uint32_t>>& neighbours_;
  DepthMapStore& store_;
  const Bounds& bounds_;
  const DenseOptions& options_;
  const Executor& executor_;
  Monitor& monitor_;
  GroundCells cells_;
  RecentlyUsed<std::uint32_t, DepthMap> maps_;  // without their colours
  std::uint32_t in_work_ = ~std::uint32_t{0};
  ImageU8 colour_;  // of the map in work
  std::vector<Look> looks_;
  std::vector<double> cones_;                  // by photo
  std::vector<std::size_t> filled_;            // pixels that enough maps agree on
  std::vector<std::uint64_t> counts_;          // by ground cell
  std::vector<std::array<float, 3>> factors_;  // by photo
  std::vector<std::uint32_t> order_;
  double footprint_ = 0;
  std::vector<SurfaceSample> border_;  // of the tiles so far, where others are still to come
  std::vector<std::uint8_t> pending_;  // by ground cell: its tile is still to come
  std::vector<std::uint8_t> open_;
  bool given_ = false;  // the sink has got something
};

}  // namespace

DenseSummary fuse_maps(const Block& block, const std::vector<std::vector<std::uint32_t>>& neighbours,
                       DepthMapStore& store, const Bounds& bounds, const DenseOptions& options,
                       const Executor& executor, Monitor& monitor, PointSink& sink) {
  return Fusion(block, neighbours, store, bounds, options, executor, monitor).run(sink);
}

DenseSummary fuse(const Block& block, const std::vector<std::vector<std::uint32_t>>& neighbours, DepthMapStore& store,
                  const Bounds& bounds, const DenseOptions& options, const Executor& executor, Monitor& monitor,
                  PointSink& sink) {
  try {
    return fuse_maps(block, neighbours, store, bounds, options, executor, monitor, sink);
  } catch (const LostMap&) {
    throw lost_maps();
  }
}

}  // namespace icefield
