#include <Eigen/Core>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <numbers>

#include "icefield/feature/feature.h"
#include "src/feature/scale_space.h"

namespace icefield {
namespace {

constexpr float kTwoPi = 2 * std::numbers::pi_v<float>;

struct Candidate {
  Keypoint keypoint;
  float strength;
  std::array<std::uint8_t, kDescriptorSize> descriptor;
};

// An extremum of the difference of Gaussians, refined to a fraction of a pixel and of a layer.
struct Extremum {
  float x, y, layer;  // in pixels of the octave, indices (the middle of the first pixel is 0)
  float value;
};

bool is_extremum(const Octave& octave, int layer, int x, int y) {
  const float v = octave.difference[layer].at(x, y);
  const bool high = v > 0;
  for (int l = layer - 1; l <= layer + 1; ++l)
    for (int dy = -1; dy <= 1; ++dy) {
      const float* row = octave.difference[l].row(y + dy) + x;
      for (int dx = -1; dx <= 1; ++dx) {
        if (l == layer && dx == 0 && dy == 0) continue;
        if (high ? row[dx] >= v : row[dx] <= v) return false;
      }
    }
  return true;
}

bool refine(const Octave& octave, const FeatureOptions& options, int layer, int x, int y, Extremum& out) {
  const int width = octave.difference[0].width(), height = octave.difference[0].height();
  const float threshold = options.min_contrast / static_cast<float>(options.layers);
  for (int attempt = 0; attempt < 5; ++attempt) {
    const auto at = [&](int dl, int dx, int dy) { return octave.difference[layer + dl].at(x + dx, y + dy); };
    const float v = at(0, 0, 0);
    const Eigen::Vector3f g(0.5f * (at(0, 1, 0) - at(0, -1, 0)), 0.5f * (at(0, 0, 1) - at(0, 0, -1)), 0.5f * (at(1, 0, 0) - at(-1, 0, 0)));
    const float xx = at(0, 1, 0) + at(0, -1, 0) - 2 * v, yy = at(0, 0, 1) + at(0, 0, -1) - 2 * v, ll = at(1, 0, 0) + at(-1, 0, 0) - 2 * v;
    const float xy = 0.25f * (at(0, 1, 1) - at(0, -1, 1) - at(0, 1, -1) + at(0, -1, -1));
    const float xl = 0.25f * (at(1, 1, 0) - at(1, -1, 0) - at(-1, 1, 0) + at(-1, -1, 0));
    const float yl = 0.25f * (at(1, 0, 1) - at(1, 0, -1) - at(-1, 0, 1) + at(-1, 0, -1));
    Eigen::Matrix3f h;
    h << xx, xy, xl, xy, yy, yl, xl, yl, ll;
    const float determinant = h.determinant();
    if (std::abs(determinant) < 1e-20f) return false;
    const Eigen::Vector3f offset = -(h.inverse() * g);
    if (!offset.allFinite()) return false;
    if (offset.cwiseAbs().maxCoeff() <= 0.6f) {
      const float value = v + 0.5f * g.dot(offset);
      if (std::abs(value) < threshold) return false;
      const float trace = xx + yy, det2 = xx * yy - xy * xy, r = options.max_edge_ratio;
      if (det2 <= 0 || trace * trace * r >= (r + 1) * (r + 1) * det2) return false;
      out = {static_cast<float>(x) + offset[0], static_cast<float>(y) + offset[1], static_cast<float>(layer) + offset[2], value};
      return true;
    }
    if (offset.cwiseAbs().maxCoeff() > 4) return false;
    x += static_cast<int>(std::lround(offset[0]));
    y += static_cast<int>(std::lround(offset[1]));
    layer += static_cast<int>(std::lround(offset[2]));
    if (layer < 1 || layer > options.layers || x < 2 || y < 2 || x >= width - 2 || y >= height - 2) return false;
  }
  return false;
}

// Directions of the peaks of the gradient histogram around a keypoint.
void find_angles(const ImageF& gaussian, const Extremum& e, float sigma, std::vector<float>& angles) {
  constexpr int kBins = 36;
  float histogram[kBins] = {};
  const float window = 1.5f * sigma;
  const int radius = static_cast<int>(std::lround(3 * window));
  const int cx = static_cast<int>(std::lround(e.x)), cy = static_cast<int>(std::lround(e.y));
  for (int y = std::max(1, cy - radius); y <= std::min(gaussian.height() - 2, cy + radius); ++y)
    for (int x = std::max(1, cx - radius); x <= std::min(gaussian.width() - 2, cx + radius); ++x) {
      const float dx = static_cast<float>(x) - e.x, dy = static_cast<float>(y) - e.y;
      const float r2 = dx * dx + dy * dy;
      if (r2 > static_cast<float>(radius * radius)) continue;
      const float gx = gaussian.at(x + 1, y) - gaussian.at(x - 1, y), gy = gaussian.at(x, y + 1) - gaussian.at(x, y - 1);
      float angle = std::atan2(gy, gx);
      if (angle < 0) angle += kTwoPi;
      const float bin = angle * (kBins / kTwoPi);
      const int b = static_cast<int>(bin);
      const float share = bin - static_cast<float>(b);
      const float weight = std::exp(-0.5f * r2 / (window * window)) * std::sqrt(gx * gx + gy * gy);
      histogram[b % kBins] += weight * (1 - share);
      histogram[(b + 1) % kBins] += weight * share;
    }
  for (int pass = 0; pass < 2; ++pass) {
    float smooth[kBins];
    for (int i = 0; i < kBins; ++i)
      smooth[i] = 0.25f * histogram[(i + kBins - 1) % kBins] + 0.5f * histogram[i] + 0.25f * histogram[(i + 1) % kBins];
    std::copy(smooth, smooth + kBins, histogram);
  }
  const float highest = *std::max_element(histogram, histogram + kBins);
  angles.clear();
  if (highest <= 0) return;
  for (int i = 0; i < kBins && angles.size() < 3; ++i) {
    const float left = histogram[(i + kBins - 1) % kBins], here = histogram[i], right = histogram[(i + 1) % kBins];
    if (here < 0.8f * highest || here <= left || here < right) continue;
    const float shift = 0.5f * (left - right) / (left - 2 * here + right);
    angles.push_back((static_cast<float>(i) + shift) * (kTwoPi / kBins));
  }
}

// 4 x 4 cells of 8 directions, trilinear, in the keypoint's frame (Lowe 2004, section 6).
void describe(const ImageF& gaussian, const Extremum& e, float sigma, float angle, std::array<std::uint8_t, kDescriptorSize>& out) {
  constexpr int kCells = 4, kDirections = 8;
  float histogram[kCells + 2][kCells + 2][kDirections] = {};
  const float cell = 3 * sigma;
  const float cosine = std::cos(angle) / cell, sine = std::sin(angle) / cell;
  const int radius = static_cast<int>(std::lround(cell * 1.4142135f * (kCells + 1) * 0.5f));
  const int cx = static_cast<int>(std::lround(e.x)), cy = static_cast<int>(std::lround(e.y));
  for (int y = std::max(1, cy - radius); y <= std::min(gaussian.height() - 2, cy + radius); ++y) {
    const float* above = gaussian.row(y - 1);
    const float* row = gaussian.row(y);
    const float* below = gaussian.row(y + 1);
    for (int x = std::max(1, cx - radius); x <= std::min(gaussian.width() - 2, cx + radius); ++x) {
      const float dx = static_cast<float>(x) - e.x, dy = static_cast<float>(y) - e.y;
      const float u = cosine * dx + sine * dy, v = -sine * dx + cosine * dy;  // in cells
      const float column = u + 0.5f * kCells - 0.5f, line = v + 0.5f * kCells - 0.5f;
      if (column <= -1 || column >= kCells || line <= -1 || line >= kCells) continue;
      const float gx = row[x + 1] - row[x - 1], gy = below[x] - above[x];
      const float magnitude = std::sqrt(gx * gx + gy * gy) * std::exp(-(u * u + v * v) / (0.5f * kCells * kCells));
      float direction = (std::atan2(gy, gx) - angle) * (kDirections / kTwoPi);
      direction -= kDirections * std::floor(direction / kDirections);
      const int c0 = static_cast<int>(std::floor(column)), l0 = static_cast<int>(std::floor(line)), d0 = static_cast<int>(direction);
      const float fc = column - static_cast<float>(c0), fl = line - static_cast<float>(l0), fd = direction - static_cast<float>(d0);
      const int d[2] = {d0 % kDirections, (d0 + 1) % kDirections};
      for (int il = 0; il < 2; ++il)
        for (int ic = 0; ic < 2; ++ic) {
          const float w = magnitude * (il ? fl : 1 - fl) * (ic ? fc : 1 - fc);
          float* bins = histogram[l0 + 1 + il][c0 + 1 + ic];
          bins[d[0]] += w * (1 - fd);
          bins[d[1]] += w * fd;
        }
    }
  }
  float values[kDescriptorSize];
  float norm2 = 0;
  for (int l = 0, k = 0; l < kCells; ++l)
    for (int c = 0; c < kCells; ++c)
      for (int d = 0; d < kDirections; ++d, ++k) {
        values[k] = histogram[l + 1][c + 1][d];
        norm2 += values[k] * values[k];
      }
  // Large gradients are capped against changes of light, then the root of the shares is taken: its Euclidean distance is
  // the Hellinger distance of the histograms.
  const float cap = 0.2f * std::sqrt(norm2);
  float sum = 1e-12f;
  for (float& v : values) {
    v = std::min(v, cap);
    sum += v;
  }
  for (int k = 0; k < kDescriptorSize; ++k)
    out[k] = static_cast<std::uint8_t>(std::min(127.0f, std::floor(420.0f * std::sqrt(values[k] / sum) + 0.5f)));
}

// Keeps the strongest of each cell of a grid in turns, so that features cover the photo.
void spread(std::vector<Candidate>& candidates, int width, int height, int limit) {
  std::stable_sort(candidates.begin(), candidates.end(), [](const Candidate& a, const Candidate& b) { return a.strength > b.strength; });
  if (static_cast<int>(candidates.size()) <= limit) return;
  constexpr int kAcross = 12;
  const float cell = static_cast<float>(std::max(width, height)) / kAcross;
  std::vector<int> filled(kAcross * kAcross, 0);
  std::vector<std::pair<int, std::size_t>> order(candidates.size());  // rank inside its cell, index
  for (std::size_t i = 0; i < candidates.size(); ++i) {
    const int cx = std::clamp(static_cast<int>(candidates[i].keypoint.x / cell), 0, kAcross - 1);
    const int cy = std::clamp(static_cast<int>(candidates[i].keypoint.y / cell), 0, kAcross - 1);
    order[i] = {filled[cy * kAcross + cx]++, i};
  }
  std::sort(order.begin(), order.end());
  std::vector<Candidate> kept;
  kept.reserve(limit);
  for (int i = 0; i < limit; ++i) kept.push_back(candidates[order[i].second]);
  candidates = std::move(kept);
}

}  // namespace

ImageF double_size(const ImageF& image) {
  ImageF big(2 * image.width(), 2 * image.height());
  for (int y = 0; y < big.height(); ++y)
    for (int x = 0; x < big.width(); ++x)
      big.at(x, y) = sample_bilinear(image, 0.5f * (static_cast<float>(x) + 0.5f), 0.5f * (static_cast<float>(y) + 0.5f));
  return big;
}

Features find_features(const ImageF& grey, const FeatureOptions& options) {
  std::vector<Candidate> candidates;
  std::vector<float> angles;
  const float early = 0.5f * options.min_contrast / static_cast<float>(options.layers);
  // Image coordinate of the middle of the octave's first pixel.
  const float origin = starts_doubled(grey, options) ? 0.25f : 0.5f;
  for_each_octave(grey, options, [&](const Octave& octave) {
    const int width = octave.difference[0].width(), height = octave.difference[0].height();
    for (int layer = 1; layer <= options.layers; ++layer)
      for (int y = 2; y < height - 2; ++y) {
        const float* row = octave.difference[layer].row(y);
        for (int x = 2; x < width - 2; ++x) {
          if (std::abs(row[x]) < early || !is_extremum(octave, layer, x, y)) continue;
          Extremum e;
          if (!refine(octave, options, layer, x, y, e)) continue;
          const float sigma = options.first_blur_px * std::exp2(e.layer / static_cast<float>(options.layers));
          const int nearest = std::clamp(static_cast<int>(std::lround(e.layer)), 0, options.layers + 2);
          const ImageF& gaussian = octave.gaussian[nearest];
          find_angles(gaussian, e, sigma, angles);
          for (float angle : angles) {
            Candidate candidate;
            candidate.keypoint = {origin + e.x * octave.pixel_size, origin + e.y * octave.pixel_size, sigma * octave.pixel_size, angle};
            candidate.strength = std::abs(e.value);
            describe(gaussian, e, sigma, angle, candidate.descriptor);
            candidates.push_back(candidate);
          }
        }
      }
  });
  spread(candidates, grey.width(), grey.height(), options.max_features);
  Features features;
  features.keypoints.reserve(candidates.size());
  features.descriptors.reserve(candidates.size() * kDescriptorSize);
  for (const Candidate& c : candidates) {
    features.keypoints.push_back(c.keypoint);
    features.descriptors.insert(features.descriptors.end(), c.descriptor.begin(), c.descriptor.end());
  }
  return features;
}

}  // namespace icefield
