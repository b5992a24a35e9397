#include "src/surface/pack_shapes.h"

#include <algorithm>
#include <array>
#include <bit>
#include <map>
#include <numeric>
#include <optional>

namespace icefield {
namespace {

struct Run {
  int begin, length;
};

std::vector<std::vector<Run>> runs_of(const CellShape& shape) {
  std::vector<std::vector<Run>> rows(static_cast<std::size_t>(shape.height));
  for (int y = 0; y < shape.height; ++y)
    for (int x = 0; x < shape.width;) {
      if (!shape.at(x, y)) {
        ++x;
        continue;
      }
      const int begin = x;
      while (x < shape.width && shape.at(x, y)) ++x;
      rows[static_cast<std::size_t>(y)].push_back({begin, x - begin});
    }
  return rows;
}

// One page: which cells are taken.
class CellPage {
 public:
  explicit CellPage(int side) : side_(side), taken_(side, side), blocked_(taken_.words), spread_(taken_.words) {}

  // The first place, row by row from `from` on, whose row lies above `below`.
  std::optional<std::pair<int, int>> find(const CellShape& shape, const std::vector<std::vector<Run>>& runs, int from,
                                          int below) {
    for (int y = from; y + shape.height <= side_ && y < below; ++y)
      if (const int x = free_in(shape, runs, y); x >= 0) return std::pair(x, y);
    return std::nullopt;
  }
  void take(const std::vector<std::vector<Run>>& runs, int x, int y) {
    for (std::size_t r = 0; r < runs.size(); ++r)
      for (const Run& run : runs[r])
        for (int i = 0; i < run.length; ++i) taken_.set(x + run.begin + i, y + static_cast<int>(r));
  }

 private:
  // Bits come to places `by` lower.
  void shift_down(const std::uint64_t* in, int by, std::vector<std::uint64_t>& out) const {
    const std::size_t whole = static_cast<std::size_t>(by) / 64, n = out.size();
    const int rest = by % 64;
    for (std::size_t w = 0; w < n; ++w) {
      const std::uint64_t low = w + whole < n ? in[w + whole] : 0, high = w + whole + 1 < n ? in[w + whole + 1] : 0;
      out[w] = rest == 0 ? low : low >> rest | high << (64 - rest);
    }
  }
  // All columns at once: where a shape whose upper row is y would meet what is taken. The first that is free, or -1.
  int free_in(const CellShape& shape, const std::vector<std::vector<Run>>& runs, int y) {
    std::fill(blocked_.begin(), blocked_.end(), 0);
    const int last = side_ - shape.width;  // the last column that it fits in
    for (int x = last + 1; x < side_; ++x) {
      if (x % 64 == 0) {
        std::fill(blocked_.begin() + x / 64, blocked_.end(), ~std::uint64_t{0});
        break;
      }
      blocked_[static_cast<std::size_t>(x) / 64] |= std::uint64_t{1} << (x % 64);
    }
    if (side_ % 64 != 0) blocked_.back() |= ~std::uint64_t{0} << (side_ % 64);
    for (std::size_t r = 0; r < runs.size(); ++r) {
      const std::uint64_t* row = taken_.bits.data() + taken_.words * (static_cast<std::size_t>(y) + r);
      for (const Run& run : runs[r]) {
        // Taken at x, x + 1 ... x + length - 1, by doubling.
        spread_.assign(row, row + taken_.words);
        for (int done = 1; done < run.length;) {
          const int step = std::min(done, run.length - done);
          shifted_.resize(spread_.size());
          shift_down(spread_.data(), step, shifted_);
          for (std::size_t w = 0; w < spread_.size(); ++w) spread_[w] |= shifted_[w];
          done += step;
        }
        shifted_.resize(spread_.size());
        shift_down(spread_.data(), run.begin, shifted_);
        for (std::size_t w = 0; w < blocked_.size(); ++w) blocked_[w] |= shifted_[w];
      }
      if (std::all_of(blocked_.begin(), blocked_.end(), [](std::uint64_t w) { return w == ~std::uint64_t{0}; }))
        return -1;
    }
    for (std::size_t w = 0; w < blocked_.size(); ++w)
      if (blocked_[w] != ~std::uint64_t{0}) return static_cast<int>(64 * w) + std::countr_one(blocked_[w]);
    return -1;
  }

  int side_;
  CellShape taken_;
  std::vector<std::uint64_t> blocked_, spread_, shifted_;
};

}  // namespace

CellShape CellShape::turned() const {
  CellShape shape(height, width);
  for (int y = 0; y < height; ++y)
    for (int x = 0; x < width; ++x)
      if (at(x, y)) shape.set(height - 1 - y, x);
  return shape;
}

std::size_t CellShape::count() const {
  std::size_t sum = 0;
  for (const std::uint64_t w : bits) sum += static_cast<std::size_t>(std::popcount(w));
  return sum;
}

std::vector<CellPlace> pack_shapes(const std::vector<CellShape>& shapes, int side, int pages) {
  std::vector<std::size_t> cells(shapes.size()), order(shapes.size());
  std::size_t whole = 0;
  for (std::size_t i = 0; i < shapes.size(); ++i) {
    whole += cells[i] = shapes[i].count();
    if (std::min(shapes[i].width, shapes[i].height) > side || std::max(shapes[i].width, shapes[i].height) > side)
      return {};
  }
  if (whole > static_cast<std::size_t>(pages) * static_cast<std::size_t>(side) * static_cast<std::size_t>(side))
    return {};
  std::iota(order.begin(), order.end(), std::size_t{0});
  std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) { return cells[a] > cells[b]; });
  std::vector<CellPlace> places(shapes.size());
  std::vector<CellPage> room;
  // A shape of a kind begins where the last of its kind came to lie: what lies above is full for its like.
  std::map<std::array<int, 3>, int> begins;
  for (const std::size_t i : order) {
    std::array<CellShape, 4> turned{shapes[i], {}, {}, {}};
    std::array<std::vector<std::vector<Run>>, 4> runs;
    for (std::size_t t = 0; t < 4; ++t) {
      if (t > 0) turned[t] = turned[t - 1].turned();
      runs[t] = runs_of(turned[t]);
    }
    const auto class_of = [](int length) { return static_cast<int>(std::bit_width(static_cast<unsigned>(length))); };
    const int low = std::min(shapes[i].width, shapes[i].height), high = std::max(shapes[i].width, shapes[i].height);
    bool placed = false;
    for (int page = 0; page < pages && !placed; ++page) {
      if (static_cast<std::size_t>(page) == room.size()) room.emplace_back(side);
      int& begin = begins[{page, class_of(low), class_of(high)}];
      for (const bool from_top : {false, true}) {
        if (from_top && begin == 0) break;
        std::optional<std::pair<int, int>> best;
        std::size_t best_turn = 0;
        int lowest = 2 * side;
        for (std::size_t t = 0; t < 4; ++t) {
          const auto at = room[static_cast<std::size_t>(page)].find(turned[t], runs[t], from_top ? 0 : begin,
                                                                    lowest - turned[t].height);
          if (at && at->second + turned[t].height < lowest)
            best = at, best_turn = t, lowest = at->second + turned[t].height;
        }
        if (!best) continue;
        room[static_cast<std::size_t>(page)].take(runs[best_turn], best->first, best->second);
        places[i] = {page, best->first, best->second, static_cast<int>(best_turn)};
        begin = std::max(begin, best->second);
        placed = true;
        break;
      }
    }
    if (!placed) return {};
  }
  return places;
}

}  // namespace icefield
