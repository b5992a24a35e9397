// A made-up texture seen through similarities.
#pragma once
#include <algorithm>
#include <cmath>

#include "icefield/photo/image.h"
#include "simulate/noise.h"

namespace icefield::test {

// pixel = scale * rotation * (texture), about the middle; brightness around 0.45 by `contrast`, times `brightness`.
inline ImageF textured(int width, int height, double angle = 0, double scale = 1, double brightness = 1,
                       double contrast = 0.25) {
  ImageF image(width, height);
  for (int y = 0; y < height; ++y)
    for (int x = 0; x < width; ++x) {
      const double u = x + 0.5 - 0.5 * width, v = y + 0.5 - 0.5 * height;
      const double tx = (std::cos(angle) * u + std::sin(angle) * v) / scale,
                   ty = (-std::sin(angle) * u + std::cos(angle) * v) / scale;
      const float value =
          simulate::fractal({static_cast<float>(0.02 * tx + 50), static_cast<float>(0.02 * ty + 50), 0.3f}, 1.0f, 6,
                            0.7f, static_cast<float>(0.02 / scale), 7);
      image.at(x, y) = static_cast<float>(std::clamp(brightness * (0.45 + contrast * value), 0.0, 1.0));
    }
  return image;
}

}  // namespace icefield::test
