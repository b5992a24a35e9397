// What all pictures share.
#pragma once
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>
#include <optional>
#include <string>
#include <vector>

#include "icefield/draw/draw.h"
#include "src/draw/canvas.h"

namespace icefield {

inline constexpr int kFooter = 44;

// The pixel that a place lies in; places far outside of any picture, where whole numbers end, come to lie outside too.
inline int pixel_at(double place) {
  constexpr double kFar = 1e6;
  return static_cast<int>(std::floor(place > -kFar ? std::min(place, kFar) : -kFar));
}

// A line below the picture: what is shown, and its numbers.
inline void footer(Canvas& canvas, const std::string& title, const std::string& right) {
  canvas.box(0, canvas.height() - kFooter, canvas.width(), kFooter, 1, 1, 1, 1);
  canvas.text(16, canvas.height() - 16, title, 18, 0.15);
  canvas.text(canvas.width() - 16, canvas.height() - 16, right, 16, 0.4, true);
}

// The photo at (x, y), `scale` times its size.
inline void paste(Canvas& canvas, const ImageU8& photo, int x, int y, double scale, double brightness = 1) {
  const int w = std::min(static_cast<int>(photo.width() * scale), canvas.width() - x),
            h = std::min(static_cast<int>(photo.height() * scale), canvas.height() - y);
  const int last = photo.channels() >= 3 ? 2 : 0;
  for (int row = 0; row < h; ++row)
    for (int column = 0; column < w; ++column) {
      const int u = std::min(static_cast<int>(column / scale), photo.width() - 1),
                v = std::min(static_cast<int>(row / scale), photo.height() - 1);
      const auto at = [&](int c) { return static_cast<std::uint8_t>(brightness * photo.at(u, v, c)); };
      canvas.pixel(x + column, y + row, at(0), at(last / 2), at(last));
    }
}

// From the world to the picture: in perspective, or straight along an axis.
struct Eye {
  bool perspective = true;
  Pose pose;
  double scale = 1;  // pixels: focal length, or for a unit of the block
  Eigen::Vector2d middle;
  Eigen::Vector3d place(const Eigen::Vector3d& p) const {  // pixel and depth
    const Eigen::Vector3d c = pose.to_camera(p);
    const Eigen::Vector2d xy =
        perspective ? Eigen::Vector2d(c.x() / c.z(), c.y() / c.z()) : Eigen::Vector2d(c.x(), c.y());
    return {middle.x() + scale * xy.x(), middle.y() + scale * xy.y(), c.z()};
  }
};

inline void arrow(Canvas& canvas, const Eigen::Vector2d& from, const Eigen::Vector2d& to, double r, double g, double b,
                  double width) {
  canvas.line(from.x(), from.y(), to.x(), to.y(), r, g, b, width);
  const Eigen::Vector2d along = to - from;
  if (along.norm() < 4) return;
  const Eigen::Vector2d u = along.normalized() * std::min(6.0, 0.4 * along.norm()), v(-u.y(), u.x());
  for (const double s : {0.5, -0.5})
    canvas.line(to.x(), to.y(), to.x() - u.x() + s * v.x(), to.y() - u.y() + s * v.y(), r, g, b, width);
}

// A round number near a value.
inline double round_factor(double value) {
  const double power = std::pow(10.0, std::floor(std::log10(std::max(1e-6, value)))), lead = value / power;
  return power * (lead < 1.5 ? 1 : lead < 3.5 ? 2 : lead < 7.5 ? 5 : 10);
}

inline double share_of(std::vector<double>& values, double share) {
  const auto k = static_cast<std::ptrdiff_t>(share * static_cast<double>(values.size() - 1));
  std::nth_element(values.begin(), values.begin() + k, values.end());
  return values[static_cast<std::size_t>(k)];
}

// A photo: a plate where it stood, a ray from it to where it looks, and a tick on its upper edge. A doubtful one is an
// empty plate that is struck out. Nothing where it is behind the eye.
std::optional<Eigen::Vector2d> draw_photo_glyph(Canvas& canvas, const Eye& eye, const Pose& pose, double size,
                                                bool doubtful = false);

// Outside of what is to be shown, so that it fills `width` by `height` pixels. `distance` in its radii and `focal` in
// heights for the perspective.
inline Eye eye_at(const Eigen::Vector3d& centre, const Eigen::Vector3d& half_size, Side from,
                  const DrawOptions& options, double width, double height, double distance, double focal) {
  Eye eye;
  eye.middle = {0.5 * width, 0.5 * height};
  eye.perspective = from == Side::perspective;
  const double radius = std::max(1e-9, half_size.norm());
  if (eye.perspective) {
    const double azimuth = options.azimuth_deg * std::numbers::pi / 180,
                 elevation = options.elevation_deg * std::numbers::pi / 180;
    const Eigen::Vector3d away(std::cos(azimuth) * std::cos(elevation), std::sin(azimuth) * std::cos(elevation),
                               std::sin(elevation));
    eye.pose = look_at(centre + distance * radius * away, centre,
                       std::abs(away.z()) > 0.999 ? Eigen::Vector3d::UnitY() : Eigen::Vector3d::UnitZ());
    eye.scale = focal * height;
  } else {
    const Eigen::Vector3d away = from == Side::above   ? Eigen::Vector3d::UnitZ()
                                 : from == Side::front ? Eigen::Vector3d(0, -1, 0)
                                                       : Eigen::Vector3d(-1, 0, 0);
    eye.pose = look_at(centre + 4 * radius * away, centre,
                       from == Side::above ? Eigen::Vector3d::UnitY() : Eigen::Vector3d::UnitZ());
    const Eigen::Vector3d across = eye.pose.rotation().cwiseAbs() * half_size;
    eye.scale = 0.44 * std::min(width / std::max(1e-9, across.x()), height / std::max(1e-9, across.y()));
  }
  return eye;
}

inline std::string seen_from(Side from, const DrawOptions& options) {
  switch (from) {
    case Side::above:
      return "from above";
    case Side::front:
      return "from the front (along y)";
    case Side::side:
      return "from the side (along x)";
    case Side::perspective:
      break;
  }
  return fmt::format("seen from {:.0f} degrees around, {:.0f} up", options.azimuth_deg, options.elevation_deg);
}

// Numbers in colour, from the 2nd to the 98th percentile of those that count.
class ValueScale {
 public:
  template <class Counts>
  ValueScale(const std::vector<double>& values, bool logarithmic, const Counts& counts) : logarithmic_(logarithmic) {
    std::vector<double> finite;
    for (std::size_t i = 0; i < values.size(); ++i)
      if (std::isfinite(values[i]) && counts(i)) finite.push_back(values[i]);
    if (!finite.empty()) least_ = share_of(finite, 0.02), most_ = share_of(finite, 0.98);
  }
  std::array<std::uint8_t, 3> colour(double value) const {
    return scale_colour((placed(value) - placed(least_)) / std::max(1e-300, placed(most_) - placed(least_)));
  }
  // At the right border; the picture is 74 pixels narrower there.
  void draw(Canvas& canvas, int height, const std::string& meaning) const {
    const int x0 = canvas.width() - 74;
    for (int y = 60; y < height - 40; ++y)
      for (int x = x0; x < x0 + 20; ++x) {
        const auto c = scale_colour(static_cast<double>(height - 40 - y) / (height - 100));
        canvas.pixel(x, y, c[0], c[1], c[2]);
      }
    canvas.text(canvas.width() - 12, 50, fmt::format("{:.3g}", most_), 14, 0.2, true);
    canvas.text(canvas.width() - 12, height - 22, fmt::format("{:.3g}", least_), 14, 0.2, true);
    if (!meaning.empty())
      canvas.text(canvas.width() - 12, 28, meaning + (logarithmic_ ? " (logarithmic)" : ""), 14, 0.2, true);
  }

 private:
  double placed(double v) const { return logarithmic_ ? std::log(std::max(v, 1e-300)) : v; }
  bool logarithmic_;
  double least_ = 0, most_ = 1;
};

}  // namespace icefield
