#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include "src/surface/expand_label.h"
#include "src/terrain/seam_grid.h"
#include "src/terrain/simplify_line.h"

namespace icefield {

using Eigen::Vector2d;
using Eigen::Vector3f;

namespace {

constexpr double kUnit = 1000;  // costs are whole numbers of 1 / kUnit

// What each cell loses beside its best photo, and what seams cost.
class PhotoChoice {
 public:
  PhotoChoice(SeamGrid& grid, const PhotoLevels& levels, const Block& block, const OrthomosaicOptions& options)
      : grid_(grid), options_(options), loss_(grid.views.size()), colours_(grid.views.size()) {
    const std::size_t cells = grid.starts.size() - 1;
    grid.choice.assign(cells, kNoPhoto);
    for (std::size_t c = 0; c < cells; ++c) {
      double best = 0;
      for (const CellView& v : grid.of(c)) best = std::max(best, static_cast<double>(v.worth));
      std::int64_t least = 0;
      for (std::size_t i = grid.starts[c]; i < grid.starts[c + 1]; ++i) {
        const CellView& v = grid.views[i];
        colours_[i] = v.colour.cwiseProduct(
            levels.factor(v.photo, block.photos[v.photo].camera.value, static_cast<double>(v.radius)));
        // Roofs shine: what moves over them is rare, and one photo for all of a roof is worth more.
        constexpr double kMostLost = 3, kApart = 6, kApartRaised = 0.5;
        // Detail that is lost, and errors of height, which move a cell by the slant times themselves.
        const double lost =
            std::clamp(0.5 * std::log(best / std::max(1e-12, static_cast<double>(v.worth))), 0.0, kMostLost) + v.slant;
        loss_[i] = std::llround(kUnit * (lost + (v.apart ? (grid.raised.data()[c] ? kApartRaised : kApart) : 0)));
        if (grid.choice[c] == kNoPhoto || loss_[i] < least) grid.choice[c] = v.photo, least = loss_[i];
      }
    }
  }

  void run(std::size_t photos, Monitor& monitor) {
    std::vector<std::vector<std::uint32_t>> seen_by(photos);
    for (std::uint32_t c = 0; c < grid_.choice.size(); ++c)
      for (const CellView& v : grid_.of(c)) seen_by[v.photo].push_back(c);
    constexpr std::size_t kSweeps = 2;
    expand_labels(*this, seen_by, kSweeps, monitor);
  }

  // The problem, for expand_label.
  std::vector<std::uint32_t>& choice() { return grid_.choice; }
  std::int64_t loss(std::uint32_t cell, std::uint32_t photo) const {
    const std::size_t i = find(cell, photo);
    return i == kNone ? 0 : loss_[i];
  }
  template <class Visit>
  void around(std::uint32_t cell, const Visit& visit) const {
    const auto columns = static_cast<std::uint32_t>(grid_.frame.columns);
    const std::uint32_t x = cell % columns, y = cell / columns;
    const auto to = [&](std::uint32_t other) {
      if (grid_.starts[other] == grid_.starts[other + 1]) return;
      // Whole roofs of one photo are worth a long way around.
      constexpr double kRaised = 40;
      const bool raised = grid_.raised.data()[cell] && grid_.raised.data()[other];
      visit(other, static_cast<float>(options_.seam_cost * (raised ? kRaised : 1)));
    };
    if (x > 0) to(cell - 1);
    if (x + 1 < columns) to(cell + 1);
    if (y > 0) to(cell - columns);
    if (y + 1 < static_cast<std::uint32_t>(grid_.frame.rows)) to(cell + columns);
  }
  std::int64_t seam(std::uint32_t c, std::uint32_t d, float weight, std::uint32_t of_c, std::uint32_t of_d) const {
    if (of_c == of_d) return 0;
    constexpr double kAny = 0.3, kApart = 3;  // where both photos agree; where they do not at all (bench/terrain_study)
    return std::llround(kUnit * weight * (kAny + 0.5 * kApart * (apart(c, of_c, of_d) + apart(d, of_c, of_d))));
  }

 private:
  static constexpr std::size_t kNone = static_cast<std::size_t>(-1);
  std::size_t find(std::uint32_t cell, std::uint32_t photo) const {
    for (std::size_t i = grid_.starts[cell]; i < grid_.starts[cell + 1]; ++i)
      if (grid_.views[i].photo == photo) return i;
    return kNone;
  }
  // Between 0 and 1: how far two photos are apart in what they say of a cell. A metric.
  double apart(std::uint32_t cell, std::uint32_t a, std::uint32_t b) const {
    const std::size_t u = find(cell, a), v = find(cell, b);
    constexpr double kWhole = 24;  // of 255
    return u != kNone && v != kNone
               ? std::min(1.0, static_cast<double>((colours_[u] - colours_[v]).cwiseAbs().mean()) / kWhole)
               : 1.0;
  }

  SeamGrid& grid_;
  const OrthomosaicOptions& options_;
  std::vector<std::int64_t> loss_;
  std::vector<Vector3f> colours_;  // levelled
};

// Sides between cells of unlike photos, as a graph of corners.
class SeamTracer {
 public:
  explicit SeamTracer(const SeamGrid& grid) : grid_(grid) {}

  std::vector<SeamLine> run(OrthomosaicSummary& summary) {
    const int columns = grid_.frame.columns, rows = grid_.frame.rows;
    for (int y = 0; y < rows; ++y)
      for (int x = 0; x < columns; ++x) {
        if (x + 1 < columns) note(x, y, x + 1, y, corner(x + 1, y), corner(x + 1, y + 1), summary);
        if (y + 1 < rows) note(x, y, x, y + 1, corner(x, y + 1), corner(x + 1, y + 1), summary);
      }
    std::vector<SeamLine> lines;
    for (const auto& [at, ways] : ways_)
      if (ways.size() != 2)
        for (const std::uint64_t to : ways) follow(at, to, lines);
    for (const auto& [at, ways] : ways_)
      for (const std::uint64_t to : ways) follow(at, to, lines);
    return lines;
  }

 private:
  std::uint64_t corner(int x, int y) const {
    return static_cast<std::uint64_t>(y) * static_cast<std::uint64_t>(grid_.frame.columns + 1) +
           static_cast<std::uint64_t>(x);
  }
  Vector2d place(std::uint64_t corner) const {
    const auto across = static_cast<std::uint64_t>(grid_.frame.columns + 1);
    return grid_.frame.corner +
           grid_.frame.cell * Vector2d(static_cast<double>(corner % across), -static_cast<double>(corner / across));
  }
  std::size_t index(int x, int y) const {
    return static_cast<std::size_t>(y) * static_cast<std::size_t>(grid_.frame.columns) + static_cast<std::size_t>(x);
  }
  void note(int x, int y, int u, int v, std::uint64_t a, std::uint64_t b, OrthomosaicSummary& summary) {
    const std::uint32_t here = grid_.choice[index(x, y)], there = grid_.choice[index(u, v)];
    if (here == there || here == kNoPhoto || there == kNoPhoto) return;
    ways_[a].push_back(b), ways_[b].push_back(a);
    summary.seam_length += grid_.frame.cell;
    if (grid_.raised.at(x, y) && grid_.raised.at(u, v)) summary.seam_length_raised += grid_.frame.cell;
  }
  void follow(std::uint64_t from, std::uint64_t to, std::vector<SeamLine>& lines) {
    if (!used_.insert(std::minmax(from, to)).second) return;
    SeamLine line;
    std::tie(line.left, line.right) = beside(from, to);
    line.places = {place(from), place(to)};
    std::uint64_t before = from, at = to;
    while (at != from && ways_.at(at).size() == 2) {
      const auto& ways = ways_.at(at);
      const std::uint64_t next = ways[0] == before ? ways[1] : ways[0];
      if (!used_.insert(std::minmax(at, next)).second) break;
      before = at, at = next;
      if (at != from) line.places.push_back(place(at));
    }
    line.closed = at == from && line.places.size() > 2;
    if (at == from && !line.closed) line.places.push_back(place(from));
    constexpr double kStairs = 0.75;  // cells
    line.places = simplify_line(line.places, line.closed, kStairs * grid_.frame.cell);
    lines.push_back(std::move(line));
  }
  // Photos on both sides of the way between two corners.
  std::pair<std::uint32_t, std::uint32_t> beside(std::uint64_t from, std::uint64_t to) const {
    const auto across = static_cast<std::uint64_t>(grid_.frame.columns + 1);
    const auto [low, high] = std::minmax(from, to);
    const int x = static_cast<int>(low % across), y = static_cast<int>(low / across);
    const bool down = high - low > 1;
    // Down the rows: the cell to the east is on the left.
    std::uint32_t left = down ? grid_.choice[index(x, y)] : grid_.choice[index(x, y - 1)],
                  right = down ? grid_.choice[index(x - 1, y)] : grid_.choice[index(x, y)];
    if (from > to) std::swap(left, right);
    return {left, right};
  }

  const SeamGrid& grid_;
  std::map<std::uint64_t, std::vector<std::uint64_t>> ways_;
  std::set<std::pair<std::uint64_t, std::uint64_t>> used_;
};

}  // namespace

void choose_photos(SeamGrid& grid, const PhotoLevels& levels, const Block& block, const OrthomosaicOptions& options,
                   Monitor& monitor) {
  PhotoChoice(grid, levels, block, options).run(block.photos.size(), monitor);
}

std::vector<SeamLine> seam_lines(const SeamGrid& grid, OrthomosaicSummary& summary) {
  summary.seam_length = summary.seam_length_raised = 0;
  std::vector<SeamLine> lines = SeamTracer(grid).run(summary);
  summary.seams = lines.size();
  return lines;
}

}  // namespace icefield
