// Colours between the pixels of a photo.
#pragma once
#include <Eigen/Core>
#include <algorithm>
#include <array>
#include <cmath>

#include "icefield/photo/image.h"

namespace icefield {

// RGB of a pixel, 0 to 255; grey photos have it in all channels. Beyond the border that of the border.
inline Eigen::Vector3f pixel_rgb(const ImageU8& image, int x, int y) {
  x = std::clamp(x, 0, image.width() - 1), y = std::clamp(y, 0, image.height() - 1);
  const std::uint8_t* p = image.row(y) + static_cast<std::size_t>(x) * static_cast<std::size_t>(image.channels());
  if (image.channels() < 3) return Eigen::Vector3f::Constant(p[0]);
  return {static_cast<float>(p[0]), static_cast<float>(p[1]), static_cast<float>(p[2])};
}

// Places are in image coordinates: the middle of the first pixel is (0.5, 0.5).
inline Eigen::Vector3f rgb_bilinear(const ImageU8& image, float x, float y) {
  x -= 0.5f, y -= 0.5f;
  const float left = std::floor(x), top = std::floor(y), fx = x - left, fy = y - top;
  const int x0 = static_cast<int>(left), y0 = static_cast<int>(top);
  return (1 - fy) * ((1 - fx) * pixel_rgb(image, x0, y0) + fx * pixel_rgb(image, x0 + 1, y0)) +
         fy * ((1 - fx) * pixel_rgb(image, x0, y0 + 1) + fx * pixel_rgb(image, x0 + 1, y0 + 1));
}

// Cubic convolution with a = -1/2 (Keys, "Cubic convolution interpolation for digital image processing", 1981): keeps
// more of the finest detail than bilinear values do; may leave 0 to 255 a little.
inline Eigen::Vector3f rgb_cubic(const ImageU8& image, float x, float y) {
  x -= 0.5f, y -= 0.5f;
  const float left = std::floor(x), top = std::floor(y);
  const auto weights = [](float t) {
    const float t2 = t * t, t3 = t2 * t;
    return std::array<float, 4>{0.5f * (-t3 + 2 * t2 - t), 0.5f * (3 * t3 - 5 * t2 + 2), 0.5f * (-3 * t3 + 4 * t2 + t),
                                0.5f * (t3 - t2)};
  };
  const auto wx = weights(x - left), wy = weights(y - top);
  const int x0 = static_cast<int>(left) - 1, y0 = static_cast<int>(top) - 1;
  Eigen::Vector3f sum = Eigen::Vector3f::Zero();
  for (int j = 0; j < 4; ++j) {
    Eigen::Vector3f row = Eigen::Vector3f::Zero();
    for (int i = 0; i < 4; ++i) row += wx[static_cast<std::size_t>(i)] * pixel_rgb(image, x0 + i, y0 + j);
    sum += wy[static_cast<std::size_t>(j)] * row;
  }
  return sum;
}

}  // namespace icefield
