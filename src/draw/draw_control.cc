#include <Eigen/Geometry>

#include "icefield/base/statistics.h"
#include "icefield/draw/draw.h"
#include "src/draw/parts.h"

namespace icefield {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr int kLegend = 250;

const Tone& tone_of(const DrawnControl& point) {
  return point.left_out ? kGranite : point.use == ControlUse::control ? kRust : kCrevasse;
}

// Told by shape: a triangle, a ring with a dot, a square; what was left out is struck through.
void mark(Canvas& canvas, const DrawnControl& point, const Vector2d& at, double size) {
  const Tone& tone = tone_of(point);
  if (point.use == ControlUse::control) {
    const Vector2d corners[] = {at + Vector2d(0, -1.2 * size), at + Vector2d(1.1 * size, 0.8 * size),
                                at + Vector2d(-1.1 * size, 0.8 * size)};
    canvas.area(corners, tone, point.left_out ? 0.25 : 0.9);
  } else if (point.use == ControlUse::check) {
    canvas.circle(at.x(), at.y(), size, tone, 2);
    canvas.dot(at.x(), at.y(), 0.3 * size, tone);
  } else {
    const double s = 0.8 * size;
    const Vector2d corners[] = {at + Vector2d(-s, -s), at + Vector2d(s, -s), at + Vector2d(s, s), at + Vector2d(-s, s)};
    canvas.area(corners, tone, 0.6);
  }
  if (point.left_out) canvas.cross(at.x(), at.y(), 1.5 * size, kSlate, 2);
}

// The part of the ground that the picture shows: all points, and what the tie points crowd on.
Eigen::AlignedBox2d shown_part(const Block& block, std::span<const DrawnControl> points) {
  Eigen::AlignedBox2d box;
  std::vector<double> xs, ys;
  for (const Vector3d& x : block.points) xs.push_back(x.x()), ys.push_back(x.y());
  if (!xs.empty()) {
    box.extend(Vector2d(quantile(xs, 3, 100), quantile(ys, 3, 100)));
    box.extend(Vector2d(quantile(xs, 97, 100), quantile(ys, 97, 100)));
  }
  for (const DrawnControl& point : points) box.extend(point.position.head<2>());
  return box;
}

struct Rms {
  double plan = 0, height = 0;
  std::size_t count = 0;
};
Rms rms_of(std::span<const DrawnControl> points, ControlUse use) {
  Rms rms;
  for (const DrawnControl& point : points) {
    if (point.use != use || point.left_out || !point.with_error) continue;
    rms.plan += point.error.head<2>().squaredNorm(), rms.height += point.error.z() * point.error.z();
    ++rms.count;
  }
  const double n = std::max<double>(1, static_cast<double>(rms.count));
  rms.plan = std::sqrt(rms.plan / n), rms.height = std::sqrt(rms.height / n);
  return rms;
}

}  // namespace

ImageU8 draw_control(const Block& block, std::span<const DrawnControl> points, const std::string& units,
                     double enlarged, const DrawOptions& options) {
  Canvas canvas(options.width, options.height, kFirn);
  const int width = options.width - kLegend, height = options.height - kFooter;
  const Eigen::AlignedBox2d box = shown_part(block, points);
  if (box.isEmpty()) {
    footer(canvas, options.title, "nothing to show");
    return canvas.image();
  }
  const Vector2d size = box.sizes().cwiseMax(1e-9);
  const double scale = 0.86 * std::min(width / size.x(), height / size.y());
  const auto place = [&](const Vector3d& x) {
    return Vector2d(0.5 * width + scale * (x.x() - box.center().x()),
                    0.5 * height - scale * (x.y() - box.center().y()));
  };
  const std::size_t step = std::max<std::size_t>(1, block.points.size() / 20000);
  for (std::size_t i = 0; i < block.points.size(); i += step) {
    const Vector2d at = place(block.points[i]);
    if (at.x() > 2 && at.y() > 2 && at.x() < width - 2 && at.y() < height - 2)
      canvas.dot(at.x(), at.y(), 0.7, {0.72, 0.77, 0.79});
  }
  for (const PosedPhoto& photo : block.photos) {
    const Vector2d at = place(photo.pose.centre);
    if (at.x() > 4 && at.y() > 4 && at.x() < width - 4 && at.y() < height - 4)
      canvas.cross(at.x(), at.y(), 3, kGranite, 1);
  }
  // Errors that stand out by far (left out) do not set the scale.
  std::vector<double> lengths;
  for (const DrawnControl& point : points)
    if (point.with_error && !point.left_out)
      lengths.push_back(std::max(point.error.head<2>().norm(), std::abs(point.error.z())));
  const double usual = std::max(1e-9, quantile(lengths, 3, 4));
  if (!(enlarged > 0)) enlarged = round_factor(55 / (usual * scale));
  const double longest = 0.35 * std::min(width, height);
  for (const DrawnControl& point : points) {
    const Vector2d at = place(point.position);
    const Tone& tone = tone_of(point);
    if (point.with_error) {
      if (!point.left_out) {
        const double ring = enlarged * scale * point.expected.head<2>().norm();
        if (ring < longest) canvas.circle(at.x(), at.y(), ring, kGranite, 1);
      }
      Vector2d plan(enlarged * scale * point.error.x(), -enlarged * scale * point.error.y());
      double up = enlarged * scale * point.error.z();
      const double cut = std::max({1.0, plan.norm() / longest, std::abs(up) / longest});
      plan /= cut, up /= cut;
      arrow(canvas, at, at + plan, tone.r, tone.g, tone.b, 2);
      const double beside = at.x() + 14;
      canvas.line(beside, at.y(), beside, at.y() - up, tone, 5);
      canvas.line(beside - 5, at.y(), beside + 5, at.y(), kSlate, 1);
      if (cut > 1)
        canvas.text(at.x() + plan.x() + 4, at.y() + plan.y(), fmt::format("{:.3g} {}", point.error.norm(), units), 12,
                    0.3);
    }
    mark(canvas, point, at, 7);
    canvas.text(at.x() + 10, at.y() + 22, point.name, 14, 0.15);
  }
  const double x = width + 12;
  double y = 40;
  canvas.text(x, y, "Points", 16, 0.1);
  for (const ControlUse use : {ControlUse::control, ControlUse::check, ControlUse::spot}) {
    std::size_t count = 0, out = 0;
    for (const DrawnControl& point : points)
      if (point.use == use) ++count, out += point.left_out;
    if (count == 0) continue;
    DrawnControl sample;
    sample.use = use;
    mark(canvas, sample, {x + 8, y + 28}, 7);
    canvas.text(x + 26, y += 34,
                fmt::format("{} {}{}", count, describe(use), out ? fmt::format(", {} left out", out) : ""), 14, 0.15);
    const Rms rms = rms_of(points, use);
    if (use == ControlUse::spot || rms.count == 0) continue;
    canvas.text(x + 26, y += 19, fmt::format("RMS plan {:.3g} {}", rms.plan, units), 13, 0.3);
    canvas.text(x + 26, y += 18, fmt::format("height {:.3g} {}", rms.height, units), 13, 0.3);
  }
  y += 44;
  canvas.text(x, y, "Errors", 16, 0.1);
  canvas.text(x, y += 22, fmt::format("drawn {:.4g} times", enlarged), 13, 0.3);
  const double bar = round_factor(90 / (enlarged * scale));
  arrow(canvas, {x, y + 20}, {x + enlarged * scale * bar, y + 20}, kSlate.r, kSlate.g, kSlate.b, 2);
  canvas.text(x, y += 40, fmt::format("{:.3g} {}", bar, units), 13, 0.3);
  canvas.text(x, y += 26, "arrow: in plan", 13, 0.4);
  canvas.text(x, y += 18, "bar: in height, up is too high", 13, 0.4);
  canvas.text(x, y += 18, "ring: expected in plan", 13, 0.4);
  canvas.text(x, y += 44, "Ground", 16, 0.1);
  const double ground = round_factor(110 / scale);
  canvas.line(x, y + 16, x + scale * ground, y + 16, kSlate, 2);
  canvas.text(x, y += 36, fmt::format("{:.4g} {}", ground, units), 13, 0.3);
  canvas.text(x, y += 26, "north is up; crosses: photos", 13, 0.4);
  footer(canvas, options.title, fmt::format("{} photos, {} tie points", block.photos.size(), block.points.size()));
  return canvas.image();
}

}  // namespace icefield
