#include "icefield/terrain/ground.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>
#include <tuple>

#include "icefield/base/error.h"
#include "src/terrain/plate.h"

namespace icefield {
namespace {

constexpr std::size_t kRows = 16;  // grain
constexpr float kFar = 1e9f;       // farther than anything is filled over

double tangent(double degrees) {
  return std::tan(degrees * std::numbers::pi / 180);
}

// A point, by its height above the raster's and its place in the cell, in steps of 1/256.
struct Low {
  float height = std::numeric_limits<float>::infinity();
  std::uint8_t x = 128, y = 128;
  bool there() const { return std::isfinite(height); }
  bool operator<(const Low& other) const { return std::tie(height, x, y) < std::tie(other.height, other.x, other.y); }
};

// The lowest points of a cell: strays lie alone below the others.
struct LowCell {
  Low first, second;
};

}  // namespace

struct GroundFinder::State {
  GroundOptions options;
  GroundSummary summary;
  GridFrame frame;
  double base = 0;  // heights in the rasters count from here
  std::vector<LowCell> cells;
  ImageF surface, distance;
  ImageU8 ground;

  int columns() const { return frame.columns; }
  int rows() const { return frame.rows; }
  LowCell& cell(int x, int y) { return cells[static_cast<std::size_t>(y) * static_cast<std::size_t>(columns()) + x]; }
  const LowCell& cell(int x, int y) const {
    return cells[static_cast<std::size_t>(y) * static_cast<std::size_t>(columns()) + x];
  }

  // Bilinear, of a raster whose cells are 2^level times as large; x and y in cells of the finest.
  static double value_at(const ImageF& raster, int level, double x, double y) {
    const double scale = 1.0 / (1 << level), u = x * scale - 0.5, v = y * scale - 0.5;
    const int x0 = std::clamp(static_cast<int>(std::floor(u)), 0, std::max(0, raster.width() - 2)),
              y0 = std::clamp(static_cast<int>(std::floor(v)), 0, std::max(0, raster.height() - 2));
    const int x1 = std::min(x0 + 1, raster.width() - 1), y1 = std::min(y0 + 1, raster.height() - 1);
    // Goes on beyond the middles of the outermost cells.
    const double a = std::clamp(u - x0, -0.5, 1.5), b = std::clamp(v - y0, -0.5, 1.5);
    const double upper = raster.at(x0, y0) + a * (raster.at(x1, y0) - raster.at(x0, y0)),
                 lower = raster.at(x0, y1) + a * (raster.at(x1, y1) - raster.at(x0, y1));
    return upper + b * (lower - upper);
  }

  // Strays below: far under the middle of what is around, with next to nothing at their own height.
  void drop_strays(const Executor& executor) {
    constexpr int kReach = 3, kLeast = 3;
    const double rise = tangent(60);
    const auto far = static_cast<float>((kReach + 0.5) * frame.cell * rise + 3 * summary.step),
               near = static_cast<float>(2.5 * frame.cell * rise + summary.step);
    std::vector<std::uint8_t> drop(cells.size(), 0);
    executor.blocks(static_cast<std::size_t>(rows()), kRows, [&](std::size_t, std::size_t begin, std::size_t end) {
      std::vector<float> around;
      for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
        for (int x = 0; x < columns(); ++x) {
          const LowCell& here = cell(x, y);
          if (!here.first.there()) continue;
          around.clear();
          for (int dy = -kReach; dy <= kReach; ++dy)
            for (int dx = -kReach; dx <= kReach; ++dx)
              if (x + dx >= 0 && y + dy >= 0 && x + dx < columns() && y + dy < rows() && (dx != 0 || dy != 0) &&
                  cell(x + dx, y + dy).first.there())
                around.push_back(cell(x + dx, y + dy).first.height);
          if (around.size() < kLeast) continue;
          const auto middle = around.begin() + static_cast<std::ptrdiff_t>(around.size() / 2);
          std::nth_element(around.begin(), middle, around.end());
          const auto stray = [&](const Low& low) {
            return low.height < *middle - far && std::count_if(around.begin(), around.end(), [&](float z) {
                                                   return std::abs(z - low.height) < near;
                                                 }) < kLeast;
          };
          if (stray(here.first))
            drop[static_cast<std::size_t>(y) * columns() + x] = here.second.there() && !stray(here.second) ? 1 : 2;
        }
    });
    for (std::size_t i = 0; i < cells.size(); ++i) {
      if (drop[i] == 1) cells[i].first = cells[i].second;
      if (drop[i] == 2) cells[i].first = {};
    }
  }

  // Cells from which the border can be reached without passing close to one that was seen.
  ImageU8 outside() const {
    constexpr int kClose = 2;
    ImageU8 closed(columns(), rows()), found(columns(), rows());
    for (int y = 0; y < rows(); ++y)
      for (int x = 0; x < columns(); ++x) {
        if (!cell(x, y).first.there()) continue;
        for (int v = std::max(0, y - kClose); v <= std::min(rows() - 1, y + kClose); ++v)
          for (int u = std::max(0, x - kClose); u <= std::min(columns() - 1, x + kClose); ++u) closed.at(u, v) = 1;
      }
    std::vector<std::pair<int, int>> open;
    const auto reach = [&](int x, int y) {
      if (x < 0 || y < 0 || x >= columns() || y >= rows() || closed.at(x, y) || found.at(x, y)) return;
      found.at(x, y) = 1;
      open.emplace_back(x, y);
    };
    for (int x = 0; x < columns(); ++x) reach(x, 0), reach(x, rows() - 1);
    for (int y = 0; y < rows(); ++y) reach(0, y), reach(columns() - 1, y);
    while (!open.empty()) {
      const auto [x, y] = open.back();
      open.pop_back();
      reach(x - 1, y), reach(x + 1, y), reach(x, y - 1), reach(x, y + 1);
    }
    return found;
  }

  // In each block of 2^level cells each way the cell that lies lowest above the surface.
  struct Candidates {
    ImageF rise, seen;  // above the surface; 1 where the block holds anything
  };
  Candidates lowest_above(const ImageF& over, int over_level, int level, const Executor& executor) const {
    const int side = 1 << level, width = (columns() + side - 1) / side, height = (rows() + side - 1) / side;
    Candidates found{ImageF(width, height), ImageF(width, height)};
    executor.blocks(static_cast<std::size_t>(height), 1, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (int by = static_cast<int>(begin); by < static_cast<int>(end); ++by)
        for (int bx = 0; bx < width; ++bx) {
          double least = std::numeric_limits<double>::infinity();
          for (int y = by * side; y < std::min(rows(), (by + 1) * side); ++y)
            for (int x = bx * side; x < std::min(columns(), (bx + 1) * side); ++x) {
              const Low& low = cell(x, y).first;
              if (!low.there()) continue;
              const double at = value_at(over, over_level, x + (low.x + 0.5) / 256, y + (low.y + 0.5) / 256);
              least = std::min(least, low.height - at);
            }
          if (!std::isfinite(least)) continue;
          found.rise.at(bx, by) = static_cast<float>(least), found.seen.at(bx, by) = 1;
        }
    });
    return found;
  }

  // The surface through what lies low enough above it, until nothing more does.
  void settle(ImageF& over, int level, double limit, double coarse_limit, const Executor& executor, Monitor& monitor,
              ImageF* kept) {
    constexpr int kRounds = 6, kSteps = 24;
    constexpr float kDrawn = 4;  // against bending
    ImageF weights;
    for (int round = 0; round < kRounds; ++round) {
      monitor.check();
      const Candidates found = lowest_above(over, level, level, executor);
      const double most = round == 0 ? std::max(limit, coarse_limit) : limit;
      ImageF wanted(over.width(), over.height()), now(over.width(), over.height());
      std::size_t changed = 0;
      for (std::size_t i = 0; i < wanted.data().size(); ++i) {
        const float rise = found.rise.data()[i];
        now.data()[i] = found.seen.data()[i] > 0 && rise <= most ? kDrawn : 0;
        wanted.data()[i] = over.data()[i] + rise;
        changed += round == 0 || now.data()[i] != weights.data()[i];
      }
      if (changed == 0) break;
      weights = std::move(now);
      bend_plate(over, wanted, weights, kSteps, executor, monitor);
    }
    if (kept) *kept = std::move(weights);
  }
};

GroundFinder::GroundFinder(const Eigen::Vector3d& low, const Eigen::Vector3d& high, double spacing,
                           const GroundOptions& options)
    : state_(std::make_unique<State>()) {
  State& s = *state_;
  if (!(spacing > 0) || !(options.widest > 0) || !(options.bend_deg > 0) || !(options.bend_deg < 90) ||
      !(options.step >= 0) || !(options.cell >= 0))
    throw Error(ErrorKind::usage, "ground", "is asked for with a size that is not above 0",
                "leave the settings of terrain at their defaults");
  s.options = options;
  s.summary.spacing = spacing;
  s.summary.cell = options.cell > 0 ? options.cell : 4 * spacing;
  s.summary.step = options.step > 0 ? options.step : 2 * spacing;
  s.frame = grid_over(low.head<2>(), high.head<2>(), s.summary.cell, 4e8);
  s.base = std::floor(low.z());
  s.cells.resize(s.frame.cells());
  s.summary.cells = s.cells.size();
}

GroundFinder::~GroundFinder() = default;
GroundFinder::GroundFinder(GroundFinder&&) noexcept = default;

void GroundFinder::add(const PointCloud& part) {
  State& s = *state_;
  for (std::size_t i = 0; i < part.size(); ++i) {
    if (!part.positions[i].allFinite()) continue;
    const Eigen::Vector3d p = part.position(i);
    const Eigen::Vector2d at = s.frame.at(p.head<2>());
    const int x = static_cast<int>(std::floor(at.x())), y = static_cast<int>(std::floor(at.y()));
    if (x < 0 || y < 0 || x >= s.columns() || y >= s.rows()) continue;
    ++s.summary.points;
    Low low;
    low.height = static_cast<float>(p.z() - s.base);
    low.x = static_cast<std::uint8_t>(std::clamp(256 * (at.x() - x), 0.0, 255.0));
    low.y = static_cast<std::uint8_t>(std::clamp(256 * (at.y() - y), 0.0, 255.0));
    LowCell& cell = s.cell(x, y);
    if (low < cell.first)
      cell.second = cell.first, cell.first = low;
    else if (low < cell.second)
      cell.second = low;
  }
}

void GroundFinder::solve(const Executor& executor, Monitor& monitor) {
  State& s = *state_;
  s.drop_strays(executor);
  for (const LowCell& cell : s.cells) s.summary.seen_cells += cell.first.there();
  if (s.summary.seen_cells == 0) {
    s.summary.outcome = "the cloud has no point within the area";
    s.surface = ImageF(s.columns(), s.rows()), s.ground = ImageU8(s.columns(), s.rows());
    s.distance = distances_to(s.ground, executor);
    return;
  }
  int top = 0;
  while (s.frame.cell * (1 << top) < s.options.widest && (1 << top) < std::max(s.columns(), s.rows())) ++top;
  s.summary.levels = top + 1;
  // First the lowest places of the coarsest blocks, as they are.
  const int side = 1 << top;
  ImageF over((s.columns() + side - 1) / side, (s.rows() + side - 1) / side);
  {
    const State::Candidates found = s.lowest_above(over, top, top, executor);
    ImageU8 known(over.width(), over.height());
    for (std::size_t i = 0; i < known.data().size(); ++i) {
      known.data()[i] = found.seen.data()[i] > 0;
      over.data()[i] = found.rise.data()[i];
    }
    fill_by_plate(over, known, executor, monitor);
  }
  const double bend = tangent(s.options.bend_deg);
  ImageF kept;
  for (int level = top; level >= 0; --level) {
    monitor.progress("ground", static_cast<std::size_t>(top - level), static_cast<std::size_t>(top + 1));
    const int scale = 1 << level;
    if (level < top)
      over = twice_as_fine(over, (s.columns() + scale - 1) / scale, (s.rows() + scale - 1) / scale, executor);
    const double size = s.frame.cell * scale;
    // At the coarsest nearly all is taken once, since nothing is known yet.
    s.settle(over, level, s.summary.step + 0.5 * size * bend, level == top ? size : 0, executor, monitor,
             level == 0 ? &kept : nullptr);
  }
  monitor.progress("ground", static_cast<std::size_t>(top + 1), static_cast<std::size_t>(top + 1));
  s.ground = ImageU8(s.columns(), s.rows());
  for (std::size_t i = 0; i < s.ground.data().size(); ++i) {
    s.ground.data()[i] = kept.data()[i] > 0;
    s.summary.ground_cells += s.ground.data()[i];
  }
  s.distance = distances_to(s.ground, executor);
  const ImageU8 outside = s.outside();
  for (std::size_t i = 0; i < outside.data().size(); ++i)
    if (outside.data()[i]) s.distance.values()[i] = kFar;
  s.surface = std::move(over);
  s.cells = {};
  s.summary.outcome = "found";
}

void GroundFinder::classify(PointCloud& part, const Executor& executor) const {
  const State& s = *state_;
  part.classes.assign(part.size(), static_cast<std::uint8_t>(PointClass::never));
  part.class_confidence.assign(part.size(), 0);
  if (s.summary.outcome != "found") return;
  const double upper = s.summary.step, lower = 2 * s.summary.step + s.frame.cell;
  executor.blocks(part.size(), 4096, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i) {
      if (!part.positions[i].allFinite()) continue;
      const double rise = part.position(i).z() - height_at(part.position(i).head<2>());
      PointClass of = PointClass::other;
      double sure = 0;
      if (rise > upper) {
        sure = 0.5 + 0.5 * std::min(1.0, (rise - upper) / (3 * upper));
      } else if (rise < -lower) {
        of = PointClass::noise;
        sure = 0.5 + 0.5 * std::min(1.0, (-rise - lower) / (3 * lower));
      } else {
        of = PointClass::ground;
        sure = 1 - 0.5 * std::max(0.0, rise) / upper;
      }
      part.classes[i] = static_cast<std::uint8_t>(of);
      part.class_confidence[i] = static_cast<std::uint8_t>(std::lround(100 * sure));
    }
  });
}

const GroundSummary& GroundFinder::summary() const {
  return state_->summary;
}
const GridFrame& GroundFinder::grid() const {
  return state_->frame;
}
const ImageF& GroundFinder::surface() const {
  return state_->surface;
}
const ImageU8& GroundFinder::is_ground() const {
  return state_->ground;
}
double GroundFinder::distance_at(const Eigen::Vector2d& place) const {
  const State& s = *state_;
  const Eigen::Vector2d at = s.frame.at(place);
  return s.frame.cell * State::value_at(s.distance, 0, at.x(), at.y());
}
double GroundFinder::height_at(const Eigen::Vector2d& place) const {
  const State& s = *state_;
  const Eigen::Vector2d at = s.frame.at(place);
  return s.base + State::value_at(s.surface, 0, at.x(), at.y());
}

}  // namespace icefield
