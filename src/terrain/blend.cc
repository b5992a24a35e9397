#include "src/terrain/blend.h"

#include <algorithm>
#include <vector>

namespace icefield {
namespace {

constexpr float kKernel[5] = {1 / 16.0f, 4 / 16.0f, 6 / 16.0f, 4 / 16.0f, 1 / 16.0f};
constexpr std::size_t kRows = 16;

// Half as many each way; beyond the border there is nothing.
ImageF reduce(const ImageF& fine, const Executor& executor) {
  const int channels = fine.channels(), width = fine.width() / 2, height = fine.height() / 2;
  ImageF across(width, fine.height(), channels);
  executor.blocks(static_cast<std::size_t>(fine.height()), kRows, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
      for (int x = 0; x < width; ++x)
        for (int c = 0; c < channels; ++c) {
          float sum = 0;
          for (int k = -2; k <= 2; ++k) {
            const int u = 2 * x + k;
            if (u >= 0 && u < fine.width()) sum += kKernel[k + 2] * fine.at(u, y, c);
          }
          across.at(x, y, c) = sum;
        }
  });
  ImageF coarse(width, height, channels);
  const int row = width * channels;
  executor.blocks(static_cast<std::size_t>(height), kRows, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
      for (int k = -2; k <= 2; ++k) {
        const int v = 2 * y + k;
        if (v < 0 || v >= fine.height()) continue;
        const float* in = across.row(v);
        float* out = coarse.row(y);
        for (int i = 0; i < row; ++i) out[i] += kKernel[k + 2] * in[i];
      }
  });
  return coarse;
}

// Adds (sign +1 or -1) a coarse raster, brought to twice its size, to a fine one.
void expand_onto(const ImageF& coarse, float sign, ImageF& fine, const Executor& executor) {
  const int channels = fine.channels(), row = fine.width() * channels;
  ImageF across(fine.width(), coarse.height(), channels);
  executor.blocks(static_cast<std::size_t>(coarse.height()), kRows,
                  [&](std::size_t, std::size_t begin, std::size_t end) {
                    for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
                      for (int x = 0; x < fine.width(); ++x)
                        for (int c = 0; c < channels; ++c) {
                          float sum = 0;
                          for (int k = -2; k <= 2; ++k) {
                            if ((x - k) % 2 != 0) continue;
                            const int u = (x - k) / 2;
                            if (x - k >= 0 && u < coarse.width()) sum += 2 * kKernel[k + 2] * coarse.at(u, y, c);
                          }
                          across.at(x, y, c) = sum;
                        }
                  });
  executor.blocks(static_cast<std::size_t>(fine.height()), kRows, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (int y = static_cast<int>(begin); y < static_cast<int>(end); ++y)
      for (int k = -2; k <= 2; ++k) {
        if ((y - k) % 2 != 0 || y - k < 0) continue;
        const int v = (y - k) / 2;
        if (v >= coarse.height()) continue;
        const float weight = sign * 2 * kKernel[k + 2];
        const float* in = across.row(v);
        float* out = fine.row(y);
        for (int i = 0; i < row; ++i) out[i] += weight * in[i];
      }
  });
}

void multiply(ImageF& values, const ImageF& mask) {
  const int channels = values.channels();
  for (std::size_t i = 0; i < mask.data().size(); ++i)
    for (int c = 0; c < channels; ++c)
      values.data()[i * static_cast<std::size_t>(channels) + static_cast<std::size_t>(c)] *= mask.data()[i];
}

}  // namespace

ImageF blend_in(const ImageF& differs, const ImageF& mask, int levels, const Executor& executor) {
  std::vector<ImageF> bands{differs}, masks{mask};
  for (int k = 0; k < levels; ++k) {
    bands.push_back(reduce(bands.back(), executor));
    masks.push_back(reduce(masks.back(), executor));
    const auto at = static_cast<std::size_t>(k);
    expand_onto(bands[at + 1], -1, bands[at], executor);
    multiply(bands[at], masks[at]);
  }
  multiply(bands.back(), masks.back());
  for (std::size_t k = bands.size() - 1; k > 0; --k) expand_onto(bands[k], 1, bands[k - 1], executor);
  return std::move(bands.front());
}

}  // namespace icefield
