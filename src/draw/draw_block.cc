#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

#include "icefield/draw/draw.h"
#include "src/draw/parts.h"

namespace icefield {

using Eigen::Vector2d;
using Eigen::Vector3d;

ImageU8 draw_block(const PointCloud& points, std::span<const PosedPhoto> photos, std::span<const std::string> names,
                   const std::optional<Bounds>& focus, const DrawBlockOptions& block_options,
                   const DrawOptions& options) {
  Canvas canvas(options.width, options.height, kFirn);
  const int height = options.height - kFooter;
  const bool coloured = !block_options.values.empty();
  const double scale_width = coloured ? 90 : 0;
  // What must be in the picture: the photos, and the points in focus.
  Vector3d low = Vector3d::Constant(1e300), high = Vector3d::Constant(-1e300);
  const auto take = [&](const Vector3d& p) { low = low.cwiseMin(p), high = high.cwiseMax(p); };
  for (const PosedPhoto& photo : photos) take(photo.pose.centre);
  for (std::size_t i = 0; i < points.size(); ++i)
    if (!focus || focus->contains(points.position(i))) take(points.position(i));
  if (low.x() > high.x()) low = Vector3d::Constant(-1), high = Vector3d::Constant(1);
  const Vector3d centre = 0.5 * (low + high), half = 0.5 * (high - low);
  const double radius = std::max(1e-9, half.norm());
  const Eye eye = eye_at(centre, half, block_options.from, options, options.width - scale_width, height, 2.6, 1.55);
  const ValueScale scale(block_options.values, block_options.logarithmic,
                         [&](std::size_t i) { return !focus || focus->contains(points.position(i)); });
  std::vector<float> nearest(static_cast<std::size_t>(options.width) * static_cast<std::size_t>(height), 1e30f);
  const int side = points.size() > 20000 ? 1 : 2;
  for (std::size_t i = 0; i < points.size(); ++i) {
    const Vector3d at = eye.place(points.position(i));
    if (eye.perspective && !(at.z() > 0.05 * radius)) continue;
    std::array<std::uint8_t, 3> colour =
        points.colours.empty() ? std::array<std::uint8_t, 3>{110, 110, 110} : points.colours[i];
    if (coloured) {
      if (!std::isfinite(block_options.values[i])) continue;
      colour = scale.colour(block_options.values[i]);
    }
    for (int dy = 0; dy < side; ++dy)
      for (int dx = 0; dx < side; ++dx) {
        const int u = pixel_at(at.x()) + dx, v = pixel_at(at.y()) + dy;
        if (u < 0 || v < 0 || u >= options.width || v >= height) continue;
        float& depth = nearest[static_cast<std::size_t>(v) * static_cast<std::size_t>(options.width) +
                               static_cast<std::size_t>(u)];
        if (at.z() >= depth) continue;
        depth = static_cast<float>(at.z());
        canvas.pixel(u, v, colour[0], colour[1], colour[2]);
      }
  }
  // Photos, as large as their distance to the next one allows.
  std::vector<double> gaps;
  for (std::size_t i = 0; i + 1 < photos.size(); ++i)
    gaps.push_back((photos[i + 1].pose.centre - photos[i].pose.centre).norm());
  const double size =
      gaps.empty() ? 0.1 * radius : std::clamp(0.5 * share_of(gaps, 0.5), 0.008 * radius, 0.09 * radius);
  std::vector<Vector2d> labels;
  for (std::size_t i = 0; i < photos.size(); ++i) {
    const bool marked = i < block_options.marked.size() && block_options.marked[i];
    const auto middle = draw_photo_glyph(canvas, eye, photos[i].pose, size, marked);
    if (!middle) continue;
    // A name where there is room for one.
    if (!block_options.names || i >= names.size()) continue;
    const Vector2d at = *middle + Vector2d(6, -4);
    if (std::any_of(labels.begin(), labels.end(),
                    [&](const Vector2d& l) { return std::abs(l.x() - at.x()) < 86 && std::abs(l.y() - at.y()) < 13; }))
      continue;
    labels.push_back(at);
    const std::size_t slash = names[i].find_last_of('/'), begin = slash == std::string::npos ? 0 : slash + 1;
    canvas.text(at.x(), at.y(), names[i].substr(begin, names[i].find_last_of('.') - begin), 11, 0.25);
  }
  if (coloured) scale.draw(canvas, height, block_options.meaning);
  footer(canvas, options.title,
         fmt::format("{} tie points, {} photos; {}", points.size(), photos.size(),
                     seen_from(block_options.from, options)));
  return canvas.image();
}

ImageU8 draw_through(const ImageU8& photo, const PointCloud& points, const Camera& camera, const Pose& pose,
                     const DrawOptions& options) {
  Canvas canvas(options.width, options.height, kSlate);
  const int height = options.height - kFooter, gap = 8;
  const double scale =
      std::min(0.5 * (options.width - gap) / photo.width(), static_cast<double>(height) / photo.height());
  const int w = static_cast<int>(scale * photo.width()), h = static_cast<int>(scale * photo.height()),
            top = (height - h) / 2, left = w + gap;
  paste(canvas, photo, 0, top, scale);
  std::vector<float> nearest(static_cast<std::size_t>(w) * static_cast<std::size_t>(h), 1e30f);
  std::size_t seen = 0;
  const int side = points.size() > 100000 ? 1 : 2;
  for (std::size_t i = 0; i < points.size(); ++i) {
    const Vector3d p = pose.to_camera(points.position(i));
    const auto pixel = project(camera, p);
    if (!pixel) continue;
    const int x = pixel_at(scale * pixel->x()), y = pixel_at(scale * pixel->y());
    if (x < 0 || y < 0 || x >= w || y >= h) continue;
    ++seen;
    for (int dy = 0; dy < side; ++dy)
      for (int dx = 0; dx < side; ++dx) {
        if (x + dx >= w || y + dy >= h) continue;
        float& depth =
            nearest[static_cast<std::size_t>(y + dy) * static_cast<std::size_t>(w) + static_cast<std::size_t>(x + dx)];
        if (p.z() >= depth) continue;
        depth = static_cast<float>(p.z());
        const auto c = points.colours.empty() ? std::array<std::uint8_t, 3>{200, 200, 200} : points.colours[i];
        canvas.pixel(left + x + dx, top + y + dy, c[0], c[1], c[2]);
      }
  }
  footer(canvas, options.title, fmt::format("{} of {} points in view", seen, points.size()));
  return canvas.image();
}

}  // namespace icefield
