#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "icefield/base/nearest.h"
#include "icefield/draw/draw.h"
#include "src/draw/parts.h"

namespace icefield {
namespace {

using Eigen::Vector3d;

// Middle and size of the part to show.
Bounds focus_of(const PointCloud& cloud) {
  Bounds focus;
  std::vector<float> values(cloud.size());
  for (int c = 0; c < 3; ++c) {
    for (std::size_t i = 0; i < cloud.size(); ++i) values[i] = cloud.positions[i][c];
    const std::size_t low = cloud.size() / 100, high = cloud.size() - 1 - cloud.size() / 100;
    std::nth_element(values.begin(), values.begin() + static_cast<std::ptrdiff_t>(low), values.end());
    const double a = values[low];
    std::nth_element(values.begin(), values.begin() + static_cast<std::ptrdiff_t>(high), values.end());
    const double b = values[high];
    focus.centre[c] = cloud.origin[c] + 0.5 * (a + b);
    focus.half_size[c] = 0.5 * (b - a);
  }
  return focus;
}

// On a sheet each point has four others at about the spacing; a little more, so that turned grids close as well.
double typical_spacing(const PointCloud& cloud) {
  const NearestPoints tree(cloud.positions);
  std::vector<float> fourth;
  const std::size_t step = std::max<std::size_t>(1, cloud.size() / 500);
  for (std::size_t i = 0; i < cloud.size(); i += step) fourth.push_back(tree.nearest(cloud.positions[i], 5).back().distance2);
  std::nth_element(fourth.begin(), fourth.begin() + static_cast<std::ptrdiff_t>(fourth.size() / 2), fourth.end());
  return 1.2 * std::sqrt(static_cast<double>(fourth[fourth.size() / 2]));
}

}  // namespace

ImageU8 draw_cloud(const PointCloud& cloud, const std::vector<PosedPhoto>& photos, const std::optional<Bounds>& focus, const DrawOptions& options) {
  Canvas canvas(options.width, options.height, 0.93);
  const int height = options.height - kFooter;
  if (cloud.size() > 0) {
    const Bounds shown = focus ? *focus : focus_of(cloud);
    const double radius = std::max(1e-9, shown.half_size.norm());
    const double azimuth = options.azimuth_deg * std::numbers::pi / 180, elevation = options.elevation_deg * std::numbers::pi / 180;
    const Vector3d away(std::cos(azimuth) * std::cos(elevation), std::sin(azimuth) * std::cos(elevation), std::sin(elevation));
    const double focal = 1.6 * height;
    const Pose eye = look_at(shown.centre + 2.9 * radius * away, shown.centre, std::abs(away.z()) > 0.999 ? Vector3d::UnitY() : Vector3d::UnitZ());
    const double spacing = typical_spacing(cloud);
    std::vector<float> nearest(static_cast<std::size_t>(options.width) * height, 1e30f);
    for (std::size_t i = 0; i < cloud.size(); ++i) {
      const Vector3d p = eye.to_camera(cloud.position(i));
      if (!(p.z() > 0.05 * radius)) continue;
      const double x = focal * p.x() / p.z() + 0.5 * options.width, y = focal * p.y() / p.z() + 0.5 * height;
      // Sides of any whole number of pixels, so that the sheet does not open where the size changes.
      const int side = std::clamp(static_cast<int>(std::ceil(focal * spacing / p.z())), 1, photos.empty() ? 9 : 3);
      const int left = static_cast<int>(std::floor(x - 0.5 * (side - 1))), top = static_cast<int>(std::floor(y - 0.5 * (side - 1)));
      std::array<std::uint8_t, 3> colour = cloud.colours.empty() ? std::array<std::uint8_t, 3>{120, 120, 120} : cloud.colours[i];
      for (int v = top; v < top + side; ++v)
        for (int u = left; u < left + side; ++u) {
          if (u < 0 || v < 0 || u >= options.width || v >= height) continue;
          float& depth = nearest[static_cast<std::size_t>(v) * options.width + u];
          if (p.z() >= depth) continue;
          depth = static_cast<float>(p.z());
          canvas.pixel(u, v, colour[0], colour[1], colour[2]);
        }
    }
    // Photos: a pyramid from the projection centre to the corners of the image.
    const double size = 0.09 * radius;
    for (const PosedPhoto& photo : photos) {
      Eigen::Vector2d screen[5];
      bool visible = true;
      for (int k = 0; k < 5; ++k) {
        const Vector3d corner = k == 4 ? Vector3d::Zero() : Vector3d((k == 0 || k == 3 ? -0.6 : 0.6), (k < 2 ? -0.4 : 0.4), 0.9);
        const Vector3d p = eye.to_camera(photo.pose.to_world(size * corner));
        if (!(p.z() > 0.05 * radius)) visible = false;
        screen[k] = {focal * p.x() / p.z() + 0.5 * options.width, focal * p.y() / p.z() + 0.5 * height};
      }
      if (!visible) continue;
      for (int k = 0; k < 4; ++k) {
        canvas.line(screen[k].x(), screen[k].y(), screen[(k + 1) % 4].x(), screen[(k + 1) % 4].y(), 0.75, 0.25, 0.1, 1.2);
        canvas.line(screen[k].x(), screen[k].y(), screen[4].x(), screen[4].y(), 0.75, 0.25, 0.1, 0.8);
      }
    }
  }
  footer(canvas, options.title, fmt::format("{} points{}; seen from {:.0f} degrees around, {:.0f} up", cloud.size(), photos.empty() ? "" : fmt::format(", {} photos", photos.size()), options.azimuth_deg, options.elevation_deg));
  return canvas.image();
}

ImageU8 draw_depth(const DepthMap& map, const DrawOptions& options, float max_cost) {
  Canvas canvas(options.width, options.height, 0.2);
  const int height = options.height - kFooter;
  std::vector<float> depths;
  const auto believed = [&](int x, int y) { return map.depth.at(x, y) > 0 && (map.cost.empty() || map.cost.at(x, y) <= max_cost); };
  for (int y = 0; y < map.depth.height(); ++y)
    for (int x = 0; x < map.depth.width(); ++x)
      if (believed(x, y)) depths.push_back(map.depth.at(x, y));
  std::string range = "no depth";
  if (!depths.empty()) {
    const auto at = [&](double share) {
      const auto k = static_cast<std::ptrdiff_t>(share * static_cast<double>(depths.size() - 1));
      std::nth_element(depths.begin(), depths.begin() + k, depths.end());
      return static_cast<double>(depths[static_cast<std::size_t>(k)]);
    };
    const double near = at(0.02), far = at(0.98);
    const double scale = std::min((options.width - 120.0) / map.depth.width(), static_cast<double>(height) / map.depth.height());
    const int w = static_cast<int>(map.depth.width() * scale), h = static_cast<int>(map.depth.height() * scale);
    for (int y = 0; y < h; ++y)
      for (int x = 0; x < w; ++x) {
        const int u = std::min(static_cast<int>(x / scale), map.depth.width() - 1), v = std::min(static_cast<int>(y / scale), map.depth.height() - 1);
        if (!believed(u, v)) continue;
        const float d = map.depth.at(u, v);
        const auto c = scale_colour((1 / near - 1 / d) / (1 / near - 1 / far + 1e-12));
        canvas.pixel(x, y, c[0], c[1], c[2]);
      }
    for (int y = 40; y < height - 40; ++y)
      for (int x = w + 16; x < std::min(w + 40, options.width); ++x) {
        const auto c = scale_colour(static_cast<double>(y - 40) / (height - 80));
        canvas.pixel(x, y, c[0], c[1], c[2]);
      }
    canvas.text(w + 14, 30, fmt::format("{:.3g} near", near), 15, 0.9);
    canvas.text(w + 14, height - 18, fmt::format("{:.3g} far", far), 15, 0.9);
    range = fmt::format("{:.1f} percent of {} x {} pixels believed", 100.0 * static_cast<double>(depths.size()) / static_cast<double>(map.depth.pixels()), map.depth.width(), map.depth.height());
  }
  footer(canvas, options.title, range);
  return canvas.image();
}

}  // namespace icefield
