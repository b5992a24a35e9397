#include "icefield/terrain/overlap.h"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <numbers>

#include "icefield/base/statistics.h"
#include "icefield/block/bounds.h"
#include "src/terrain/plate.h"
#include "src/terrain/sight.h"

namespace icefield {

using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;

namespace {

constexpr double kNarrow = 5;  // degrees: heights from less are worth little
constexpr int kTile = 16;      // cells that photos are chosen for together

double degrees(double radians) {
  return radians * 180 / std::numbers::pi;
}

// The convex hull, counter-clockwise (Andrew, "Another efficient algorithm for convex hulls in two dimensions", 1979).
std::vector<Vector2d> hull_of(std::vector<Vector2d> places) {
  std::sort(places.begin(), places.end(),
            [](const Vector2d& a, const Vector2d& b) { return a.x() != b.x() ? a.x() < b.x() : a.y() < b.y(); });
  const auto turn = [](const Vector2d& a, const Vector2d& b, const Vector2d& c) {
    return (b - a).x() * (c - a).y() - (b - a).y() * (c - a).x();
  };
  std::vector<Vector2d> hull;
  for (int side = 0; side < 2; ++side) {
    const std::size_t first = hull.size();
    for (const Vector2d& p : places) {
      while (hull.size() >= first + 2 && !(turn(hull[hull.size() - 2], hull.back(), p) > 0)) hull.pop_back();
      hull.push_back(p);
    }
    if (!hull.empty()) hull.pop_back();
    std::reverse(places.begin(), places.end());
  }
  return hull;
}

double distance_to(const std::vector<Vector2d>& hull, const Vector2d& p) {
  if (hull.size() >= 3 && within_outline(p, hull)) return 0;
  double least = std::numeric_limits<double>::infinity();
  for (std::size_t i = 0; i < hull.size(); ++i) {
    const Vector2d a = hull[i], along = hull[(i + 1) % hull.size()] - a;
    const double length = along.squaredNorm(), t = length > 0 ? std::clamp((p - a).dot(along) / length, 0.0, 1.0) : 0;
    least = std::min(least, (a + t * along - p).norm());
  }
  return least;
}

// What a photo looks at.
struct Look {
  Vector3d foot = Vector3d::Zero();  // the middle of its tie points
  double reach = 0;                  // these lie as far from it, in the middle
  Vector3d axis = Vector3d::UnitZ();
  double half_view = 0;  // to its corners, radians
  bool sound = false;
};

class Mapping {
 public:
  Mapping(const OverlapScene& scene, const OverlapOptions& options, const Executor& executor, Monitor& monitor)
      : scene_(scene), options_(options), executor_(executor), monitor_(monitor) {}

  Overlap run() {
    OverlapSummary& s = all_.summary;
    find_looks();
    if (feet_.empty() || places_.size() < 3) {
      s.outcome = "the block has too few tie points for a map";
      return std::move(all_);
    }
    if (!lay_grid()) {
      s.outcome = "the photos look at no area in plan";
      return std::move(all_);
    }
    find_surface();
    look_from_cells();
    sum_up();
    advise();
    s.outcome = "made";
    return std::move(all_);
  }

 private:
  const Block& block() const { return scene_.block; }
  bool counts(std::size_t point) const { return scene_.counted.empty() || scene_.counted[point]; }

  void find_looks() {
    std::vector<std::vector<std::size_t>> points(block().photos.size());
    for (std::size_t i = 0; i < block().points.size(); ++i) {
      if (!counts(i)) continue;
      places_.push_back(scene_.points[i]);
      for (const Observation& o : block().of_point(i)) points[o.photo.value].push_back(i);
    }
    looks_.resize(block().photos.size());
    for (std::size_t p = 0; p < looks_.size(); ++p) {
      const PosedPhoto& photo = block().photos[p];
      const Camera& camera = block().camera_of(photo);
      Look& look = looks_[p];
      look.axis = photo.pose.orientation.conjugate() * Vector3d::UnitZ();
      for (const double x : {0.0, static_cast<double>(camera.width)})
        for (const double y : {0.0, static_cast<double>(camera.height)})
          if (const auto ray = unproject(camera, {x, y}))
            look.half_view = std::max(look.half_view, std::atan(ray->norm()));
      if (look.half_view == 0) look.half_view = std::numbers::pi / 2;
      if (points[p].size() < 3) continue;
      std::array<std::vector<double>, 3> at;
      for (const std::size_t i : points[p])
        for (int c = 0; c < 3; ++c) at[static_cast<std::size_t>(c)].push_back(scene_.points[i][c]);
      for (int c = 0; c < 3; ++c) look.foot[c] = median(at[static_cast<std::size_t>(c)]);
      std::vector<double> away;
      for (const std::size_t i : points[p]) away.push_back((scene_.points[i] - look.foot).head<2>().norm());
      look.reach = median(away);
      look.sound = true;
      feet_.push_back(look.foot.head<2>());
      reaches_.push_back(look.reach);
    }
  }

  // The cells around what the photos look at, the rim included.
  bool lay_grid() {
    hull_ = hull_of(feet_);
    reach_ = median(reaches_);
    if (!(reach_ > 0)) return false;
    Vector2d low = feet_[0], high = feet_[0];
    for (const Vector2d& f : feet_) low = low.cwiseMin(f), high = high.cwiseMax(f);
    low.array() -= 2 * reach_, high.array() += 2 * reach_;
    double cell = options_.cell;
    if (!(cell > 0)) {
      constexpr double kCells = 300;
      cell = (high - low).maxCoeff() / kCells;
      const double unit = std::pow(10, std::floor(std::log10(cell)) - 1);
      cell = std::ceil(cell / unit) * unit;
    }
    all_.map.frame = grid_over(low, high, cell, 4e7);
    all_.summary.cell = cell;
    const GridFrame& frame = all_.map.frame;
    all_.map.within = ImageU8(frame.columns, frame.rows);
    rows([&](int x, int y) { all_.map.within.at(x, y) = distance_to(hull_, frame.middle(x, y)) <= kCounted * reach_; });
    return true;
  }

  // Through the middle heights of the tie points of each cell.
  void find_surface() {
    const GridFrame& frame = all_.map.frame;
    std::vector<std::pair<std::size_t, double>> heights;
    for (const Vector3d& p : places_) {
      const Vector2d at = frame.at(p.head<2>());
      if (!(at.x() >= 0 && at.y() >= 0 && at.x() < frame.columns && at.y() < frame.rows)) continue;
      heights.emplace_back(
          static_cast<std::size_t>(at.y()) * static_cast<std::size_t>(frame.columns) + static_cast<std::size_t>(at.x()),
          p.z());
    }
    std::sort(heights.begin(), heights.end());
    ImageU8 known(frame.columns, frame.rows);
    all_.map.heights = ImageF(frame.columns, frame.rows);
    for (std::size_t i = 0; i < heights.size();) {
      std::size_t end = i;
      while (end < heights.size() && heights[end].first == heights[i].first) ++end;
      known.values()[heights[i].first] = 1;
      all_.map.heights.values()[heights[i].first] = static_cast<float>(heights[i + (end - i) / 2].second);
      i = end;
    }
    // Far from any tie point there is no surface to speak of.
    fill_by_plate(all_.map.heights, known, executor_, monitor_);
    const ImageF away = distances_to(known, executor_);
    const double most = std::max(3.0, reach_ / frame.cell);
    rows([&](int x, int y) {
      if (away.at(x, y) > most) all_.map.heights.at(x, y) = std::numeric_limits<float>::quiet_NaN();
    });
  }

  void look_from_cells() {
    OverlapMap& map = all_.map;
    const GridFrame& frame = map.frame;
    const float none = std::numeric_limits<float>::quiet_NaN();
    map.views = ImageF(frame.columns, frame.rows);
    for (ImageF* raster : {&map.gsd, &map.angle, &map.error}) *raster = ImageF(frame.columns, frame.rows, 1, none);
    const Sight sight(map.heights, frame, executor_);
    const int across = (frame.columns + kTile - 1) / kTile, down = (frame.rows + kTile - 1) / kTile;
    executor_.blocks(static_cast<std::size_t>(across) * static_cast<std::size_t>(down), 1,
                     [&](std::size_t tile, std::size_t, std::size_t) {
                       monitor_.check();
                       look_from_tile(static_cast<int>(tile) % across * kTile, static_cast<int>(tile) / across * kTile,
                                      sight);
                     });
  }

  void look_from_tile(int x0, int y0, const Sight& sight) {
    OverlapMap& map = all_.map;
    const GridFrame& frame = map.frame;
    std::vector<std::pair<int, int>> cells;
    std::vector<Vector3d> places;
    for (int y = y0; y < std::min(frame.rows, y0 + kTile); ++y)
      for (int x = x0; x < std::min(frame.columns, x0 + kTile); ++x) {
        if (!std::isfinite(map.heights.at(x, y))) continue;
        const Vector2d middle = frame.middle(x, y);
        cells.emplace_back(x, y), places.emplace_back(middle.x(), middle.y(), map.heights.at(x, y));
      }
    if (cells.empty()) return;
    std::vector<Vector3d> local = places;
    if (scene_.to_block) scene_.to_block(local);
    Vector3d low = local[0], high = local[0];
    for (const Vector3d& p : local) low = low.cwiseMin(p), high = high.cwiseMax(p);
    const Vector3d middle = 0.5 * (low + high);
    const double radius = 0.5 * (high - low).norm();
    std::vector<std::uint32_t> photos;
    for (std::uint32_t p = 0; p < looks_.size(); ++p) {
      const Vector3d way = middle - block().photos[p].pose.centre;
      const double length = way.norm();
      if (length > radius) {
        const double off = std::acos(std::clamp(looks_[p].axis.dot(way) / length, -1.0, 1.0));
        if (off > looks_[p].half_view + std::asin(radius / length)) continue;
      }
      photos.push_back(p);
    }
    const double steepest = std::cos(options_.max_angle_deg * std::numbers::pi / 180);
    std::vector<Vector3d> ways;
    for (std::size_t k = 0; k < cells.size(); ++k) {
      ways.clear();
      double gsd = std::numeric_limits<double>::infinity();
      Matrix3d information = Matrix3d::Zero();
      for (const std::uint32_t p : photos) {
        const PosedPhoto& photo = block().photos[p];
        const Camera& camera = block().camera_of(photo);
        const Vector3d seen = photo.pose.to_camera(local[k]), up = scene_.eyes[p] - places[k];
        if (!(seen.z() > 0) || !(up.z() > steepest * up.norm())) continue;
        Matrix2x3 by_point;
        Matrix2xParameters by_lens;
        const auto pixel = project(camera, seen, by_point, by_lens);
        if (!pixel || pixel->x() < 0 || pixel->y() < 0 || pixel->x() >= camera.width || pixel->y() >= camera.height)
          continue;
        if (!sight.open_way(places[k], scene_.eyes[p])) continue;
        const Eigen::Matrix<double, 2, 3> by_place = by_point * photo.pose.orientation.toRotationMatrix();
        information += by_place.transpose() * by_place;
        // Of the map's coordinates for one of the block: both are the same size but for a CRS's scale.
        gsd = std::min(gsd, 1 / std::sqrt(0.5 * by_point.leftCols<2>().squaredNorm()));
        ways.push_back(up.normalized());
      }
      const auto [x, y] = cells[k];
      map.views.at(x, y) = static_cast<float>(ways.size());
      if (ways.empty()) continue;
      map.gsd.at(x, y) = static_cast<float>(gsd);
      double widest = 1;
      for (std::size_t i = 0; i < ways.size(); ++i)
        for (std::size_t j = 0; j < i; ++j) widest = std::min(widest, ways[i].dot(ways[j]));
      map.angle.at(x, y) = static_cast<float>(degrees(std::acos(std::clamp(widest, -1.0, 1.0))));
      if (ways.size() < 2) continue;
      const Eigen::FullPivLU<Matrix3d> solved(information);
      if (solved.isInvertible())
        map.error.at(x, y) =
            static_cast<float>(options_.matching_px * std::sqrt(std::max(0.0, solved.inverse()(2, 2))));
    }
  }

  void sum_up() {
    OverlapSummary& s = all_.summary;
    const OverlapMap& map = all_.map;
    std::vector<double> views, gsd, angles, errors;
    std::vector<std::size_t> seen(8, 0);
    std::size_t cells = 0, narrow = 0, wanted = 0;
    for (std::size_t i = 0; i < map.within.data().size(); ++i) {
      if (!map.within.data()[i]) continue;
      ++cells;
      const float n = map.views.data()[i];
      views.push_back(n);
      for (std::size_t k = 0; k < seen.size(); ++k) seen[k] += n >= static_cast<float>(k + 1);
      wanted += n >= static_cast<float>(options_.wanted);
      narrow += n >= 2 && map.angle.data()[i] < kNarrow;
      if (n > 0) gsd.push_back(map.gsd.data()[i]);
      if (n > 1) angles.push_back(map.angle.data()[i]);
      if (std::isfinite(map.error.data()[i])) errors.push_back(map.error.data()[i]);
    }
    const auto percent = [&](std::size_t n) {
      return cells > 0 ? 100.0 * static_cast<double>(n) / static_cast<double>(cells) : 0;
    };
    s.area = static_cast<double>(cells) * s.cell * s.cell;
    for (const std::size_t n : seen) s.seen_percent.push_back(percent(n));
    s.wanted = options_.wanted;
    s.wanted_percent = percent(wanted), s.narrow_percent = percent(narrow);
    const auto middle = [](const std::vector<double>& v) { return v.empty() ? 0 : median(v); };
    s.views = middle(views), s.gsd = middle(gsd), s.angle_deg = middle(angles), s.error = middle(errors);
  }

  void advise() {
    constexpr std::size_t kMost = 5;
    constexpr double kDown = 0.64;  // cosine of 50 degrees
    OverlapSummary& s = all_.summary;
    std::vector<double> down;
    for (std::size_t p = 0; p < looks_.size(); ++p)
      if (looks_[p].sound) {
        const Vector3d way = looks_[p].foot - scene_.eyes[p];
        down.push_back(way.norm() > 0 ? -way.z() / way.norm() : 1);
      }
    if (std::vector<OverlapAdvice> ring = gaps_in_ring(); s.widest_gap_deg > 0) {
      s.stand = PhotoStand::around;
      s.advice = std::move(ring);
      return;
    }
    if (median(down) < kDown) {
      s.stand = PhotoStand::beside;
      return;
    }
    const OverlapMap& map = all_.map;
    const auto few = [&](std::size_t i) {
      return map.within.data()[i] && map.views.data()[i] < static_cast<float>(options_.wanted);
    };
    const auto narrow = [&](std::size_t i) { return map.within.data()[i] && !few(i) && map.angle.data()[i] < kNarrow; };
    std::vector<OverlapAdvice> found = thin_areas(few, OverlapAdvice::Reason::few_photos);
    const std::vector<OverlapAdvice> more = thin_areas(narrow, OverlapAdvice::Reason::narrow_angle);
    found.insert(found.end(), more.begin(), more.end());
    std::stable_sort(found.begin(), found.end(),
                     [](const OverlapAdvice& a, const OverlapAdvice& b) { return a.area > b.area; });
    if (found.size() > kMost) found.resize(kMost);
    s.advice = std::move(found);
  }

  template <class Thin>
  std::vector<OverlapAdvice> thin_areas(const Thin& thin, OverlapAdvice::Reason reason) const {
    const GridFrame& frame = all_.map.frame;
    const double least = 0.02 * reach_ * reach_;  // smaller ones are not worth a photo
    ImageU8 done(frame.columns, frame.rows);
    std::vector<OverlapAdvice> found;
    std::vector<std::pair<int, int>> open;
    for (int y = 0; y < frame.rows; ++y)
      for (int x = 0; x < frame.columns; ++x) {
        const auto at = [&](int u, int v) {
          return static_cast<std::size_t>(v) * static_cast<std::size_t>(frame.columns) + static_cast<std::size_t>(u);
        };
        if (done.at(x, y) || !thin(at(x, y))) continue;
        done.at(x, y) = 1;
        open.assign(1, {x, y});
        for (std::size_t i = 0; i < open.size(); ++i) {
          const auto [u, v] = open[i];
          for (const auto& [a, b] : {std::pair(u + 1, v), {u - 1, v}, {u, v + 1}, {u, v - 1}}) {
            if (a < 0 || b < 0 || a >= frame.columns || b >= frame.rows || done.at(a, b) || !thin(at(a, b))) continue;
            done.at(a, b) = 1;
            open.emplace_back(a, b);
          }
        }
        OverlapAdvice advice;
        advice.reason = reason;
        advice.area = static_cast<double>(open.size()) * frame.cell * frame.cell;
        if (advice.area < least) continue;
        // The cell of it that lies nearest to its middle.
        Vector2d middle = Vector2d::Zero();
        for (const auto& [u, v] : open) middle += frame.middle(u, v) / static_cast<double>(open.size());
        const auto nearest = *std::min_element(open.begin(), open.end(), [&](const auto& a, const auto& b) {
          return (frame.middle(a.first, a.second) - middle).squaredNorm() <
                 (frame.middle(b.first, b.second) - middle).squaredNorm();
        });
        advice.place = frame.middle(nearest.first, nearest.second);
        const float z = all_.map.heights.at(nearest.first, nearest.second);
        stand_for(advice, std::isfinite(z) ? z : median_height());
        found.push_back(advice);
      }
    return found;
  }
  double median_height() const {
    std::vector<double> z;
    for (const Look& look : looks_)
      if (look.sound) z.push_back(look.foot.z());
    return median(z);
  }

  // As the photos that look at the surroundings do.
  void stand_for(OverlapAdvice& advice, double height) const {
    std::vector<std::pair<double, std::size_t>> near;
    for (std::size_t p = 0; p < looks_.size(); ++p)
      if (looks_[p].sound) near.emplace_back((looks_[p].foot.head<2>() - advice.place).norm(), p);
    std::sort(near.begin(), near.end());
    near.resize(std::min<std::size_t>(near.size(), 3));
    advice.beside = static_cast<std::uint32_t>(near.front().second);
    advice.beside_too = static_cast<std::uint32_t>(near[std::min<std::size_t>(1, near.size() - 1)].second);
    Vector3d offset = Vector3d::Zero();
    for (const auto& [away, p] : near) offset += (scene_.eyes[p] - looks_[p].foot) / static_cast<double>(near.size());
    advice.towards = {advice.place.x(), advice.place.y(), height};
    advice.from = advice.towards + offset;
    if (advice.reason == OverlapAdvice::Reason::narrow_angle) {
      // To the side, by a quarter of the distance.
      const Vector2d aside = Vector2d(offset.y(), -offset.x()).norm() > 0.1 * offset.norm()
                                 ? Vector2d(offset.y(), -offset.x()).normalized()
                                 : Vector2d(1, 0);
      advice.from.head<2>() += 0.25 * offset.norm() * aside;
    }
    // A photo of the set brings so much that is new.
    const double each = 0.5 * reach_ * reach_;
    advice.photos =
        std::clamp(static_cast<int>(std::ceil(advice.area / std::max(1e-12, each))) + options_.wanted - 2, 1, 100);
  }

  // Photos that look at one thing from around it: where the way around is left open.
  std::vector<OverlapAdvice> gaps_in_ring() {
    constexpr double kLeastGap = 35, kMostGap = 200;
    Vector3d centre = Vector3d::Zero();
    std::size_t n = 0;
    for (const Look& look : looks_)
      if (look.sound) centre += look.foot, ++n;
    if (n < 6) return {};
    centre /= static_cast<double>(n);
    std::vector<std::pair<double, std::size_t>> around;
    std::vector<double> radii, scatter;
    for (std::size_t p = 0; p < looks_.size(); ++p) {
      if (!looks_[p].sound) continue;
      const Vector3d away = scene_.eyes[p] - centre;
      around.emplace_back(degrees(std::atan2(away.y(), away.x())), p);
      radii.push_back(away.head<2>().norm());
      scatter.push_back((looks_[p].foot - centre).head<2>().norm());
    }
    // One thing: what is looked at lies closer together than those who look.
    if (!(median(scatter) < 0.4 * median(radii))) return {};
    std::sort(around.begin(), around.end());
    std::vector<double> gaps;
    for (std::size_t i = 0; i < around.size(); ++i)
      gaps.push_back(i + 1 < around.size() ? around[i + 1].first - around[i].first
                                           : around[0].first + 360 - around[i].first);
    const double usual = median(gaps), widest = *std::max_element(gaps.begin(), gaps.end());
    // Round about half of it at least: else they stand before it.
    if (widest > kMostGap) return {};
    all_.summary.widest_gap_deg = widest;
    std::vector<OverlapAdvice> found;
    for (std::size_t i = 0; i < around.size(); ++i) {
      if (gaps[i] < std::max(kLeastGap, 2.5 * usual)) continue;
      OverlapAdvice advice;
      advice.reason = OverlapAdvice::Reason::gap_in_ring;
      advice.area = gaps[i];
      const std::size_t a = around[i].second, b = around[(i + 1) % around.size()].second;
      const double middle = (around[i].first + 0.5 * gaps[i]) * std::numbers::pi / 180;
      const double radius =
          0.5 * ((scene_.eyes[a] - centre).head<2>().norm() + (scene_.eyes[b] - centre).head<2>().norm());
      advice.from = {centre.x() + radius * std::cos(middle), centre.y() + radius * std::sin(middle),
                     0.5 * (scene_.eyes[a].z() + scene_.eyes[b].z())};
      advice.towards = centre;
      advice.beside = static_cast<std::uint32_t>(a), advice.beside_too = static_cast<std::uint32_t>(b);
      advice.place = centre.head<2>();
      advice.photos = std::max(1, static_cast<int>(std::lround(gaps[i] / std::clamp(usual, 8.0, 20.0))) - 1);
      found.push_back(advice);
    }
    return found;
  }

  template <class Visit>
  void rows(const Visit& visit) {
    executor_.blocks(static_cast<std::size_t>(all_.map.frame.rows), 8,
                     [&](std::size_t, std::size_t begin, std::size_t end) {
                       for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
                         for (int x = 0; x < all_.map.frame.columns; ++x) visit(x, y);
                     });
  }

  static constexpr double kCounted = 0.5;  // of a photo's reach, around the hull of what the photos look at
  const OverlapScene& scene_;
  const OverlapOptions& options_;
  const Executor& executor_;
  Monitor& monitor_;
  Overlap all_;
  std::vector<Vector3d> places_;  // tie points that count
  std::vector<Look> looks_;
  std::vector<Vector2d> feet_, hull_;
  std::vector<double> reaches_;
  double reach_ = 0;
};

}  // namespace

const char* describe(PhotoStand stand) {
  return stand == PhotoStand::above ? "above" : stand == PhotoStand::around ? "around" : "beside";
}

const char* describe(OverlapAdvice::Reason reason) {
  switch (reason) {
    case OverlapAdvice::Reason::few_photos:
      return "too few photos see it";
    case OverlapAdvice::Reason::narrow_angle:
      return "photos see it from nearly one direction";
    case OverlapAdvice::Reason::gap_in_ring:
      return "the way around is left open";
  }
  return "";
}

Overlap overlap_of(const OverlapScene& scene, const OverlapOptions& options, const Executor& executor,
                   Monitor& monitor) {
  return Mapping(scene, options, executor, monitor).run();
}

}  // namespace icefield
