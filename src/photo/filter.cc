#include "icefield/photo/filter.h"

#include <algorithm>
#include <cmath>

namespace icefield {

int mirrored(int i, int n) {
  if (n == 1) return 0;
  while (i < 0 || i >= n) i = i < 0 ? -1 - i : 2 * n - 1 - i;
  return i;
}

namespace {

template <class T>
ImageF luminance(const Image<T>& image, float scale) {
  ImageF grey(image.width(), image.height());
  const auto channels = static_cast<std::size_t>(image.channels());
  const T* in = image.data().data();
  float* out = grey.data().data();
  const std::size_t count = image.pixels();
  if (channels < 3) {
    for (std::size_t i = 0; i < count; ++i) out[i] = static_cast<float>(in[i * channels]) * scale;
  } else {
    for (std::size_t i = 0; i < count; ++i) {
      const T* p = in + i * channels;
      out[i] = (0.2126f * static_cast<float>(p[0]) + 0.7152f * static_cast<float>(p[1]) +
                0.0722f * static_cast<float>(p[2])) *
               scale;
    }
  }
  return grey;
}

}  // namespace

ImageF to_grey(const ImageU8& image) {
  return luminance(image, 1.0f / 255.0f);
}

ImageF to_grey(const ImageF& image) {
  return luminance(image, 1.0f);
}

ImageF gaussian_blur(const ImageF& image, float sigma_px) {
  const int radius = std::max(1, static_cast<int>(std::ceil(4.0f * sigma_px)));
  std::vector<float> kernel(radius + 1);
  float sum = 0;
  for (int i = 0; i <= radius; ++i) {
    kernel[i] = std::exp(-0.5f * static_cast<float>(i * i) / (sigma_px * sigma_px));
    sum += i == 0 ? kernel[i] : 2 * kernel[i];
  }
  for (float& k : kernel) k /= sum;

  const int width = image.width(), height = image.height();
  ImageF result(width, height);
  // Vertical first, row by row; then horizontal in place over a padded copy of each row. Inner loops run along rows so
  // that the compiler turns them into vector code.
  std::vector<float> padded(width + 2 * radius);
  for (int y = 0; y < height; ++y) {
    float* middle = padded.data() + radius;
    const float* centre = image.row(y);
    for (int x = 0; x < width; ++x) middle[x] = kernel[0] * centre[x];
    for (int k = 1; k <= radius; ++k) {
      const float* above = image.row(mirrored(y - k, height));
      const float* below = image.row(mirrored(y + k, height));
      const float weight = kernel[k];
      for (int x = 0; x < width; ++x) middle[x] += weight * (above[x] + below[x]);
    }
    for (int k = 1; k <= radius; ++k) {
      middle[-k] = middle[mirrored(-k, width)];
      middle[width - 1 + k] = middle[mirrored(width - 1 + k, width)];
    }
    float* out = result.row(y);
    for (int x = 0; x < width; ++x) out[x] = kernel[0] * middle[x];
    for (int k = 1; k <= radius; ++k) {
      const float weight = kernel[k];
      for (int x = 0; x < width; ++x) out[x] += weight * (middle[x - k] + middle[x + k]);
    }
  }
  return result;
}

ImageF take_half(const ImageF& image) {
  ImageF half((image.width() + 1) / 2, (image.height() + 1) / 2);
  for (int y = 0; y < half.height(); ++y) {
    const float* in = image.row(2 * y);
    float* out = half.row(y);
    for (int x = 0; x < half.width(); ++x) out[x] = in[2 * x];
  }
  return half;
}

ImageU8 shrink(const ImageU8& image, int factor) {
  if (factor <= 1) return image;
  const int channels = image.channels();
  ImageU8 small(std::max(1, image.width() / factor), std::max(1, image.height() / factor), channels);
  std::vector<unsigned> sums(static_cast<std::size_t>(small.width()) * channels);
  for (int y = 0; y < small.height(); ++y) {
    std::fill(sums.begin(), sums.end(), 0u);
    int rows = 0;
    for (int dy = 0; dy < factor && y * factor + dy < image.height(); ++dy, ++rows) {
      const std::uint8_t* in = image.row(y * factor + dy);
      for (int x = 0; x < small.width(); ++x)
        for (int dx = 0; dx < factor; ++dx)
          for (int c = 0; c < channels; ++c)
            sums[x * channels + c] += in[std::min(x * factor + dx, image.width() - 1) * channels + c];
    }
    const unsigned count = static_cast<unsigned>(rows * factor);
    std::uint8_t* out = small.row(y);
    for (std::size_t i = 0; i < sums.size(); ++i) out[i] = static_cast<std::uint8_t>((sums[i] + count / 2) / count);
  }
  return small;
}

float sample_bilinear(const ImageF& image, float x, float y, int channel) {
  x = std::clamp(x - 0.5f, 0.0f, static_cast<float>(image.width() - 1));
  y = std::clamp(y - 0.5f, 0.0f, static_cast<float>(image.height() - 1));
  const int x0 = static_cast<int>(x), y0 = static_cast<int>(y);
  const int x1 = std::min(x0 + 1, image.width() - 1), y1 = std::min(y0 + 1, image.height() - 1);
  const float fx = x - static_cast<float>(x0), fy = y - static_cast<float>(y0);
  const float top = image.at(x0, y0, channel) * (1 - fx) + image.at(x1, y0, channel) * fx;
  const float bottom = image.at(x0, y1, channel) * (1 - fx) + image.at(x1, y1, channel) * fx;
  return top * (1 - fy) + bottom * fy;
}

PhotoScores score_photo(const ImageF& grey) {
  PhotoScores scores;
  double sum = 0, dark = 0, bright = 0;
  for (float v : grey.data()) {
    sum += v;
    dark += v < 0.02f;
    bright += v > 0.98f;
  }
  const double count = std::max<std::size_t>(1, grey.pixels());
  scores.mean_brightness = static_cast<float>(sum / count);
  scores.dark_share = static_cast<float>(dark / count);
  scores.bright_share = static_cast<float>(bright / count);

  // A slight blur takes out pixel noise; a photo blurred by the lens or by motion loses little more by a second blur.
  const ImageF fine = gaussian_blur(grey, 0.7f), coarse = gaussian_blur(grey, 2.0f);
  // Sums of products of the gradients give the energy along any direction.
  double fine_xx = 0, fine_xy = 0, fine_yy = 0, coarse_xx = 0, coarse_xy = 0, coarse_yy = 0;
  for (int y = 1; y < grey.height(); ++y)
    for (int x = 1; x < grey.width(); ++x) {
      const double fx = fine.at(x, y) - fine.at(x - 1, y), fy = fine.at(x, y) - fine.at(x, y - 1);
      const double cx = coarse.at(x, y) - coarse.at(x - 1, y), cy = coarse.at(x, y) - coarse.at(x, y - 1);
      fine_xx += fx * fx, fine_xy += fx * fy, fine_yy += fy * fy;
      coarse_xx += cx * cx, coarse_xy += cx * cy, coarse_yy += cy * cy;
    }
  if (!(fine_xx + fine_yy > 0)) return scores;
  // The least sharp direction counts: motion blurs one only.
  scores.sharpness = 1;
  for (int k = 0; k < 8; ++k) {
    const double c = std::cos(k * 0.39269908), s = std::sin(k * 0.39269908);
    const double f = c * c * fine_xx + 2 * c * s * fine_xy + s * s * fine_yy,
                 e = c * c * coarse_xx + 2 * c * s * coarse_xy + s * s * coarse_yy;
    scores.sharpness = std::min(scores.sharpness, f > 0 ? static_cast<float>(1 - e / f) : 0.0f);
  }
  return scores;
}

}  // namespace icefield
