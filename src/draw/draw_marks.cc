#include "icefield/draw/draw_marks.h"

#include "src/draw/parts.h"

namespace icefield {
namespace {

using Eigen::Vector2d;

void ring(Canvas& canvas, const Vector2d& at, const Ellipse& e, double scale, const Tone& tone) {
  constexpr int kSteps = 48;
  const double longer = std::max(3.0, scale * e.longer), shorter = std::max(3.0, scale * e.shorter);
  Vector2d before;
  for (int k = 0; k <= kSteps; ++k) {
    const double t = 2 * std::numbers::pi * k / kSteps, x = longer * std::cos(t), y = shorter * std::sin(t);
    const Vector2d next =
        at + Vector2d(x * std::cos(e.turn) - y * std::sin(e.turn), x * std::sin(e.turn) + y * std::cos(e.turn));
    if (k > 0) canvas.line(before.x(), before.y(), next.x(), next.y(), tone, 1.6);
    before = next;
  }
}

// Open in the middle, so that the pixels there are seen.
void open_cross(Canvas& canvas, const Vector2d& at, const Tone& tone) {
  for (const auto& [x, y] : {std::pair{1.0, 0.0}, std::pair{-1.0, 0.0}, std::pair{0.0, 1.0}, std::pair{0.0, -1.0}})
    canvas.line(at.x() + 5 * x, at.y() + 5 * y, at.x() + 18 * x, at.y() + 18 * y, tone, 1.6);
}

}  // namespace

ImageU8 draw_marks(std::span<const DrawnMark> marks, const DrawOptions& options) {
  Canvas canvas(options.width, options.height, kSlate);
  const int height = options.height - kFooter, count = std::max(1, static_cast<int>(marks.size()));
  // As many columns as make the parts largest.
  int columns = 1;
  double best = 0;
  for (int c = 1; c <= count; ++c) {
    const int rows = (count + c - 1) / c;
    const double side = std::min(static_cast<double>(options.width) / c, static_cast<double>(height) / rows - 20);
    if (side > best) best = side, columns = c;
  }
  const int rows = (count + columns - 1) / columns;
  const double wide = static_cast<double>(options.width) / columns, tall = static_cast<double>(height) / rows;
  for (int i = 0; i < static_cast<int>(marks.size()); ++i) {
    const DrawnMark& mark = marks[static_cast<std::size_t>(i)];
    const double x0 = (i % columns) * wide + 3, y0 = (i / columns) * tall + 3;
    const double scale = std::min((wide - 6) / mark.part.width(), (tall - 28) / mark.part.height());
    paste(canvas, mark.part, static_cast<int>(x0), static_cast<int>(y0), scale);
    const auto place = [&](const Vector2d& p) {
      return Vector2d(std::floor(x0) + scale * p.x(), std::floor(y0) + scale * p.y());
    };
    if (mark.predicted) ring(canvas, place(*mark.predicted), mark.ellipse, scale, kMeltwater);
    if (mark.marked) open_cross(canvas, place(*mark.marked), kLantern);
    canvas.text(x0, y0 + tall - 10, mark.photo, 12, 0.9);
    canvas.text(x0 + wide - 10, y0 + tall - 10, mark.remark, 12, 0.7, true);
  }
  footer(canvas, options.title, "cross: marked; ring: predicted, two of three lie within");
  return canvas.image();
}

}  // namespace icefield
