#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "icefield/draw/draw.h"
#include "src/draw/parts.h"

namespace icefield {
namespace {

constexpr int kMost = 5;  // as many are as good as any more

// Told by shape as well as by tone: none is a cross, one a ring.
void mark_part(Canvas& canvas, double x, double y, double width, double height, int views) {
  const auto c = scale_colour(static_cast<double>(std::min(views, kMost)) / kMost);
  canvas.box(x, y, width, height, c[0] / 255.0, c[1] / 255.0, c[2] / 255.0, views < 2 ? 0.8 : 0.65);
  const double mx = x + 0.5 * width, my = y + 0.5 * height, size = std::min(width, height);
  if (views == 0) canvas.cross(mx, my, 0.28 * size, kLantern, std::max(1.0, 0.08 * size));
  if (views == 1) canvas.circle(mx, my, 0.24 * size, kLantern, std::max(1.0, 0.08 * size));
}

void draw_one(Canvas& canvas, const CoveredPhoto& photo, double x, double y, double width, double height) {
  const PhotoCoverage& coverage = photo.coverage;
  paste(canvas, photo.photo, static_cast<int>(x), static_cast<int>(y),
        std::min(width / photo.photo.width(), height / photo.photo.height()), 0.75);
  const double w = width / std::max(1, coverage.columns), h = height / std::max(1, coverage.rows);
  for (int row = 0; row < coverage.rows; ++row)
    for (int column = 0; column < coverage.columns; ++column) {
      const int views = coverage.views[static_cast<std::size_t>(row * coverage.columns + column)];
      if (views == PhotoCoverage::kOutside)
        canvas.box(x + column * w, y + row * h, w, h, kSlate.r, kSlate.g, kSlate.b, 0.7);
      else
        mark_part(canvas, x + column * w, y + row * h, w - 0.5, h - 0.5, views);
    }
}

}  // namespace

ImageU8 draw_coverage(std::span<const CoveredPhoto> photos, const DrawOptions& options) {
  constexpr int kLegend = 230, kName = 20, kGap = 8;
  Canvas canvas(options.width, options.height, kSlate);
  const double room_x = options.width - kLegend - kGap, room_y = options.height - kFooter - kGap;
  // As many columns as make them largest.
  double aspect = 1.5, width = 0;
  if (!photos.empty()) aspect = static_cast<double>(photos[0].photo.width()) / photos[0].photo.height();
  int columns = 1;
  for (int c = 1; c <= static_cast<int>(photos.size()); ++c) {
    const int rows = (static_cast<int>(photos.size()) + c - 1) / c;
    const double fitting = std::min(room_x / c - kGap, (room_y / rows - kGap - kName) * aspect);
    if (fitting > width) width = fitting, columns = c;
  }
  for (std::size_t i = 0; i < photos.size(); ++i) {
    const CoveredPhoto& photo = photos[i];
    const double own = static_cast<double>(photo.photo.width()) / photo.photo.height(),
                 w = std::min(width, width / aspect * own), h = w / own;
    const double x = kGap + static_cast<double>(i % static_cast<std::size_t>(columns)) * (width + kGap),
                 y = kGap +
                     static_cast<double>(i / static_cast<std::size_t>(columns)) * (width / aspect + kName + kGap);
    draw_one(canvas, photo, x, y, w, h);
    const auto letters = static_cast<std::size_t>(std::max(8.0, width / 6.5) - 6);
    const std::string name =
        photo.name.size() > letters ? ".." + photo.name.substr(photo.name.size() - letters + 2) : photo.name;
    canvas.text(x, y + h + 14, fmt::format("{}  {:.0f} %", name, photo.coverage.thin_percent()), 11.5, 0.85);
  }
  const double x = options.width - kLegend + 14;
  double y = 36;
  canvas.text(x, y, "A part is matched against", 14, 0.95);
  for (int views = 0; views <= kMost; ++views) {
    y += 30;
    mark_part(canvas, x, y - 14, 20, 20, views);
    canvas.text(x + 30, y,
                views == 0       ? "no other photo"
                : views == 1     ? "one other"
                : views == kMost ? fmt::format("{} others or more", views)
                                 : fmt::format("{} others", views),
                13, 0.85);
  }
  y += 40;
  canvas.text(x, y, "Dark: not at the subject.", 12, 0.75);
  canvas.text(x, y += 18, "Percent: of the parts at the", 12, 0.75);
  canvas.text(x, y += 16, "subject, with one other or", 12, 0.75);
  canvas.text(x, y += 16, "none; worst photos first.", 12, 0.75);
  footer(canvas, options.title, "");
  return canvas.image();
}

}  // namespace icefield
