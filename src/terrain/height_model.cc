#include "icefield/terrain/height_model.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>
#include <numbers>
#include <tuple>

#include "icefield/base/error.h"

namespace icefield {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr float kNone = std::numeric_limits<float>::quiet_NaN();
constexpr int kDirections = 16;
constexpr int kSmoothing = 24;  // rounds in filled gaps
constexpr double kDefaultFill = 30;

struct Spot {
  double x, y, z;  // cells from the whole raster's corner (y to the south), height above the base
  float error;
  bool operator<(const Spot& o) const { return std::tie(z, x, y, error) < std::tie(o.z, o.x, o.y, o.error); }
};

double fill_of(const HeightOptions& options, double cell) {
  return options.fill > 0 ? options.fill : kDefaultFill * cell;
}
double reach_of(const HeightOptions& options, double cell, double spacing) {
  return std::max(options.reach_cells, options.reach_spacings * spacing / cell);
}

// A raster with a margin about a window, and the points by cell.
class Area {
 public:
  // `below`: heights count from there; only points of the ground are taken then. May be empty.
  Area(const PointCloud& points, const GridFrame& whole, const Window& window, int margin,
       const std::function<double(const Vector2d&)>& below)
      : column_(std::max(0, window.column - margin)),
        row_(std::max(0, window.row - margin)),
        width_(std::min(whole.columns, window.column + window.width + margin) - column_),
        height_(std::min(whole.rows, window.row + window.height + margin) - row_) {
    const std::size_t n = points.size();
    std::vector<std::uint32_t> of(n, 0xffffffffu);
    first_.assign(cells() + 1, 0);
    const auto spot = [&](std::size_t i) {
      const Vector3d p = points.position(i);
      const Vector2d at = whole.at(p.head<2>());
      return Spot{at.x(), at.y(), p.z(), points.errors.empty() ? 0.0f : points.errors[i]};
    };
    const bool ground_alone = below != nullptr;
    for (std::size_t i = 0; i < n; ++i) {
      if (!points.positions[i].allFinite()) continue;
      if (!points.classes.empty()) {
        const auto c = static_cast<PointClass>(points.classes[i]);
        if (c == PointClass::noise || (ground_alone && c != PointClass::ground)) continue;
      }
      const Spot s = spot(i);
      const double x = std::floor(s.x) - column_, y = std::floor(s.y) - row_;
      if (x < 0 || y < 0 || x >= width_ || y >= height_) continue;
      of[i] = static_cast<std::uint32_t>(y * width_ + x);
      ++first_[of[i] + 1];
    }
    for (std::size_t c = 0; c < cells(); ++c) first_[c + 1] += first_[c];
    spots_.resize(first_.back());
    std::vector<std::uint32_t> next(first_.begin(), first_.end() - 1);
    for (std::size_t i = 0; i < n; ++i)
      if (of[i] != 0xffffffffu) {
        Spot& s = spots_[next[of[i]]++] = spot(i);
        if (below) s.z -= below(points.position(i).head<2>());
      }
    for (std::size_t c = 0; c < cells(); ++c) std::sort(spots_.begin() + first_[c], spots_.begin() + first_[c + 1]);
  }

  int column() const { return column_; }
  int row() const { return row_; }
  int width() const { return width_; }
  int height() const { return height_; }
  std::size_t cells() const { return static_cast<std::size_t>(width_) * static_cast<std::size_t>(height_); }
  std::span<const Spot> at(int x, int y) const {
    const std::size_t c = static_cast<std::size_t>(y) * static_cast<std::size_t>(width_) + static_cast<std::size_t>(x);
    return {spots_.data() + first_[c], spots_.data() + first_[c + 1]};
  }

 private:
  int column_, row_, width_, height_;
  std::vector<std::uint32_t> first_;
  std::vector<Spot> spots_;
};

struct Fitted {
  float height = kNone, sigma = kNone;
  int points = 0;
};

// The plane through spots around a place, at the place.
class PlaneFit {
 public:
  PlaneFit(double reach, double apart) : reach_(reach), apart_(apart) {}

  // `near`: with their squared distances from (x, y) in cells.
  Fitted fit(std::vector<std::pair<Spot, double>>& near, double x, double y) const {
    std::sort(near.begin(), near.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
    const auto [begin, end] = uppermost(near);
    if (begin == end || !carried(near, begin, end, x, y)) return {};
    // Weighted by distance; twice more by how far each is from the plane of before.
    std::vector<double> weights(end - begin);
    double a = 0, b = 0, c = 0;
    for (int round = 0; round < 3; ++round) {
      double robust = 0;
      if (round > 0) {
        std::vector<double> off;
        for (std::size_t i = begin; i < end; ++i) off.push_back(std::abs(residual(near[i].first, x, y, a, b, c)));
        std::nth_element(off.begin(), off.begin() + static_cast<std::ptrdiff_t>(off.size() / 2), off.end());
        robust = 6 * off[off.size() / 2];
      }
      for (std::size_t i = begin; i < end; ++i) {
        const double t = 1 - near[i].second / (reach_ * reach_);
        double w = t * t + 1e-3;
        if (near[i].first.error > 0) w /= near[i].first.error * near[i].first.error;
        if (robust > 0) {
          const double r = residual(near[i].first, x, y, a, b, c) / robust;
          w *= std::abs(r) < 1 ? (1 - r * r) * (1 - r * r) : 1e-6;
        }
        weights[i - begin] = w;
      }
      solve(near, begin, weights, x, y, a, b, c);
    }
    Fitted result;
    result.height = static_cast<float>(c);
    double sum = 0, squares = 0, errors = 0, sum2 = 0;
    for (std::size_t i = begin; i < end; ++i) {
      const double w = weights[i - begin], r = residual(near[i].first, x, y, a, b, c);
      sum += w, sum2 += w * w;
      squares += w * r * r, errors += w * near[i].first.error * near[i].first.error;
    }
    // Neighbours share most of their errors: the mean of them is hardly better than one; their scatter is.
    const double count = sum * sum / sum2;
    result.sigma = static_cast<float>(std::sqrt(errors / sum + squares / sum / count));
    result.points = static_cast<int>(end - begin);
    return result;
  }

 private:
  static double residual(const Spot& s, double x, double y, double a, double b, double c) {
    return s.z - (a * (s.x - x) + b * (s.y - y) + c);
  }

  // By a point that is close, or by points around.
  static bool carried(const std::vector<std::pair<Spot, double>>& near, std::size_t begin, std::size_t end, double x,
                      double y) {
    constexpr double kClose = 0.75;  // cells
    int quarters = 0;
    for (std::size_t i = begin; i < end; ++i) {
      if (near[i].second <= kClose * kClose) return true;
      quarters |= 1 << ((near[i].first.x > x) + 2 * (near[i].first.y > y));
    }
    return quarters != 0 && (quarters & (quarters - 1)) != 0 && quarters != 3 && quarters != 5 && quarters != 10 &&
           quarters != 12;
  }

  // Groups apart in height: the highest one that comes close to the middle, else that which comes closest.
  std::pair<std::size_t, std::size_t> uppermost(const std::vector<std::pair<Spot, double>>& near) const {
    if (near.empty()) return {0, 0};
    constexpr double kClose2 = 0.5;  // within the cell
    std::size_t end = near.size();
    std::pair<std::size_t, std::size_t> nearest{0, 0};
    double least = std::numeric_limits<double>::infinity();
    while (end > 0) {
      std::size_t begin = end - 1;
      double closest = near[begin].second;
      while (begin > 0 && near[begin].first.z - near[begin - 1].first.z <= apart_)
        --begin, closest = std::min(closest, near[begin].second);
      if (closest <= kClose2) return {begin, end};
      if (closest < least) least = closest, nearest = {begin, end};
      end = begin;
    }
    return nearest;
  }

  void solve(const std::vector<std::pair<Spot, double>>& near, std::size_t begin, const std::vector<double>& weights,
             double x, double y, double& a, double& b, double& c) const {
    double s = 0, sx = 0, sy = 0, sz = 0;
    for (std::size_t i = 0; i < weights.size(); ++i) {
      const Spot& p = near[begin + i].first;
      s += weights[i], sx += weights[i] * (p.x - x), sy += weights[i] * (p.y - y), sz += weights[i] * p.z;
    }
    const double mx = sx / s, my = sy / s, mz = sz / s;
    double xx = 0, xy = 0, yy = 0, xz = 0, yz = 0;
    for (std::size_t i = 0; i < weights.size(); ++i) {
      const Spot& p = near[begin + i].first;
      const double dx = p.x - x - mx, dy = p.y - y - my, dz = p.z - mz, w = weights[i];
      xx += w * dx * dx, xy += w * dx * dy, yy += w * dy * dy, xz += w * dx * dz, yz += w * dy * dz;
    }
    // Held to a level plane as far as the points do not say more.
    const double hold = 0.01 * s * reach_ * reach_;
    xx += hold, yy += hold;
    const double d = xx * yy - xy * xy;
    a = (xz * yy - yz * xy) / d;
    b = (yz * xx - xz * xy) / d;
    c = mz - a * mx - b * my;
  }

  double reach_, apart_;
};

// Measured cells of an area.
struct Measured {
  ImageF heights, sigma, points;
};

Measured measure(const Area& area, double reach, double apart, const Executor& executor) {
  Measured result{ImageF(area.width(), area.height(), 1, kNone), ImageF(area.width(), area.height(), 1, kNone),
                  ImageF(area.width(), area.height())};
  const PlaneFit plane(reach, apart);
  const int r = static_cast<int>(std::ceil(reach));
  executor.blocks(static_cast<std::size_t>(area.height()), 4, [&](std::size_t, std::size_t begin, std::size_t end) {
    std::vector<std::pair<Spot, double>> near;
    for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
      for (int x = 0; x < area.width(); ++x) {
        const double mx = area.column() + x + 0.5, my = area.row() + y + 0.5;
        near.clear();
        for (int v = std::max(0, y - r); v <= std::min(area.height() - 1, y + r); ++v)
          for (int u = std::max(0, x - r); u <= std::min(area.width() - 1, x + r); ++u)
            for (const Spot& spot : area.at(u, v)) {
              const double d2 = (spot.x - mx) * (spot.x - mx) + (spot.y - my) * (spot.y - my);
              if (d2 < reach * reach) near.emplace_back(spot, d2);
            }
        if (near.empty()) continue;
        const Fitted fitted = plane.fit(near, mx, my);
        result.heights.at(x, y) = fitted.height;
        result.sigma.at(x, y) = fitted.sigma;
        result.points.at(x, y) = static_cast<float>(fitted.points);
      }
  });
  return result;
}

// The way in each direction that is looked along, in cells.
const std::array<std::array<double, 2>, kDirections>& directions() {
  static const auto table = [] {
    std::array<std::array<double, 2>, kDirections> t;
    for (int k = 0; k < kDirections; ++k) {
      const double angle = 2 * std::numbers::pi * k / kDirections;
      const double x = std::cos(angle), y = std::sin(angle), m = std::max(std::abs(x), std::abs(y));
      t[static_cast<std::size_t>(k)] = {x / m, y / m};
    }
    return t;
  }();
  return table;
}

HeightModel window_of(const Area& area, const GridFrame& whole, const Window& window, const Measured& all,
                      const ImageF& distance, double base) {
  HeightModel model;
  model.frame = whole;
  model.frame.corner += whole.cell * Vector2d(window.column, -window.row);
  model.frame.columns = window.width, model.frame.rows = window.height;
  model.base = base;
  const auto cut = [&](const ImageF& from) {
    ImageF to(window.width, window.height);
    for (int y = 0; y < window.height; ++y)
      std::copy_n(from.row(y + window.row - area.row()) + (window.column - area.column()), window.width, to.row(y));
    return to;
  };
  model.heights = cut(all.heights), model.sigma = cut(all.sigma), model.points = cut(all.points);
  model.distance = cut(distance);
  return model;
}

void check(const GridFrame& whole, const Window& window, double spacing) {
  if (window.column < 0 || window.row < 0 || window.width < 0 || window.height < 0 ||
      window.column + window.width > whole.columns || window.row + window.height > whole.rows || !(spacing > 0))
    throw Error(ErrorKind::usage, "heights",
                "are asked for outside of the raster, or with a spacing that is not above 0",
                "give a window of the raster and the spacing of the points");
}

double apart_of(const HeightOptions& options, double spacing, double reach, double cell) {
  const double slope = std::tan(options.steepest_deg * std::numbers::pi / 180);
  // Points of one slope stand no more than so far apart, one from the next.
  return std::max(options.apart > 0 ? options.apart : 3 * spacing, 0.5 * slope * reach * cell);
}

}  // namespace

double height_margin(double cell, double spacing, const HeightOptions& options) {
  return fill_of(options, cell) + cell * (reach_of(options, cell, spacing) + kSmoothing + 3);
}

HeightModel surface_heights(const PointCloud& points, const GridFrame& whole, const Window& window, double spacing,
                            const HeightOptions& options, const Executor& executor) {
  check(whole, window, spacing);
  const double cell = whole.cell, reach = reach_of(options, cell, spacing);
  const int fill = static_cast<int>(std::ceil(fill_of(options, cell) / cell));
  const int margin = static_cast<int>(std::ceil(height_margin(cell, spacing, options) / cell));
  const Area area(points, whole, window, margin, nullptr);
  Measured all = measure(area, reach, apart_of(options, spacing, reach, cell), executor);
  const int width = area.width(), height = area.height();
  ImageF distance(width, height, 1, 0.0f);
  // Gaps: the nearest measured cells in all directions, as long as they lie around.
  const ImageF known = all.heights, known_sigma = all.sigma;
  std::vector<std::vector<std::pair<int, int>>> filled(static_cast<std::size_t>(height));
  executor.blocks(static_cast<std::size_t>(height), 4, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
      for (int x = 0; x < width; ++x) {
        if (std::isfinite(known.at(x, y))) continue;
        std::array<double, kDirections> length{};
        double weights = 0, sum = 0, errors = 0, nearest = std::numeric_limits<double>::infinity();
        double low = std::numeric_limits<double>::infinity(), high = -low;
        for (std::size_t k = 0; k < kDirections; ++k) {
          const auto& [dx, dy] = directions()[k];
          const double step = std::hypot(dx, dy);
          for (int s = 1; s * step <= fill; ++s) {
            const int u = x + static_cast<int>(std::lround(s * dx)), v = y + static_cast<int>(std::lround(s * dy));
            if (u < 0 || v < 0 || u >= width || v >= height) break;
            if (!std::isfinite(known.at(u, v))) continue;
            length[k] = s * step;
            const double w = 1 / (length[k] * length[k]), z = known.at(u, v);
            weights += w, sum += w * z, errors += w * known_sigma.at(u, v) * known_sigma.at(u, v);
            nearest = std::min(nearest, length[k]), low = std::min(low, z), high = std::max(high, z);
            break;
          }
        }
        // Around: nothing is open over half of the horizon.
        int open = 0, most = 0;
        for (std::size_t k = 0; k < 2 * kDirections; ++k) {
          open = length[k % kDirections] > 0 ? 0 : open + 1;
          most = std::max(most, open);
        }
        if (!(weights > 0) || most >= kDirections / 2) continue;
        const double z = sum / weights;
        all.heights.at(x, y) = static_cast<float>(z);
        // What lies around at other heights might go on in between.
        constexpr double kShare = 0.15;
        const double doubt = kShare * (high - low);
        all.sigma.at(x, y) = static_cast<float>(std::sqrt(errors / weights + doubt * doubt));
        distance.at(x, y) = static_cast<float>(nearest * cell);
        filled[static_cast<std::size_t>(y)].emplace_back(x, y);
      }
  });
  // Smooth from rim to rim.
  ImageF next = all.heights;
  for (int round = 0; round < kSmoothing; ++round) {
    executor.blocks(static_cast<std::size_t>(height), 16, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t row = begin; row < end; ++row)
        for (const auto& [x, y] : filled[row]) {
          float sum = 0;
          int count = 0;
          for (const auto& [u, v] : {std::pair(x - 1, y), {x + 1, y}, {x, y - 1}, {x, y + 1}})
            if (u >= 0 && v >= 0 && u < width && v < height && std::isfinite(all.heights.at(u, v)))
              sum += all.heights.at(u, v), ++count;
          if (count > 0) next.at(x, y) = sum / static_cast<float>(count);
        }
    });
    for (const auto& row : filled)
      for (const auto& [x, y] : row) all.heights.at(x, y) = next.at(x, y);
  }
  return window_of(area, whole, window, all, distance, 0);
}

HeightModel ground_heights(const PointCloud& points, const GroundBelow& ground, const GridFrame& whole,
                           const Window& window, double spacing, const HeightOptions& options,
                           const Executor& executor) {
  check(whole, window, spacing);
  const double cell = whole.cell, reach = reach_of(options, cell, spacing);
  constexpr int kFade = 12;  // cells over which what points say goes over into the ground below
  const int margin = static_cast<int>(std::ceil(reach)) + kFade + 2;
  const Area area(points, whole, window, margin, ground.height);
  const int width = area.width(), height = area.height();
  ImageF below(width, height), far(width, height);
  executor.blocks(static_cast<std::size_t>(height), 16, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
      for (int x = 0; x < width; ++x) {
        const Vector2d place = whole.middle(area.column() + x, area.row() + y);
        below.at(x, y) = static_cast<float>(ground.height(place));
        far.at(x, y) = static_cast<float>(ground.distance(place));
      }
  });
  Measured all = measure(area, reach, std::numeric_limits<double>::infinity(), executor);
  // What is measured is how far points are from the ground below. Elsewhere that fades.
  ImageF distance(width, height);
  const ImageF known = all.heights, known_sigma = all.sigma;
  executor.blocks(static_cast<std::size_t>(height), 4, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
      for (int x = 0; x < width; ++x) {
        if (std::isfinite(known.at(x, y))) {
          all.heights.at(x, y) += below.at(x, y);
          continue;
        }
        double weights = 0, sum = 0, errors = 0, nearest = std::numeric_limits<double>::infinity();
        double low = nearest, high = -low;
        for (const auto& [dx, dy] : directions()) {
          const double step = std::hypot(dx, dy);
          for (int s = 1; s <= kFade; ++s) {
            const int u = x + static_cast<int>(std::lround(s * dx)), v = y + static_cast<int>(std::lround(s * dy));
            if (u < 0 || v < 0 || u >= width || v >= height) break;
            if (!std::isfinite(known.at(u, v))) continue;
            const double length = s * step, w = 1 / (length * length);
            weights += w, sum += w * known.at(u, v);
            errors += w * known_sigma.at(u, v) * known_sigma.at(u, v);
            nearest = std::min(nearest, length);
            low = std::min<double>(low, known.at(u, v)), high = std::max<double>(high, known.at(u, v));
            break;
          }
        }
        const double seen = weights > 0 ? nearest * cell : std::max<double>(far.at(x, y), kFade * cell);
        if (seen > fill_of(options, cell) || !std::isfinite(below.at(x, y))) continue;
        const double fade = weights > 0 ? std::max(0.0, 1 - nearest / kFade) : 0;
        all.heights.at(x, y) = static_cast<float>(below.at(x, y) + (weights > 0 ? fade * sum / weights : 0));
        constexpr double kRise = 0.03;  // of the distance: how far ground may be from its smooth continuation
        // The rim says how well the surface below fits here: parts of what stands there may be taken for it.
        constexpr double kRim = 0.4;
        const double doubt = weights > 0 ? kRim * (high - low) : 0;
        const double own = weights > 0 ? errors / weights + doubt * doubt : 0;
        all.sigma.at(x, y) = static_cast<float>(std::sqrt(own + kRise * seen * kRise * seen));
        distance.at(x, y) = static_cast<float>(seen);
      }
  });
  return window_of(area, whole, window, all, distance, 0);
}

}  // namespace icefield
