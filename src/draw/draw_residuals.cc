#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>

#include "icefield/draw/draw.h"
#include "src/draw/parts.h"

namespace icefield {
namespace {

using Eigen::Vector2d;

// In the order in which they are drawn, those of weight last.
constexpr FeatureUse kUses[] = {FeatureUse::not_matched, FeatureUse::no_point, FeatureUse::left_out, FeatureUse::used};

// Told by shape as well as by tone: a point, a ring, a cross, a full dot.
void feature_mark(Canvas& canvas, FeatureUse use, double x, double y, double size) {
  switch (use) {
    case FeatureUse::not_matched:
      canvas.dot(x, y, 0.45 * size, kGranite);
      break;
    case FeatureUse::no_point:
      canvas.circle(x, y, size, kMoss, 1);
      break;
    case FeatureUse::left_out:
      canvas.cross(x, y, 1.2 * size, kLantern, 1.3);
      break;
    case FeatureUse::used:
      canvas.dot(x, y, size, kMeltwater);
      break;
  }
}

}  // namespace

const char* describe(FeatureUse use) {
  switch (use) {
    case FeatureUse::used:
      return "used";
    case FeatureUse::left_out:
      return "left out: does not fit its tie point";
    case FeatureUse::no_point:
      return "matched, but no tie point came of it";
    case FeatureUse::not_matched:
      break;
  }
  return "not matched with any photo";
}

ImageU8 draw_residuals(const ImageU8& photo, std::span<const PhotoResidual> residuals,
                       std::span<const Keypoint> keypoints, std::span<const FeatureUse> uses, double enlarged,
                       const DrawOptions& options) {
  Canvas canvas(options.width, options.height, kSlate);
  const int height = options.height - kFooter, legend = 250;
  const double scale = std::min(static_cast<double>(options.width - legend) / photo.width(),
                                static_cast<double>(height) / photo.height());
  const int top = (height - static_cast<int>(scale * photo.height())) / 2;
  paste(canvas, photo, 0, top, scale, 0.45);
  double sum2 = 0;
  for (const PhotoResidual& r : residuals) sum2 += r.residual.squaredNorm();
  const double rms = residuals.empty() ? 0 : std::sqrt(sum2 / static_cast<double>(residuals.size()));
  if (!(enlarged > 0)) enlarged = round_factor(12 / std::max(1e-6, rms * scale));
  std::array<std::size_t, 4> count{};
  for (const FeatureUse use : kUses)
    for (std::size_t i = 0; i < keypoints.size() && i < uses.size(); ++i) {
      if (uses[i] != use) continue;
      ++count[static_cast<std::size_t>(use)];
      // Those that are used have their arrows.
      if (use != FeatureUse::used) feature_mark(canvas, use, scale * keypoints[i].x, top + scale * keypoints[i].y, 1.8);
    }
  for (const PhotoResidual& r : residuals) {
    const Vector2d from(scale * r.pixel.x(), top + scale * r.pixel.y());
    const double t = std::min(1.0, r.residual.norm() / std::max(1e-9, 3 * rms));
    const auto mixed = [&](double a, double b) { return a + t * (b - a); };
    arrow(canvas, from, from + scale * enlarged * r.residual, mixed(kMeltwater.r, kLantern.r),
          mixed(kMeltwater.g, kLantern.g), mixed(kMeltwater.b, kLantern.b), 1.1);
  }
  double y = 40;
  const int x = options.width - legend + 14;
  canvas.text(x, y, "Features", 16, 0.95);
  for (const FeatureUse use : {kUses[3], kUses[2], kUses[1], kUses[0]}) {
    y += 30;
    feature_mark(canvas, use, x + 5, y - 5, 4);
    canvas.text(x + 18, y, fmt::format("{}", count[static_cast<std::size_t>(use)]), 14, 0.95);
    y += 17;
    canvas.text(x + 18, y, describe(use), 11.5, 0.75);
  }
  y += 46;
  canvas.text(x, y, "Residuals", 16, 0.95);
  canvas.text(x, y += 24, fmt::format("drawn {:.4g} times", enlarged), 13, 0.85);
  canvas.text(x, y += 20, fmt::format("RMS {:.3f} px, {} of them", rms, residuals.size()), 13, 0.85);
  const double one = scale * enlarged;
  const double bar = one > legend - 60 ? round_factor(0.4 * (legend - 60) / one)
                     : one < 12        ? round_factor(40 / one)
                                       : 1;
  arrow(canvas, {x + 0.0, y + 26}, {x + one * bar, y + 26}, 0.9, 0.9, 0.9, 1.5);
  canvas.text(x, y + 46, fmt::format("{:.3g} px", bar), 13, 0.85);
  footer(canvas, options.title, fmt::format("{} x {} px", photo.width(), photo.height()));
  return canvas.image();
}

ImageU8 draw_lens(const Block& block, CameraIndex camera, double enlarged, const DrawOptions& options) {
  Canvas canvas(options.width, options.height, kFirn);
  const int height = options.height - kFooter, legend = 230;
  const Camera& lens = block.cameras[camera.value];
  const double scale = std::min(static_cast<double>(options.width - legend - 40) / lens.width,
                                static_cast<double>(height - 40) / lens.height);
  const int columns = lens.width >= lens.height ? 18 : 12,
            rows = std::max(1, static_cast<int>(std::lround(static_cast<double>(columns) * lens.height / lens.width)));
  struct Cell {
    Vector2d sum = Vector2d::Zero();
    double squares = 0;
    std::size_t count = 0;
  };
  std::vector<Cell> cells(static_cast<std::size_t>(columns * rows));
  std::size_t all = 0;
  double squares = 0;
  for (std::size_t i = 0; i < block.points.size(); ++i)
    for (const Observation& o : block.of_point(i)) {
      if (block.photos[o.photo].camera != camera) continue;
      const auto r = residual_px(block, block.points[i], o);
      if (!r) continue;
      const int x = std::clamp(static_cast<int>(o.pixel.x() / lens.width * columns), 0, columns - 1),
                y = std::clamp(static_cast<int>(o.pixel.y() / lens.height * rows), 0, rows - 1);
      Cell& cell = cells[static_cast<std::size_t>(y * columns + x)];
      cell.sum += *r;
      cell.squares += r->squaredNorm();
      ++cell.count;
      ++all;
      squares += r->squaredNorm();
    }
  // How much of the means is more than chance.
  double mean2 = 0, chance2 = 0, largest = 0;
  std::size_t filled = 0;
  for (const Cell& cell : cells) {
    if (cell.count < 5) continue;
    const double n = static_cast<double>(cell.count);
    mean2 += (cell.sum / n).squaredNorm(), chance2 += cell.squares / (n * n), ++filled;
    largest = std::max(largest, (cell.sum / n).norm());
  }
  const double mean = filled ? std::sqrt(mean2 / static_cast<double>(filled)) : 0,
               chance = filled ? std::sqrt(chance2 / static_cast<double>(filled)) : 0;
  if (!(enlarged > 0))
    enlarged = round_factor(0.45 * scale * lens.width / columns / std::max(1e-9, std::max(mean, chance) * scale));
  for (int y = 0; y < rows; ++y)
    for (int x = 0; x < columns; ++x) {
      const Cell& cell = cells[static_cast<std::size_t>(y * columns + x)];
      const Vector2d middle(20 + scale * (x + 0.5) * lens.width / columns, 20 + scale * (y + 0.5) * lens.height / rows);
      if (cell.count < 5) {
        canvas.circle(middle.x(), middle.y(), 1, 0.8, 0.8, 0.8);
        continue;
      }
      const double n = static_cast<double>(cell.count), noise = std::sqrt(cell.squares) / n;
      const Vector2d value = cell.sum / n;
      const bool pattern = value.norm() > 3 * noise;
      canvas.circle(middle.x(), middle.y(), std::max(1.0, scale * enlarged * noise), 0.75, 0.8, 0.88);
      const Tone& tone = pattern ? kRust : kCrevasse;
      arrow(canvas, middle, middle + scale * enlarged * value, tone.r, tone.g, tone.b, pattern ? 2.2 : 1.2);
    }
  const double right = 20 + scale * lens.width, bottom = 20 + scale * lens.height;
  for (const auto& [x0, y0, x1, y1] : {std::array{20.0, 20.0, right, 20.0}, std::array{right, 20.0, right, bottom},
                                       std::array{right, bottom, 20.0, bottom}, std::array{20.0, bottom, 20.0, 20.0}})
    canvas.line(x0, y0, x1, y1, 0.4, 0.4, 0.4);
  const double x = right + 18;
  double y = 50;
  canvas.text(x, y, "Mean residuals", 16, 0.1);
  canvas.text(x, y += 26, fmt::format("drawn {:.4g} times", enlarged), 13, 0.3);
  canvas.text(x, y += 34, fmt::format("RMS of the means {:.3f} px", mean), 13, 0.2);
  canvas.text(x, y += 20, fmt::format("chance alone {:.3f} px", chance), 13, 0.2);
  canvas.text(x, y += 20, fmt::format("largest {:.3f} px", largest), 13, 0.2);
  canvas.text(x, y += 20,
              fmt::format("of an observation {:.3f} px", all ? std::sqrt(squares / static_cast<double>(all)) : 0.0), 13,
              0.2);
  canvas.text(x, y += 40, "circle: what chance does", 13, 0.4);
  canvas.text(x, y += 20, "thick: over 3 times that", 13, 0.4);
  canvas.text(x, y += 40, mean > 2 * chance ? "A pattern: the model does" : "No pattern beyond", 14, 0.1);
  canvas.text(x, y += 20, mean > 2 * chance ? "not describe the lens." : "what chance does.", 14, 0.1);
  footer(canvas, options.title,
         fmt::format("{} observations, model {}, {} x {} px", all, camera_model_name(lens.model), lens.width,
                     lens.height));
  return canvas.image();
}

}  // namespace icefield
