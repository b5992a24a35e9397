#include "icefield/terrain/ground.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>
#include <tuple>

#include "icefield/base/error.h"
#include "icefield/block/bounds.h"
#include "src/terrain/fine_cells.h"
#include "src/terrain/ground_colour.h"
#include "src/terrain/plate.h"
#include "src/terrain/roofs.h"

namespace icefield {
namespace {

constexpr std::size_t kRows = 16;  // grain
constexpr float kFar = 1e9f;       // farther than anything is filled over
constexpr float kDrawn = 4;        // of the surface to points, against bending
constexpr int kSteps = 24;         // towards the surface between two looks at what is of it
constexpr int kFine = 2;           // cells of the fine raster in one of the other, each way

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
  FineCells fine;
  GroundColour colour;
  ImageU8 hints;    // by cell: 1 ground, 2 not; empty without hints
  ImageU8 covered;  // by fine cell: of another colour than the ground and not level with it; empty: none
  ImageU8 roofs;    // by fine cell, as find_roofs

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

  std::uint8_t hint(int x, int y) const { return hints.width() > 0 ? hints.at(x, y) : std::uint8_t{0}; }
  void take_hints() {
    if (options.ground_within.empty() && options.other_within.empty()) return;
    hints = ImageU8(columns(), rows());
    for (const auto& [outlines, value] : {std::pair(&options.ground_within, 1), {&options.other_within, 2}})
      for (const auto& outline : *outlines)
        for (int y = 0; y < rows(); ++y)
          for (int x = 0; x < columns(); ++x)
            if (within_outline(frame.middle(x, y), outline)) hints.at(x, y) = static_cast<std::uint8_t>(value);
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
              if (!low.there() || hint(x, y) == 2) continue;
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
    constexpr int kRounds = 6;
    ImageF weights;
    for (int round = 0; round < kRounds; ++round) {
      monitor.check();
      const Candidates found = lowest_above(over, level, level, executor);
      const double most = round == 0 ? std::max(limit, coarse_limit) : limit;
      ImageF wanted(over.width(), over.height()), now(over.width(), over.height());
      std::size_t changed = 0;
      for (std::size_t i = 0; i < wanted.data().size(); ++i) {
        const float rise = found.rise.data()[i];
        const bool told = level == 0 && hints.width() > 0 && hints.data()[i] == 1;
        now.data()[i] = found.seen.data()[i] > 0 && (rise <= most || told) ? kDrawn : 0;
        wanted.data()[i] = over.data()[i] + rise;
        changed += round == 0 || now.data()[i] != weights.data()[i];
      }
      if (changed == 0) break;
      weights = std::move(now);
      bend_plate(over, wanted, weights, kSteps, executor, monitor);
    }
    if (kept) *kept = std::move(weights);
  }

  double surface_at(double fine_x, double fine_y) const {
    return value_at(surface, 0, (fine_x + 0.5) / kFine, (fine_y + 0.5) / kFine);
  }

  // The surface through the ground alone where `apart` (fine cells) is left out of it; what cells are still of it.
  ImageF surface_without(const ImageU8& apart, const Executor& executor, Monitor& monitor, ImageU8& still) const {
    ImageF wanted = surface, weights(columns(), rows());
    still = ImageU8(columns(), rows());
    const auto apart_at = [&](int x, int y) {
      return x >= 0 && y >= 0 && x < apart.width() && y < apart.height() && apart.at(x, y);
    };
    executor.blocks(static_cast<std::size_t>(rows()), kRows, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
        for (int x = 0; x < columns(); ++x) {
          if (!ground.at(x, y)) continue;
          const Low& low = cell(x, y).first;
          bool touched = false;
          for (int v = -1; v <= kFine; ++v)
            for (int u = -1; u <= kFine; ++u) touched = touched || apart_at(kFine * x + u, kFine * y + v);
          double rise = std::numeric_limits<double>::infinity();
          if (!touched) {
            rise = low.height - value_at(surface, 0, x + (low.x + 0.5) / 256, y + (low.y + 0.5) / 256);
          } else {
            // What is left of it: the lowest of its fine cells that are like the ground.
            for (int v = 0; v < kFine; ++v)
              for (int u = 0; u < kFine; ++u) {
                const FineCell* f = fine.at(kFine * x + u, kFine * y + v);
                if (f && !apart.at(kFine * x + u, kFine * y + v))
                  rise = std::min(rise, f->low - surface_at(kFine * x + u, kFine * y + v));
              }
            if (!(rise < summary.step)) continue;
          }
          wanted.at(x, y) += static_cast<float>(rise);
          weights.at(x, y) = kDrawn, still.at(x, y) = 1;
        }
    });
    ImageF over = wanted;
    fill_by_plate(over, still, executor, monitor);
    bend_plate(over, wanted, weights, kSteps, executor, monitor);
    return over;
  }

  // Things low enough to pass for ground: they have another colour than the ground around, and where the surface is
  // carried on from there they stand above it.
  void look_at_colour(const Executor& executor, Monitor& monitor) {
    const int width = fine.frame().columns, height = fine.frame().rows;
    const auto each = [&](const auto& visit) {
      executor.blocks(static_cast<std::size_t>(height), kRows, [&](std::size_t, std::size_t begin, std::size_t end) {
        for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
          for (int x = 0; x < width; ++x) visit(x, y);
      });
    };
    const auto fine_ground = [&] {
      ImageU8 is(width, height);
      each([&](int x, int y) {
        const FineCell* f = ground.at(x / kFine, y / kFine) ? fine.at(x, y) : nullptr;
        is.at(x, y) = f && f->low - surface_at(x, y) < summary.step;
      });
      return is;
    };
    ImageU8 of_ground = fine_ground();
    const int side = std::max(4, static_cast<int>(std::lround(0.5 * options.widest / fine.frame().cell)));
    colour = GroundColour(fine, of_ground, side, executor);
    if (!options.by_colour) return;
    ImageU8 unlike(width, height);
    each([&](int x, int y) {
      const FineCell* f = fine.at(x, y);
      if (!f || f->points == 0 || hint(x / kFine, y / kFine) == 1) return;
      const auto c = f->colour();
      unlike.at(x, y) = colour.is_unlike(Tint::of(c[0], c[1], c[2]), x, y);
    });
    // Single cells say nothing.
    ImageU8 apart(width, height), like(width, height);
    each([&](int x, int y) {
      if (!unlike.at(x, y)) return;
      int around = 0;
      for (int v = std::max(0, y - 1); v <= std::min(height - 1, y + 1); ++v)
        for (int u = std::max(0, x - 1); u <= std::min(width - 1, x + 1); ++u) around += unlike.at(u, v);
      apart.at(x, y) = around >= 4;
    });
    each([&](int x, int y) { like.at(x, y) = of_ground.at(x, y) && !apart.at(x, y); });
    // What is wide is judged at its rim alone: the surface cannot be carried on as far as its middle.
    ImageF away = distances_to(like, executor);
    const auto most = static_cast<float>(0.25 * options.widest / fine.frame().cell);
    each([&](int x, int y) {
      if (away.at(x, y) > most) apart.at(x, y) = 0;
    });
    ImageU8 still;
    const ImageF carried = surface_without(apart, executor, monitor, still);
    // Of each cell's surroundings of its own kind a good part has to stand above what it may.
    constexpr int kAround = 3;
    constexpr double kShare = 0.3;
    const double bend = tangent(options.bend_deg);
    ImageU8 above(width, height);
    each([&](int x, int y) {
      const FineCell* f = apart.at(x, y) ? fine.at(x, y) : nullptr;
      if (!f) return;
      const double may = 0.5 * summary.step + 0.25 * bend * away.at(x, y) * fine.frame().cell;
      const double at = value_at(carried, 0, (x + 0.5) / kFine, (y + 0.5) / kFine);
      above.at(x, y) = f->low - at > may;
    });
    covered = ImageU8(width, height);
    each([&](int x, int y) {
      if (!apart.at(x, y)) return;
      int all = 0, over = 0;
      for (int v = std::max(0, y - kAround); v <= std::min(height - 1, y + kAround); ++v)
        for (int u = std::max(0, x - kAround); u <= std::min(width - 1, x + kAround); ++u)
          all += apart.at(u, v), over += above.at(u, v);
      covered.at(x, y) = over > kShare * all;
    });
    bool any = false;
    for (std::size_t i = 0; i < covered.data().size() && !any; ++i) any = covered.data()[i];
    if (!any) {
      covered = {};
      return;
    }
    surface = surface_without(covered, executor, monitor, still);
    for (std::size_t i = 0; i < ground.data().size(); ++i)
      summary.cells_by_colour += ground.data()[i] && !still.data()[i];
    ground = std::move(still);
    colour = GroundColour(fine, fine_ground(), side, executor);
  }

  void look_for_roofs(const Executor& executor) {
    RoofOptions how;
    how.flat = 0.6 * summary.spacing;
    how.area = options.widest * options.widest / 100;
    roofs = find_roofs(
        fine,
        [&](int x, int y) {
          const FineCell* f = fine.at(x, y);
          if (!f || f->high - surface_at(x, y) < 2 * summary.step) return false;
          if (f->points == 0) return true;
          const auto c = f->colour();
          return !colour.is_green(Tint::of(c[0], c[1], c[2]), x, y);
        },
        how, executor);
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
  GridFrame fine = s.frame;
  fine.cell /= kFine, fine.columns *= kFine, fine.rows *= kFine;
  s.fine = FineCells(fine);
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
    const Eigen::Vector2d in_fine = s.fine.frame().at(p.head<2>());
    s.fine.add(std::clamp(static_cast<int>(std::floor(in_fine.x())), kFine * x, kFine * x + kFine - 1),
               std::clamp(static_cast<int>(std::floor(in_fine.y())), kFine * y, kFine * y + kFine - 1),
               static_cast<float>(p.z() - s.base), part.colours.empty() ? nullptr : &part.colours[i]);
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
  s.take_hints();
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
  for (std::size_t i = 0; i < s.ground.data().size(); ++i) s.ground.data()[i] = kept.data()[i] > 0;
  s.surface = std::move(over);
  if (s.fine.coloured()) s.look_at_colour(executor, monitor);
  s.look_for_roofs(executor);
  for (const std::uint8_t is : s.ground.data()) s.summary.ground_cells += is;
  s.distance = distances_to(s.ground, executor);
  const ImageU8 outside = s.outside();
  for (std::size_t i = 0; i < outside.data().size(); ++i)
    if (outside.data()[i]) s.distance.values()[i] = kFar;
  s.cells = {};
  s.summary.outcome = "found";
}

void GroundFinder::classify(PointCloud& part, const Executor& executor) const {
  const State& s = *state_;
  part.classes.assign(part.size(), static_cast<std::uint8_t>(PointClass::never));
  part.class_confidence.assign(part.size(), 0);
  if (s.summary.outcome != "found") return;
  const double upper = s.summary.step, lower = 2 * s.summary.step + s.frame.cell;
  const double low_plants = s.options.widest / 40, medium_plants = s.options.widest / 10;
  executor.blocks(part.size(), 4096, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i) {
      if (!part.positions[i].allFinite()) continue;
      const Eigen::Vector3d p = part.position(i);
      const double rise = p.z() - height_at(p.head<2>());
      const Eigen::Vector2d at = s.fine.frame().at(p.head<2>());
      const int x = std::clamp(static_cast<int>(std::floor(at.x())), 0, s.fine.frame().columns - 1),
                y = std::clamp(static_cast<int>(std::floor(at.y())), 0, s.fine.frame().rows - 1);
      const FineCell* cell = s.fine.at(x, y);
      // A point's own colour is noisy: half of it, half that of its surroundings.
      Tint tint;
      if (!part.colours.empty()) {
        const auto& c = part.colours[i];
        tint = Tint::of(c[0], c[1], c[2]);
        if (cell && cell->points > 0) {
          const auto around = cell->colour();
          tint = Tint::of(0.5f * (c[0] + around[0]), 0.5f * (c[1] + around[1]), 0.5f * (c[2] + around[2]));
        }
      }
      const std::uint8_t hint = s.hint(x / kFine, y / kFine);
      PointClass of = PointClass::other;
      double sure = 0;
      const bool of_cover = s.covered.width() > 0 && s.covered.at(x, y) && s.colour.is_unlike(tint, x, y);
      if (rise < -lower) {
        of = PointClass::noise;
        sure = 0.5 + 0.5 * std::min(1.0, (-rise - lower) / (3 * lower));
      } else if (rise <= upper && !of_cover && hint != 2) {
        of = PointClass::ground;
        sure = 1 - 0.5 * std::max(0.0, rise) / upper;
      } else {
        sure = rise > upper ? 0.5 + 0.5 * std::min(1.0, (rise - upper) / (3 * upper)) : 0.6;
        if (!part.colours.empty() && s.colour.is_green(tint, x, y)) {
          of = rise < low_plants      ? PointClass::low_vegetation
               : rise < medium_plants ? PointClass::medium_vegetation
                                      : PointClass::high_vegetation;
        } else if (s.roofs.at(x, y)) {
          of = PointClass::building;
          sure = std::min(sure, s.roofs.at(x, y) / 100.0);
        }
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
