// What all pictures share.
#pragma once
#include <algorithm>
#include <array>
#include <string>

#include "src/draw/canvas.h"

namespace icefield {

inline constexpr int kFooter = 44;

// Blue over green and yellow to red, evenly bright enough to be read on grey.
inline std::array<std::uint8_t, 3> scale_colour(double t) {
  t = std::clamp(t, 0.0, 1.0);
  static constexpr double stops[6][3] = {{48, 18, 110}, {40, 90, 190}, {30, 160, 160}, {110, 200, 80}, {240, 200, 50}, {220, 70, 30}};
  const double at = t * 5;
  const int i = std::min(4, static_cast<int>(at));
  std::array<std::uint8_t, 3> colour;
  for (int c = 0; c < 3; ++c) colour[c] = static_cast<std::uint8_t>(stops[i][c] + (at - i) * (stops[i + 1][c] - stops[i][c]));
  return colour;
}

// A line below the picture: what is shown, and its numbers.
inline void footer(Canvas& canvas, const std::string& title, const std::string& right) {
  canvas.box(0, canvas.height() - kFooter, canvas.width(), kFooter, 1, 1, 1, 1);
  canvas.text(16, canvas.height() - 16, title, 18, 0.15);
  canvas.text(canvas.width() - 16, canvas.height() - 16, right, 16, 0.4, true);
}

// The photo at (x, y), `scale` times its size.
inline void paste(Canvas& canvas, const ImageU8& photo, int x, int y, double scale, double brightness = 1) {
  const int w = std::min(static_cast<int>(photo.width() * scale), canvas.width() - x), h = std::min(static_cast<int>(photo.height() * scale), canvas.height() - y);
  const int last = photo.channels() >= 3 ? 2 : 0;
  for (int row = 0; row < h; ++row)
    for (int column = 0; column < w; ++column) {
      const int u = std::min(static_cast<int>(column / scale), photo.width() - 1), v = std::min(static_cast<int>(row / scale), photo.height() - 1);
      const auto at = [&](int c) { return static_cast<std::uint8_t>(brightness * photo.at(u, v, c)); };
      canvas.pixel(x + column, y + row, at(0), at(last / 2), at(last));
    }
}

}  // namespace icefield
