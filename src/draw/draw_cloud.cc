#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <cmath>
#include <numbers>

#include "icefield/base/nearest.h"
#include "icefield/base/statistics.h"
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
double closing_spacing(const PointCloud& cloud) {
  const NearestPoints tree(cloud.positions);
  std::vector<float> fourth;
  const std::size_t step = std::max<std::size_t>(1, cloud.size() / 500);
  for (std::size_t i = 0; i < cloud.size(); i += step)
    fourth.push_back(tree.nearest(cloud.positions[i], 5).back().distance2);
  return 1.2 * std::sqrt(static_cast<double>(median(fourth)));
}

// In their own colours, or in those of the values where there are any. `largest`: side of a point, px.
void draw_points(Canvas& canvas, int height, const PointCloud& cloud, const Eye& eye, double radius, int largest,
                 const std::vector<double>& values, const ValueScale& scale) {
  const double spacing = closing_spacing(cloud);
  const int width = canvas.width();
  std::vector<float> nearest(static_cast<std::size_t>(width) * static_cast<std::size_t>(height), 1e30f);
  for (std::size_t i = 0; i < cloud.size(); ++i) {
    const Vector3d p = eye.place(cloud.position(i));
    if (eye.perspective && !(p.z() > 0.05 * radius)) continue;
    // Sides of any whole number of pixels, so that the sheet does not open where the size changes.
    const int side = static_cast<int>(
        std::clamp(std::ceil(eye.scale * spacing / (eye.perspective ? p.z() : 1.0)), 1.0, 1.0 * largest));
    const int left = pixel_at(p.x() - 0.5 * (side - 1)), top = pixel_at(p.y() - 0.5 * (side - 1));
    std::array<std::uint8_t, 3> colour =
        cloud.colours.empty() ? std::array<std::uint8_t, 3>{120, 120, 120} : cloud.colours[i];
    if (!values.empty()) {
      if (!std::isfinite(values[i])) continue;
      colour = scale.colour(values[i]);
    }
    for (int v = top; v < top + side; ++v)
      for (int u = left; u < left + side; ++u) {
        if (u < 0 || v < 0 || u >= width || v >= height) continue;
        float& depth =
            nearest[static_cast<std::size_t>(v) * static_cast<std::size_t>(width) + static_cast<std::size_t>(u)];
        if (p.z() >= depth) continue;
        depth = static_cast<float>(p.z());
        canvas.pixel(u, v, colour[0], colour[1], colour[2]);
      }
  }
}

}  // namespace

std::array<std::uint8_t, 3> normal_colour(const Eigen::Vector3f& normal) {
  std::array<std::uint8_t, 3> colour;
  for (std::size_t c = 0; c < 3; ++c)
    colour[c] =
        static_cast<std::uint8_t>(std::clamp(127.5f + 120.0f * normal[static_cast<Eigen::Index>(c)], 0.0f, 255.0f));
  return colour;
}

ImageU8 draw_cloud(const PointCloud& cloud, const std::vector<PosedPhoto>& photos, const std::optional<Bounds>& focus,
                   const DrawOptions& options, const DrawCloudOptions& cloud_options) {
  Canvas canvas(options.width, options.height, kFirn);
  const int height = options.height - kFooter;
  const bool coloured = !cloud_options.values.empty();
  if (cloud.size() > 0) {
    const Bounds shown = focus ? *focus : focus_of(cloud);
    const double radius = std::max(1e-9, shown.half_size.norm());
    const Eye eye = eye_at(shown.centre, shown.half_size, cloud_options.from, options,
                           options.width - (coloured ? 90 : 0), height, 2.9, 1.6);
    const ValueScale scale(cloud_options.values, cloud_options.logarithmic, [](std::size_t) { return true; });
    draw_points(canvas, height, cloud, eye, radius, photos.empty() ? 9 : 3, cloud_options.values, scale);
    if (coloured) scale.draw(canvas, height, cloud_options.meaning);
    for (const PosedPhoto& photo : photos) draw_photo_glyph(canvas, eye, photo.pose, 0.1 * radius);
  }
  footer(canvas, options.title,
         fmt::format("{} points{}; {}", cloud.size(), photos.empty() ? "" : fmt::format(", {} photos", photos.size()),
                     seen_from(cloud_options.from, options)));
  return canvas.image();
}

ImageU8 draw_two_clouds(const NamedCloud& first, const NamedCloud& second, Side from, const DrawOptions& options) {
  constexpr int kGap = 4, kScale = 90;
  Canvas canvas(options.width, options.height, kGranite);
  const int height = options.height - kFooter, panel_width = (options.width - kScale - kGap) / 2,
            panel_height = (height - kGap) / 2;
  const NamedCloud* const clouds[] = {&first, &second};
  // What either shows.
  std::optional<Bounds> shown;
  for (const NamedCloud* named : clouds) {
    if (named->cloud.size() == 0) continue;
    const Bounds own = focus_of(named->cloud);
    if (!shown) {
      shown = own;
      continue;
    }
    const Vector3d low = (shown->centre - shown->half_size).cwiseMin(own.centre - own.half_size),
                   high = (shown->centre + shown->half_size).cwiseMax(own.centre + own.half_size);
    shown->centre = 0.5 * (low + high), shown->half_size = 0.5 * (high - low);
  }
  std::vector<double> all = first.distances;
  all.insert(all.end(), second.distances.begin(), second.distances.end());
  const ValueScale scale(all, true, [](std::size_t) { return true; });
  for (int column = 0; column < 2; ++column)
    for (int row = 0; row < 2; ++row) {
      const NamedCloud& named = *clouds[column];
      Canvas panel(panel_width, panel_height, kGranite);
      if (shown && named.cloud.size() > 0 && (row == 0 || !named.distances.empty())) {
        const Eye eye = eye_at(shown->centre, shown->half_size, from, options, panel_width, panel_height, 2.9, 1.8);
        draw_points(panel, panel_height, named.cloud, eye, std::max(1e-9, shown->half_size.norm()), 9,
                    row == 0 ? std::vector<double>{} : named.distances, scale);
      }
      std::string words = named.name;
      std::vector<double> sorted = named.distances;
      if (row == 0)
        words += fmt::format(": {} points", named.cloud.size());
      else if (!sorted.empty())
        words = fmt::format("from it to the other: middle {:.3g}, 95 percent under {:.3g}", share_of(sorted, 0.5),
                            share_of(sorted, 0.95));
      panel.box(0, 0, panel_width, 30, 1, 1, 1, 0.75);
      panel.text(12, 21, words, 15, 0.15);
      paste(canvas, panel.image(), column * (panel_width + kGap), row * (panel_height + kGap), 1);
    }
  canvas.box(options.width - kScale, 0, kScale, height, kFirn.r, kFirn.g, kFirn.b, 1);
  scale.draw(canvas, height, "");
  footer(canvas, options.title, fmt::format("distances logarithmic; {}", seen_from(from, options)));
  return canvas.image();
}

ImageU8 draw_depth(const DepthMap& map, const DrawOptions& options, float max_cost, MapLayer layer) {
  Canvas canvas(options.width, options.height, kSlate);
  const int height = options.height - kFooter;
  std::vector<double> values;
  const auto believed = [&](int x, int y) {
    return map.depth.at(x, y) > 0 && (map.cost.empty() || map.cost_at(x, y) <= max_cost);
  };
  // Depths by their inverse: as the eye takes them.
  const auto value = [&](int x, int y) {
    switch (layer) {
      case MapLayer::confidence:
        return 1.0 - static_cast<double>(map.cost_at(x, y));
      case MapLayer::support:
        return static_cast<double>(std::popcount(map.support.at(x, y)));
      case MapLayer::depth:
      case MapLayer::normals:
        break;
    }
    return 1 / static_cast<double>(map.depth.at(x, y));
  };
  for (int y = 0; y < map.depth.height(); ++y)
    for (int x = 0; x < map.depth.width(); ++x)
      if (believed(x, y)) values.push_back(value(x, y));
  std::string range = "no depth";
  if (!values.empty()) {
    const double count = static_cast<double>(values.size());
    const double low = share_of(values, 0.02), high = share_of(values, 0.98);
    // Near is light, as under a lantern; the darkest tones are lost on the ground.
    const auto tone = [](double t) { return scale_colour(0.12 + 0.88 * std::clamp(t, 0.0, 1.0)); };
    const auto placed = [&](double v) { return (v - low) / (high - low + 1e-12); };
    const double scale =
        std::min((options.width - 120.0) / map.depth.width(), static_cast<double>(height) / map.depth.height());
    const int w = static_cast<int>(map.depth.width() * scale), h = static_cast<int>(map.depth.height() * scale);
    for (int y = 0; y < h; ++y)
      for (int x = 0; x < w; ++x) {
        const int u = std::min(static_cast<int>(x / scale), map.depth.width() - 1),
                  v = std::min(static_cast<int>(y / scale), map.depth.height() - 1);
        if (!believed(u, v)) continue;
        // Normals as seen from the photo: right, up, towards it.
        const auto c = layer != MapLayer::normals
                           ? tone(placed(value(u, v)))
                           : normal_colour(Eigen::Vector3f(map.normal.at(u, v, 0), -map.normal.at(u, v, 1),
                                                           -map.normal.at(u, v, 2)) /
                                           127.0f);
        canvas.pixel(x, y, c[0], c[1], c[2]);
      }
    for (int y = 40; y < height - 40 && layer != MapLayer::normals; ++y)
      for (int x = w + 16; x < std::min(w + 40, options.width); ++x) {
        const auto c = tone(1 - static_cast<double>(y - 40) / (height - 80));
        canvas.pixel(x, y, c[0], c[1], c[2]);
      }
    if (layer == MapLayer::normals) {
      // What the colours mean: a ball of normals.
      const int r = 34, cx = std::min(w + 50, options.width - r - 6), cy = 40 + r;
      for (int y = -r; y <= r; ++y)
        for (int x = -r; x <= r; ++x) {
          const float nx = static_cast<float>(x) / static_cast<float>(r),
                      ny = -static_cast<float>(y) / static_cast<float>(r), nz2 = 1 - nx * nx - ny * ny;
          if (nz2 < 0) continue;
          const auto c = normal_colour({nx, ny, std::sqrt(nz2)});
          canvas.pixel(cx + x, cy + y, c[0], c[1], c[2]);
        }
      canvas.text(w + 14, cy + r + 22, "the colours", 14, 0.9);
      canvas.text(w + 14, cy + r + 40, "of a ball", 14, 0.9);
    } else if (layer == MapLayer::depth) {
      canvas.text(w + 14, 30, fmt::format("{:.3g} near", 1 / high), 15, 0.9);
      canvas.text(w + 14, height - 18, fmt::format("{:.3g} far", 1 / low), 15, 0.9);
    } else {
      canvas.text(w + 14, 30, fmt::format("{:.3g}{}", high, layer == MapLayer::support ? " photos" : ""), 15, 0.9);
      canvas.text(w + 14, height - 18, fmt::format("{:.3g}", low), 15, 0.9);
    }
    range = fmt::format("{:.1f} percent of {} x {} pixels believed",
                        100.0 * count / static_cast<double>(map.depth.pixels()), map.depth.width(), map.depth.height());
  }
  footer(canvas, options.title, range);
  return canvas.image();
}

}  // namespace icefield
