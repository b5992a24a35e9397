#include "icefield/draw/draw_terrain.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "src/draw/parts.h"

namespace icefield {
namespace {

using Eigen::Vector2d;

constexpr int kLeft = 84, kTop = 18, kBelow = 26, kRight = 176;

// Tones for classes, told apart by lightness too.
constexpr std::array<Tone, 10> kClassTones = {{{0.80, 0.82, 0.83},
                                               {0.62, 0.58, 0.52},
                                               {0.86, 0.80, 0.66},
                                               {0.66, 0.78, 0.46},
                                               {0.44, 0.62, 0.33},
                                               {0.22, 0.42, 0.25},
                                               {0.69, 0.27, 0.08},
                                               {0.08, 0.08, 0.10},
                                               {0.75, 0.75, 0.75},
                                               {0.16, 0.42, 0.62}}};

// What numbers become in colour.
class Colours {
 public:
  Colours(const ImageF& values, const DrawTerrainOptions& options) : options_(options) {
    std::vector<double> known;
    const std::size_t step = std::max<std::size_t>(1, values.data().size() / 400000);
    for (std::size_t i = 0; i < values.data().size(); i += step)
      if (std::isfinite(values.data()[i])) known.push_back(values.data()[i]);
    if (!options.classes.empty())
      for (const float v : values.data())
        if (v >= 0 && v < static_cast<float>(there_.size())) there_[static_cast<std::size_t>(v)] = true;
    if (known.empty()) return;
    least_ = share_of(known, 0.02), most_ = share_of(known, 0.98);
    if (options.symmetric) most_ = std::max({std::abs(least_), std::abs(most_), 1e-12}), least_ = -most_;
    if (options.logarithmic) least_ = std::max(least_, 1e-4 * std::max(most_, 1e-300));
    if (!(most_ > least_)) most_ = least_ + std::max(1e-6, 0.01 * std::abs(least_));
  }
  Tone of(double value) const {
    if (!options_.classes.empty())
      return kClassTones[static_cast<std::size_t>(std::clamp(value, 0.0, kClassTones.size() - 1.0))];
    const double t = (placed(value) - placed(least_)) / (placed(most_) - placed(least_));
    if (options_.symmetric) {  // what goes is dark and rusty, what comes is dark and blue, nothing is light
      const double s = std::clamp(2 * t - 1, -1.0, 1.0);
      const Tone& end = s < 0 ? kRust : kCrevasse;
      const double a = std::abs(s);
      return {0.96 + a * (end.r - 0.96), 0.96 + a * (end.g - 0.96), 0.95 + a * (end.b - 0.95)};
    }
    const auto c = scale_colour(t);
    return {c[0] / 255.0, c[1] / 255.0, c[2] / 255.0};
  }
  void legend(Canvas& canvas, int height) const {
    const int x0 = canvas.width() - kRight + 34;
    if (!options_.picture.empty()) return;
    canvas.text(x0 - 16, 30, options_.meaning, 14, 0.2);
    if (!options_.classes.empty()) {
      int y = 56;
      for (std::size_t c = 0; c < std::min(options_.classes.size(), kClassTones.size()); ++c) {
        if (options_.classes[c].empty() || !there_[c]) continue;
        const Tone& tone = kClassTones[c];
        canvas.box(x0 - 16, y - 12, 16, 16, tone.r, tone.g, tone.b, 1);
        canvas.text(x0 + 8, y + 1, options_.classes[c], 13, 0.2);
        y += 24;
      }
      return;
    }
    const int top = 46, bottom = height - 30;
    for (int y = top; y < bottom; ++y) {
      const double t = static_cast<double>(bottom - y) / (bottom - top);
      const double value = options_.logarithmic ? std::exp(placed(least_) + t * (placed(most_) - placed(least_)))
                                                : least_ + t * (most_ - least_);
      const Tone tone = of(value);
      canvas.box(x0 - 16, y, 18, 1, tone.r, tone.g, tone.b, 1);
    }
    constexpr int kMarks = 5;
    for (int k = 0; k < kMarks; ++k) {
      const double t = static_cast<double>(k) / (kMarks - 1);
      const double value = options_.logarithmic ? std::exp(placed(least_) + t * (placed(most_) - placed(least_)))
                                                : least_ + t * (most_ - least_);
      canvas.text(x0 + 8, bottom - t * (bottom - top) + 5, fmt::format("{:.4g}", value), 13, 0.2);
    }
    if (options_.logarithmic) canvas.text(x0 - 16, height - 8, "logarithmic", 12, 0.4);
  }

 private:
  double placed(double v) const { return options_.logarithmic ? std::log(std::max(v, 1e-300)) : v; }
  const DrawTerrainOptions& options_;
  double least_ = 0, most_ = 1;
  std::array<bool, kClassTones.size()> there_{};
};

// A grey of the same lightness, half in the tint of a number; neighbours in number are far apart in tint.
Tone tinted(const Tone& tone, float number) {
  const double grey = 0.3 * tone.r + 0.59 * tone.g + 0.11 * tone.b;
  const double turn = 2 * std::numbers::pi * std::fmod(0.381966 * static_cast<double>(number), 1.0);
  const auto part = [&](double at) { return 0.45 * grey + 0.55 * (0.55 + 0.35 * std::cos(turn - at)); };
  return {part(0), part(2.0944), part(4.1888)};
}

// A number of the coordinates, with no more digits than the step between marks needs.
std::string coordinate_text(double value, double step) {
  const int digits = std::clamp(static_cast<int>(std::ceil(-std::log10(step) - 1e-9)), 0, 6);
  return fmt::format("{:.{}f}", std::abs(value) < 1e-6 * step ? 0.0 : value, digits);
}

}  // namespace

ImageU8 draw_terrain(const ImageF& heights, const GridFrame& frame, const Datum& datum, const DrawOptions& options,
                     const DrawTerrainOptions& how) {
  Canvas canvas(options.width, options.height, kFirn);
  const int bottom = options.height - kFooter - kBelow;
  const double room_x = options.width - kLeft - kRight, room_y = bottom - kTop;
  const double scale = std::min(room_x / frame.columns, room_y / frame.rows);  // pixels for a cell
  const int x0 = kLeft + static_cast<int>(0.5 * (room_x - scale * frame.columns)),
            y0 = kTop + static_cast<int>(0.5 * (room_y - scale * frame.rows));
  const int width = std::max(1, static_cast<int>(scale * frame.columns)),
            height = std::max(1, static_cast<int>(scale * frame.rows));
  const ImageF& values = how.values.empty() ? heights : how.values;
  const Colours colours(values, how);
  const ImageF shade = how.shaded && !heights.empty() ? hillshade(heights, frame.cell, 315, 45, Executor(1)) : ImageF();
  // Means over the cells of a pixel.
  const auto mean = [&](const ImageF& raster, int px, int py, bool first_alone) {
    const int c0 = static_cast<int>(px / scale), c1 = std::max(c0 + 1, static_cast<int>((px + 1) / scale)),
              r0 = static_cast<int>(py / scale), r1 = std::max(r0 + 1, static_cast<int>((py + 1) / scale));
    double sum = 0;
    int count = 0;
    for (int r = r0; r < std::min(r1, raster.height()); ++r)
      for (int c = c0; c < std::min(c1, raster.width()); ++c)
        if (std::isfinite(raster.at(c, r))) {
          if (first_alone) return static_cast<double>(raster.at(c, r));
          sum += raster.at(c, r), ++count;
        }
    return count > 0 ? sum / count : std::numeric_limits<double>::quiet_NaN();
  };
  for (int py = 0; py < height; ++py)
    for (int px = 0; px < width; ++px) {
      Tone tone;
      if (!how.picture.empty()) {
        const int c = std::min(static_cast<int>((px + 0.5) / scale), how.picture.width() - 1),
                  r = std::min(static_cast<int>((py + 0.5) / scale), how.picture.height() - 1);
        if (how.picture.channels() > 3 && how.picture.at(c, r, 3) == 0) continue;
        tone = {how.picture.at(c, r, 0) / 255.0, how.picture.at(c, r, 1) / 255.0, how.picture.at(c, r, 2) / 255.0};
        if (!how.tints.empty() && std::isfinite(how.tints.at(c, r))) tone = tinted(tone, how.tints.at(c, r));
      } else {
        const double v = mean(values, px, py, !how.classes.empty());
        if (!std::isfinite(v)) continue;
        tone = colours.of(v);
        if (!shade.empty()) {
          const double s = mean(shade, px, py, false);
          const double light = std::isfinite(s) ? 0.45 + 0.78 * s : 1;
          tone = {std::min(1.0, tone.r * light), std::min(1.0, tone.g * light), std::min(1.0, tone.b * light)};
        }
      }
      canvas.pixel(x0 + px, y0 + py, static_cast<std::uint8_t>(255 * tone.r), static_cast<std::uint8_t>(255 * tone.g),
                   static_cast<std::uint8_t>(255 * tone.b));
    }
  const auto pixel = [&](const Vector2d& place) {
    const Vector2d at = frame.at(place);
    return Vector2d(x0 + scale * at.x(), y0 + scale * at.y());
  };
  // Every fifth line is heavier and says its height where it is long enough.
  std::vector<double> levels;
  for (const ContourLine& line : how.contours) levels.push_back(line.height);
  std::sort(levels.begin(), levels.end());
  levels.erase(std::unique(levels.begin(), levels.end()), levels.end());
  const double every = levels.size() > 1 ? levels[1] - levels[0] : 1;
  for (const ContourLine& line : how.contours) {
    const bool heavy = std::llround(line.height / every) % 5 == 0;
    const std::size_t n = line.places.size();
    for (std::size_t i = 0; i + (line.closed ? 0 : 1) < n; ++i) {
      const Vector2d a = pixel(line.places[i]), b = pixel(line.places[(i + 1) % n]);
      canvas.line(a.x(), a.y(), b.x(), b.y(), 0.20, 0.15, 0.10, heavy ? 1.6 : 0.7);
    }
    if (how.labelled && heavy && n * 2 > 120) {
      const Vector2d at = pixel(line.places[n / 2]);
      canvas.text(at.x() + 3, at.y() - 3, coordinate_text(line.height, every), 12, 0.1);
    }
  }
  // The grid of the coordinates along the border.
  const double step = round_factor(frame.cell * std::max(frame.columns, frame.rows) / 6);
  const Vector2d low = frame.corner - Vector2d(0, frame.cell * frame.rows),
                 high = frame.corner + Vector2d(frame.cell * frame.columns, 0);
  for (double x = std::ceil(low.x() / step) * step; x <= high.x(); x += step) {
    const double px = pixel({x, low.y()}).x();
    canvas.line(px, y0 + height, px, y0 + height + 5, kGranite);
    canvas.line(px, y0, px, y0 - 5, kGranite);
    canvas.text(px - 3.5 * static_cast<double>(coordinate_text(x, step).size()), y0 + height + 19,
                coordinate_text(x, step), 12, 0.35);
  }
  for (double y = std::ceil(low.y() / step) * step; y <= high.y(); y += step) {
    const double py = pixel({low.x(), y}).y();
    canvas.line(x0 - 5, py, x0, py, kGranite);
    canvas.line(x0 + width, py, x0 + width + 5, py, kGranite);
    canvas.text(x0 - 9, py + 4, coordinate_text(y, step), 12, 0.35, true);
  }
  for (const auto& [ax, ay, bx, by] : {std::array<int, 4>{x0, y0, x0 + width, y0},
                                       {x0 + width, y0, x0 + width, y0 + height},
                                       {x0 + width, y0 + height, x0, y0 + height},
                                       {x0, y0 + height, x0, y0}})
    canvas.line(ax, ay, bx, by, kGranite);
  // Scale bar in two tones, and north.
  const double bar = round_factor(0.2 * width / scale * frame.cell), bar_px = bar / frame.cell * scale;
  const double bx = x0 + 14, by = y0 + height - 18;
  canvas.box(bx - 6, by - 20, bar_px + 12, 32, 1, 1, 1, 0.8);
  canvas.box(bx, by, 0.5 * bar_px, 6, 0.1, 0.13, 0.15, 1);
  canvas.box(bx + 0.5 * bar_px, by, 0.5 * bar_px, 6, 0.52, 0.56, 0.58, 1);
  canvas.text(bx, by - 6, fmt::format("{:g} {}", bar, datum.units_name()), 13, 0.1);
  if (datum.axes == Axes::east_north_up) {
    const double nx = x0 + width - 24, ny = y0 + 14;
    canvas.box(nx - 14, ny - 8, 28, 54, 1, 1, 1, 0.8);
    arrow(canvas, {nx, ny + 26}, {nx, ny - 2}, 0.1, 0.13, 0.15, 2.2);
    canvas.text(nx - 5, ny + 41, "N", 14, 0.1);
  }
  colours.legend(canvas, options.height - kFooter - 10);
  footer(canvas, options.title,
         fmt::format("{} x {} cells of {:.3g} {}{}", frame.columns, frame.rows, frame.cell, datum.units_name(),
                     datum.crs.empty() ? "" : ", " + datum.crs.substr(0, 40)));
  return canvas.image();
}

}  // namespace icefield
