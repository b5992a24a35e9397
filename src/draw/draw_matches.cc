#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "icefield/draw/draw.h"
#include "src/draw/parts.h"

namespace icefield {

using Eigen::Vector2d;

ImageU8 draw_features(const ImageU8& photo, std::span<const Keypoint> keypoints, const DrawOptions& options) {
  Canvas canvas(options.width, options.height, kSlate);
  const int height = options.height - kFooter;
  constexpr int kScaleWidth = 120;
  const double scale = std::min((options.width - kScaleWidth) / static_cast<double>(photo.width()),
                                height / static_cast<double>(photo.height()));
  paste(canvas, photo, 0, 0, scale, 0.75);
  constexpr double kFinest = 0.8, kCoarsest = 25.6;  // px, over which the colours run
  constexpr double kLightest = 0.25;                 // the darkest colours are lost on a photo
  const auto colour = [&](double size) {
    return scale_colour(kLightest + (1 - kLightest) * std::log(size / kFinest) / std::log(kCoarsest / kFinest));
  };
  // Coarse ones first, so that fine ones stay in sight.
  std::vector<const Keypoint*> order;
  for (const Keypoint& k : keypoints) order.push_back(&k);
  std::stable_sort(order.begin(), order.end(),
                   [](const Keypoint* a, const Keypoint* b) { return a->scale > b->scale; });
  for (const Keypoint* k : order) {
    const auto c = colour(k->scale);
    const double r = c[0] / 255.0, g = c[1] / 255.0, b = c[2] / 255.0, radius = std::max(1.5, 2 * k->scale * scale),
                 x = k->x * scale, y = k->y * scale;
    canvas.circle(x, y, radius, r, g, b, 1);
    canvas.line(x, y, x + radius * std::cos(k->angle), y + radius * std::sin(k->angle), r, g, b, 1);
  }
  const int left = static_cast<int>(photo.width() * scale) + 16;
  for (int y = 50; y < height - 50; ++y)
    for (int x = left; x < std::min(left + 24, options.width); ++x) {
      const auto c = scale_colour(kLightest + (1 - kLightest) * (y - 50) / (height - 100));
      canvas.pixel(x, y, c[0], c[1], c[2]);
    }
  canvas.text(left, 38, fmt::format("{} px", kFinest), 15, 0.9);
  canvas.text(left, height - 26, fmt::format("{} px scale", kCoarsest), 15, 0.9);
  footer(canvas, options.title,
         fmt::format("{} features in {} x {} px; circles of twice their scale", keypoints.size(), photo.width(),
                     photo.height()));
  return canvas.image();
}

ImageU8 draw_matches(const DrawnPhoto& first, const DrawnPhoto& second, std::span<const Match> verified,
                     std::span<const Match> rejected, const DrawOptions& options, std::size_t max_lines) {
  Canvas canvas(options.width, options.height, kSlate);
  const int height = options.height - kFooter;
  constexpr int kGap = 8;
  // One scale for both, side by side, or one above the other where that shows them larger.
  const double w1 = first.photo.width(), h1 = first.photo.height(), w2 = second.photo.width(),
               h2 = second.photo.height();
  const double beside = std::min((options.width - kGap) / (w1 + w2), height / std::max(h1, h2)),
               above = std::min(options.width / std::max(w1, w2), (height - kGap) / (h1 + h2));
  const double scale = std::max(beside, above);
  const bool side_by_side = beside >= above;
  const int x1 = side_by_side ? static_cast<int>((options.width - kGap - scale * (w1 + w2)) / 2)
                              : static_cast<int>((options.width - scale * w1) / 2);
  const int y1 = side_by_side ? static_cast<int>((height - scale * h1) / 2)
                              : static_cast<int>((height - kGap - scale * (h1 + h2)) / 2);
  const int x2 =
      side_by_side ? x1 + static_cast<int>(scale * w1) + kGap : static_cast<int>((options.width - scale * w2) / 2);
  const int y2 = side_by_side ? static_cast<int>((height - scale * h2) / 2) : y1 + static_cast<int>(scale * h1) + kGap;
  paste(canvas, first.photo, x1, y1, scale, 0.7);
  paste(canvas, second.photo, x2, y2, scale, 0.7);
  struct Ends {
    double ax, ay, bx, by;
  };
  const auto ends = [&](const Match& m) {
    const Keypoint &a = first.keypoints[m.first.value], &b = second.keypoints[m.second.value];
    return Ends{x1 + a.x * scale, y1 + a.y * scale, x2 + b.x * scale, y2 + b.y * scale};
  };
  const auto every = [&](std::size_t count) { return std::max<std::size_t>(1, (count + max_lines - 1) / max_lines); };
  // What does not fit: a cross at both ends and a short stroke towards the other.
  for (std::size_t i = 0; i < rejected.size(); i += every(rejected.size())) {
    const Ends e = ends(rejected[i]);
    const Vector2d a(e.ax, e.ay), b(e.bx, e.by), along = (b - a).normalized() * std::min(14.0, 0.3 * (b - a).norm());
    for (const auto& [from, to] : {std::pair{a, Vector2d(a + along)}, std::pair{b, Vector2d(b - along)}}) {
      canvas.cross(from.x(), from.y(), 2.5, kLantern, 1);
      canvas.line(from.x(), from.y(), to.x(), to.y(), kLantern, 0.8);
    }
  }
  for (const Match& m : verified) {
    const Ends e = ends(m);
    canvas.dot(e.ax, e.ay, 1.7, kMeltwater);
    canvas.dot(e.bx, e.by, 1.7, kMeltwater);
  }
  for (std::size_t i = 0; i < verified.size(); i += every(verified.size())) {
    const Ends e = ends(verified[i]);
    canvas.line(e.ax, e.ay, e.bx, e.by, kMeltwater, 1);
  }
  const auto drawn = [&](std::size_t count) {
    return every(count) > 1 ? fmt::format(", one in {} drawn", every(count)) : std::string();
  };
  footer(canvas, options.title,
         fmt::format("{} fit the geometry (lines{}), {} do not (crosses{})", verified.size(), drawn(verified.size()),
                     rejected.size(), drawn(rejected.size())));
  return canvas.image();
}

ImageU8 draw_pair_table(std::span<const std::string> names, std::span<const PairMatches> pairs,
                        const DrawOptions& options) {
  Canvas canvas(options.width, options.height, kFirn);
  const int height = options.height - kFooter;
  const auto count = static_cast<int>(names.size());
  // Names beside the rows while they can be read.
  std::size_t longest = 0;
  for (const std::string& name : names) longest = std::max(longest, name.size());
  constexpr int kTop = 34, kRight = 250;
  double cell = (height - kTop - 16.0) / std::max(1, count);
  const bool named = cell >= 11;
  const int left = named ? static_cast<int>(16 + 7.0 * static_cast<double>(std::min<std::size_t>(longest, 30))) : 64;
  cell = std::min(cell, (options.width - left - kRight) / static_cast<double>(std::max(1, count)));
  const double text = std::min(13.0, cell);
  const int step = named ? 1 : std::max(1, static_cast<int>(std::ceil(20 / cell)));
  for (int i = 0; i < count; i += step) {
    const std::string label = named ? names[static_cast<std::size_t>(i)].substr(0, 30) : fmt::format("{}", i + 1);
    canvas.text(left - 6, kTop + (i + 0.5) * cell + 0.35 * text, label, named ? text : 12, 0.25, true);
    if (!named || cell >= 22)
      canvas.text(left + i * cell + 1, kTop - 8, fmt::format("{}", i + 1), std::min(text, 12.0), 0.25);
  }
  const auto colour = [](std::size_t matches) {
    return scale_colour(std::log10(std::max<double>(1, static_cast<double>(matches)) / 20) / 2);
  };  // 20 to 2000
  canvas.box(left, kTop, count * cell, count * cell, 0.84, 0.87, 0.885, 1);
  std::size_t verified = 0;
  for (const PairMatches& pair : pairs) {
    verified += pair.verified();
    for (const auto& [row, column] :
         {std::pair{pair.first.value, pair.second.value}, std::pair{pair.second.value, pair.first.value}}) {
      const double x = left + column * cell, y = kTop + row * cell, inner = std::max(1.0, cell - (cell > 6 ? 1 : 0));
      if (!pair.verified()) {
        canvas.dot(x + 0.5 * cell, y + 0.5 * cell, std::max(0.6, 0.12 * cell), kGranite);
        continue;
      }
      const auto c = colour(pair.matches.size());
      canvas.box(x, y, inner, inner, c[0] / 255.0, c[1] / 255.0, c[2] / 255.0, 1);
      if (cell < 5 || pair.geometry == PairGeometry::depth) continue;
      // A flat subject is a bar, a turn a ring.
      if (pair.geometry == PairGeometry::flat)
        canvas.line(x + 0.2 * cell, y + 0.5 * cell, x + 0.8 * cell, y + 0.5 * cell, 1, 1, 1, 1.5);
      else
        canvas.circle(x + 0.5 * cell, y + 0.5 * cell, 0.25 * cell, 1, 1, 1, 1.5);
    }
  }
  const double key = left + count * cell + 24;
  canvas.text(key, kTop + 12, "verified matches", 14, 0.2);
  for (int k = 0; k < 5; ++k) {
    const auto matches = static_cast<std::size_t>(std::lround(20 * std::pow(10, 0.5 * k)));
    const auto c = colour(matches);
    canvas.box(key, kTop + 24 + 24 * k, 18, 18, c[0] / 255.0, c[1] / 255.0, c[2] / 255.0, 1);
    canvas.text(key + 28, kTop + 38 + 24 * k, fmt::format("{}{}", matches, k == 4 ? " and more" : ""), 14, 0.2);
  }
  const double marks = kTop + 24 + 24 * 5 + 14;
  if (cell >= 5) {
    const auto box = scale_colour(0.3);
    for (int k = 0; k < 2; ++k)
      canvas.box(key, marks + 26 * k, 18, 18, box[0] / 255.0, box[1] / 255.0, box[2] / 255.0, 1);
    canvas.line(key + 4, marks + 9, key + 14, marks + 9, 1, 1, 1, 1.5);
    canvas.circle(key + 9, marks + 35, 5, 1, 1, 1, 1.5);
    canvas.text(key + 28, marks + 14, "flat subject", 14, 0.2);
    canvas.text(key + 28, marks + 40, "turned on one spot", 14, 0.2);
  }
  canvas.dot(key + 9, marks + 61, 3, kGranite);
  canvas.text(key + 28, marks + 66, "tried, no geometry", 14, 0.2);
  footer(canvas, options.title, fmt::format("{} photos, {} of {} pairs verified", count, verified, pairs.size()));
  return canvas.image();
}

}  // namespace icefield
