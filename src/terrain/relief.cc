#include "icefield/terrain/relief.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <limits>
#include <map>
#include <numbers>
#include <unordered_map>

#include "icefield/base/error.h"
#include "src/terrain/simplify_line.h"

namespace icefield {

using Eigen::Vector2d;

namespace {

constexpr float kNone = std::numeric_limits<float>::quiet_NaN();

// The lowest and the highest; inverted where there is none.
std::pair<float, float> range_of(const ImageF& heights) {
  float low = std::numeric_limits<float>::infinity(), high = -low;
  for (const float z : heights.data())
    if (std::isfinite(z)) low = std::min(low, z), high = std::max(high, z);
  return {low, high};
}

// Slopes to the east and to the north by the eight around; those without a height take the middle's own.
template <class Take>
ImageF of_slopes(const ImageF& heights, double cell, const Executor& executor, const Take& take) {
  const int width = heights.width(), height = heights.height();
  ImageF result(width, height, 1, kNone);
  executor.blocks(static_cast<std::size_t>(height), 16, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
      for (int x = 0; x < width; ++x) {
        const float middle = heights.at(x, y);
        if (!std::isfinite(middle)) continue;
        const auto at = [&](int dx, int dy) -> double {
          // Beyond the border, as it goes on from the other side.
          const auto inside = [&](int u, int v) {
            return u >= 0 && v >= 0 && u < width && v < height && std::isfinite(heights.at(u, v));
          };
          if (inside(x + dx, y + dy)) return heights.at(x + dx, y + dy);
          if (inside(x - dx, y - dy)) return 2.0 * middle - heights.at(x - dx, y - dy);
          double sum = middle;  // a corner: by what lies along the sides
          if (dx != 0 && dy != 0) {
            if (inside(x + dx, y))
              sum += heights.at(x + dx, y) - middle;
            else if (inside(x - dx, y))
              sum -= heights.at(x - dx, y) - middle;
            if (inside(x, y + dy))
              sum += heights.at(x, y + dy) - middle;
            else if (inside(x, y - dy))
              sum -= heights.at(x, y - dy) - middle;
          }
          return sum;
        };
        const double east = (at(1, -1) + 2 * at(1, 0) + at(1, 1) - at(-1, -1) - 2 * at(-1, 0) - at(-1, 1)) / (8 * cell);
        const double north =
            (at(-1, -1) + 2 * at(0, -1) + at(1, -1) - at(-1, 1) - 2 * at(0, 1) - at(1, 1)) / (8 * cell);
        result.at(x, y) = static_cast<float>(take(east, north));
      }
  });
  return result;
}

}  // namespace

ImageF hillshade(const ImageF& heights, double cell, double azimuth_deg, double elevation_deg,
                 const Executor& executor) {
  const double a = azimuth_deg * std::numbers::pi / 180, e = elevation_deg * std::numbers::pi / 180;
  const double x = std::sin(a) * std::cos(e), y = std::cos(a) * std::cos(e), z = std::sin(e);
  return of_slopes(heights, cell, executor, [&](double east, double north) {
    return std::max(0.0, (z - x * east - y * north) / std::sqrt(1 + east * east + north * north));
  });
}

ImageF slope_deg(const ImageF& heights, double cell, const Executor& executor) {
  return of_slopes(heights, cell, executor, [](double east, double north) {
    return std::atan(std::hypot(east, north)) * 180 / std::numbers::pi;
  });
}

double height_at(const ImageF& heights, const GridFrame& frame, const Vector2d& place) {
  const Vector2d at = frame.at(place) - Vector2d(0.5, 0.5);
  const double fx = std::floor(at.x()), fy = std::floor(at.y());
  constexpr double kEdge = 0.5;  // the outer half of the outermost cells takes their own height
  if (!(at.x() >= -kEdge) || !(at.y() >= -kEdge) || !(at.x() <= heights.width() - 1 + kEdge) ||
      !(at.y() <= heights.height() - 1 + kEdge))
    return kNone;
  const auto value = [&](double x, double y) -> double {
    return heights.at(std::clamp(static_cast<int>(x), 0, heights.width() - 1),
                      std::clamp(static_cast<int>(y), 0, heights.height() - 1));
  };
  const double u = at.x() - fx, v = at.y() - fy;
  double sum = 0;
  for (int k = 0; k < 4; ++k) {
    const double w = (k & 1 ? u : 1 - u) * (k >> 1 ? v : 1 - v);
    if (w > 0) sum += w * value(fx + (k & 1), fy + (k >> 1));
  }
  return sum;
}

namespace {

// Where lines cross the sides of the squares between cells' middles: a number for each side of the raster.
class Tracing {
 public:
  Tracing(const ImageF& heights, const GridFrame& frame, double level)
      : heights_(heights), frame_(frame), level_(level) {}

  void lines(const ContourOptions& options, std::vector<ContourLine>& out) {
    const int width = heights_.width(), height = heights_.height();
    for (int y = 0; y + 1 < height; ++y)
      for (int x = 0; x + 1 < width; ++x) square(x, y);
    // Open lines first, from their beginnings, in the order of the raster; then rings.
    std::vector<std::uint64_t> starts;
    for (const auto& [from, to] : next_)
      if (!has_before_.contains(from)) starts.push_back(from);
    std::sort(starts.begin(), starts.end());
    for (const std::uint64_t start : starts) follow(start, options, out);
    std::vector<std::uint64_t> rest;
    for (const auto& [from, to] : next_) rest.push_back(from);
    std::sort(rest.begin(), rest.end());
    for (const std::uint64_t start : rest)
      if (next_.contains(start)) follow(start, options, out);
  }

 private:
  // Sides: 0 from (x, y) to the east, 1 from (x, y) to the south.
  std::uint64_t side(int x, int y, int which) const {
    return (static_cast<std::uint64_t>(y) * static_cast<std::uint64_t>(heights_.width()) +
            static_cast<std::uint64_t>(x)) *
               2 +
           static_cast<std::uint64_t>(which);
  }
  // A height on the very level counts as above it.
  void square(int x, int y) {
    const double a = heights_.at(x, y), b = heights_.at(x + 1, y), c = heights_.at(x + 1, y + 1),
                 d = heights_.at(x, y + 1);
    if (!std::isfinite(a + b + c + d)) return;
    const int above = (a >= level_) | (b >= level_) << 1 | (c >= level_) << 2 | (d >= level_) << 3;
    if (above == 0 || above == 15) return;
    const std::uint64_t north = side(x, y, 0), east = side(x + 1, y, 1), south = side(x, y + 1, 0),
                        west = side(x, y, 1);
    const bool high = 0.25 * (a + b + c + d) >= level_;
    // Higher ground on the left of the way (seen with north up).
    switch (above) {
      case 1:
        join(north, west);
        break;
      case 2:
        join(east, north);
        break;
      case 3:
        join(east, west);
        break;
      case 4:
        join(south, east);
        break;
      case 6:
        join(south, north);
        break;
      case 7:
        join(south, west);
        break;
      case 8:
        join(west, south);
        break;
      case 9:
        join(north, south);
        break;
      case 11:
        join(east, south);
        break;
      case 12:
        join(west, east);
        break;
      case 13:
        join(north, east);
        break;
      case 14:
        join(west, north);
        break;
      case 5:
        if (high)
          join(north, east), join(south, west);
        else
          join(north, west), join(south, east);
        break;
      case 10:
        if (high)
          join(east, south), join(west, north);
        else
          join(east, north), join(west, south);
        break;
      default:
        break;
    }
  }
  void join(std::uint64_t to, std::uint64_t from) {
    next_[from] = to;
    has_before_[to] = true;
  }
  Vector2d place(std::uint64_t number) const {
    const int which = static_cast<int>(number % 2);
    const auto cell = number / 2;
    const int x = static_cast<int>(cell % static_cast<std::uint64_t>(heights_.width())),
              y = static_cast<int>(cell / static_cast<std::uint64_t>(heights_.width()));
    const double a = heights_.at(x, y), b = which == 0 ? heights_.at(x + 1, y) : heights_.at(x, y + 1);
    // Not at the very ends, where lines of other levels or the same one might touch.
    constexpr double kEnd = 1e-3;
    const double t = std::clamp((level_ - a) / (b - a), kEnd, 1 - kEnd);
    const Vector2d at(x + 0.5 + (which == 0 ? t : 0), y + 0.5 + (which == 1 ? t : 0));
    return frame_.corner + frame_.cell * Vector2d(at.x(), -at.y());
  }
  void follow(std::uint64_t start, const ContourOptions& options, std::vector<ContourLine>& out) {
    ContourLine line;
    line.height = level_;
    std::uint64_t at = start;
    for (;;) {
      const auto to = next_.find(at);
      if (to == next_.end()) {
        line.places.push_back(place(at));
        break;
      }
      line.places.push_back(place(at));
      const std::uint64_t then = to->second;
      next_.erase(to);
      if (then == start) {
        line.closed = true;
        break;
      }
      at = then;
    }
    double length = line.closed ? (line.places.front() - line.places.back()).norm() : 0;
    for (std::size_t i = 1; i < line.places.size(); ++i) length += (line.places[i] - line.places[i - 1]).norm();
    if (length >= options.least * frame_.cell) out.push_back(std::move(line));
  }

  const ImageF& heights_;
  const GridFrame& frame_;
  double level_;
  std::unordered_map<std::uint64_t, std::uint64_t> next_;
  std::unordered_map<std::uint64_t, bool> has_before_;
};

ContourLine simplified(const ContourLine& line, double tolerance) {
  return {line.height, line.closed, simplify_line(line.places, line.closed, tolerance)};
}

// Segments of all lines by square, to find those that cross.
class Segments {
 public:
  explicit Segments(double size) : size_(size) {}
  struct Segment {
    Vector2d a, b;
    std::uint32_t line, number;
  };
  void add(const ContourLine& line, std::uint32_t of) {
    const std::size_t n = line.places.size(), sides = line.closed ? n : n - 1;
    for (std::size_t i = 0; i < sides; ++i) {
      const auto index = static_cast<std::uint32_t>(segments_.size());
      segments_.push_back({line.places[i], line.places[(i + 1) % n], of, static_cast<std::uint32_t>(i)});
      visit(segments_.back(), [&](std::uint64_t square) { squares_[square].push_back(index); });
    }
    counts_[of] = sides;
  }
  // Lines that cross another or themselves.
  std::vector<std::uint32_t> crossing() const {
    std::vector<std::uint32_t> lines;
    for (const auto& [square, list] : squares_)
      for (std::size_t i = 0; i < list.size(); ++i)
        for (std::size_t j = i + 1; j < list.size(); ++j) {
          const Segment &s = segments_[list[i]], &t = segments_[list[j]];
          if (s.line == t.line) {
            const std::size_t gap = s.number > t.number ? s.number - t.number : t.number - s.number;
            if (gap <= 1 || gap + 1 >= counts_.at(s.line)) continue;
          }
          if (cross(s, t)) lines.push_back(s.line), lines.push_back(t.line);
        }
    std::sort(lines.begin(), lines.end());
    lines.erase(std::unique(lines.begin(), lines.end()), lines.end());
    return lines;
  }

 private:
  static double turn(const Vector2d& a, const Vector2d& b, const Vector2d& c) {
    return (b.x() - a.x()) * (c.y() - a.y()) - (b.y() - a.y()) * (c.x() - a.x());
  }
  static bool cross(const Segment& s, const Segment& t) {
    return turn(s.a, s.b, t.a) * turn(s.a, s.b, t.b) <= 0 && turn(t.a, t.b, s.a) * turn(t.a, t.b, s.b) <= 0;
  }
  template <class Visit>
  void visit(const Segment& s, const Visit& each) const {
    const auto x0 = static_cast<std::int64_t>(std::floor(std::min(s.a.x(), s.b.x()) / size_)),
               x1 = static_cast<std::int64_t>(std::floor(std::max(s.a.x(), s.b.x()) / size_)),
               y0 = static_cast<std::int64_t>(std::floor(std::min(s.a.y(), s.b.y()) / size_)),
               y1 = static_cast<std::int64_t>(std::floor(std::max(s.a.y(), s.b.y()) / size_));
    for (std::int64_t y = y0; y <= y1; ++y)
      for (std::int64_t x = x0; x <= x1; ++x)
        each(static_cast<std::uint64_t>(y) << 32 ^ static_cast<std::uint64_t>(static_cast<std::uint32_t>(x)));
  }
  double size_;
  std::vector<Segment> segments_;
  std::unordered_map<std::uint64_t, std::vector<std::uint32_t>> squares_;
  std::unordered_map<std::uint32_t, std::size_t> counts_;
};

}  // namespace

std::vector<ContourLine> contour_lines(const ImageF& heights, const GridFrame& frame, const ContourOptions& options,
                                       const Executor& executor, Monitor& monitor) {
  if (!(options.every > 0) || !(options.simplify >= 0) || !(options.least >= 0))
    throw Error(ErrorKind::usage, "contour lines", "are asked for with a step that is not above 0", "give one above 0");
  const auto [low, high] = range_of(heights);
  std::vector<ContourLine> lines;
  if (!(low <= high)) return lines;
  const double first = std::ceil((low - options.from) / options.every),
               last = std::floor((high - options.from) / options.every);
  constexpr double kMost = 10000;
  if (last - first >= kMost)
    throw Error(
        ErrorKind::usage, "contour lines",
        fmt::format("every {} make {:.0f} levels between {} and {}", options.every, last - first + 1, low, high),
        "give a larger step");
  const auto levels = static_cast<std::size_t>(std::max(0.0, last - first + 1));
  std::vector<std::vector<ContourLine>> of(levels);
  executor.run("contours", levels, monitor, [&](std::size_t k) {
    Tracing(heights, frame, options.from + (first + static_cast<double>(k)) * options.every).lines(options, of[k]);
  });
  for (auto& level : of)
    for (ContourLine& line : level) lines.push_back(std::move(line));
  if (options.simplify == 0) return lines;
  std::vector<ContourLine> light(lines.size());
  executor.blocks(lines.size(), 1, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i) light[i] = simplified(lines[i], options.simplify * frame.cell);
  });
  // Lines whole never cross: whoever does is taken back, until nobody does.
  std::vector<std::uint8_t> whole(lines.size(), 0);
  for (;;) {
    Segments segments(4 * frame.cell);
    for (std::uint32_t i = 0; i < light.size(); ++i) segments.add(light[i], i);
    bool changed = false;
    for (const std::uint32_t i : segments.crossing())
      if (!whole[i]) whole[i] = 1, light[i] = lines[i], changed = true;
    if (!changed) return light;
  }
}

double contour_step(const ImageF& heights) {
  const auto [low, high] = range_of(heights);
  if (!(high > low)) return 1;
  constexpr double kLevels = 12;
  const double raw = (high - low) / kLevels, power = std::pow(10, std::floor(std::log10(raw))), lead = raw / power;
  return power * (lead < 1.5 ? 1 : lead < 3.5 ? 2 : lead < 7.5 ? 5 : 10);
}

std::vector<ProfilePlace> profile(const ImageF& heights, const GridFrame& frame, std::span<const Vector2d> line,
                                  double step) {
  if (line.size() < 2 || !(step > 0))
    throw Error(ErrorKind::usage, "profile",
                "is asked for along fewer than two places, or with a step that is not above 0",
                "give a line of two places or more");
  std::vector<ProfilePlace> places;
  double along = 0;
  for (std::size_t i = 0; i + 1 < line.size(); ++i) {
    const double length = (line[i + 1] - line[i]).norm();
    const auto parts = static_cast<std::size_t>(std::max(1.0, std::ceil(length / step)));
    for (std::size_t k = 0; k < parts; ++k) {
      const double t = static_cast<double>(k) / static_cast<double>(parts);
      const Vector2d place = line[i] + t * (line[i + 1] - line[i]);
      places.push_back({along + t * length, place, height_at(heights, frame, place)});
    }
    along += length;
  }
  places.push_back({along, line.back(), height_at(heights, frame, line.back())});
  return places;
}

}  // namespace icefield
