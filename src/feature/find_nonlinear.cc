// Features of a non-linear scale space: blurred within borders and not across them. Alcantarilla, Nuevo and Bartoli,
// "Fast explicit diffusion for accelerated features in nonlinear scale spaces", 2013.
#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

#include "icefield/photo/filter.h"
#include "src/feature/kinds.h"
#include "src/feature/spread.h"

namespace icefield {
namespace {

constexpr int kLevels = 4;  // of an octave
constexpr float kFirstSigma = 1.6f;
constexpr int kSmallest = 40;      // px, of an octave
constexpr std::size_t kRows = 16;  // of a unit of work

float sigma_of(float level) {
  return kFirstSigma * std::exp2(level / kLevels);
}

// Runs unit(y) for each row.
template <class Unit>
void each_row(int height, const Executor& executor, Unit&& unit) {
  executor.blocks(static_cast<std::size_t>(height), kRows, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t y = begin; y < end; ++y) unit(static_cast<int>(y));
  });
}

// First derivative over a distance of `reach` px both ways, weighted 3, 10, 3 over the lines beside it (Scharr's
// weights). Columns: along x; otherwise along y. Near the border, mirrored.
ImageF derivative(const ImageF& image, int reach, bool along_x, const Executor& executor) {
  const int w = image.width(), h = image.height();
  ImageF out(w, h);
  const float middle = 10.0f / 16 / static_cast<float>(2 * reach), side = 3.0f / 16 / static_cast<float>(2 * reach);
  each_row(h, executor, [&](int y) {
    const float *above = image.row(mirrored(y - reach, h)), *here = image.row(y),
                *below = image.row(mirrored(y + reach, h));
    float* to = out.row(y);
    const auto at = [&](int x, int left, int right) {
      return along_x
                 ? middle * (here[right] - here[left]) +
                       side * (above[right] - above[left] + below[right] - below[left])
                 : middle * (below[x] - above[x]) + side * (below[left] - above[left] + below[right] - above[right]);
    };
    const int edge = std::min(reach, w);
    for (int x = 0; x < edge; ++x) to[x] = at(x, mirrored(x - reach, w), mirrored(x + reach, w));
    for (int x = edge; x < w - reach; ++x) to[x] = at(x, x - reach, x + reach);
    for (int x = std::max(edge, w - reach); x < w; ++x) to[x] = at(x, mirrored(x - reach, w), mirrored(x + reach, w));
  });
  return out;
}

// Over a distance of any length from 1 on, between those of whole pixels: rounded ones would make some levels respond
// more than others, and features would settle on those whatever their size.
ImageF derivative(const ImageF& image, float reach, bool along_x, const Executor& executor) {
  const int whole = std::max(1, static_cast<int>(reach));
  const float part = std::max(0.0f, reach - static_cast<float>(whole));
  ImageF out = derivative(image, whole, along_x, executor);
  if (part < 1e-3f) return out;
  const ImageF farther = derivative(image, whole + 1, along_x, executor);
  const float near_weight = (1 - part) * static_cast<float>(whole) / reach,
              far_weight = part * static_cast<float>(whole + 1) / reach;
  for (std::size_t i = 0; i < out.pixels(); ++i)
    out.data()[i] = near_weight * out.data()[i] + far_weight * farther.data()[i];
  return out;
}

// The gradient that 70 percent of the pixels stay under: the border between noise and edges.
float edge_gradient(const ImageF& grey, const Executor& executor) {
  const ImageF smooth = gaussian_blur(grey, 1);
  const ImageF dx = derivative(smooth, 1, true, executor), dy = derivative(smooth, 1, false, executor);
  float largest = 0;
  for (std::size_t i = 0; i < dx.pixels(); ++i) largest = std::max(largest, std::hypot(dx.data()[i], dy.data()[i]));
  if (!(largest > 0)) return 1;
  std::array<std::size_t, 512> histogram{};
  for (std::size_t i = 0; i < dx.pixels(); ++i)
    ++histogram[static_cast<std::size_t>(std::min(511.0f, 512 * std::hypot(dx.data()[i], dy.data()[i]) / largest))];
  std::size_t sum = 0, bin = 0;
  while (bin < 511 && static_cast<double>(sum += histogram[bin]) < 0.7 * static_cast<double>(dx.pixels())) ++bin;
  return std::max(1e-4f, largest * (static_cast<float>(bin) + 1) / 512);
}

// One explicit step of d image / d time = div(conductivity grad image); nothing flows over the border.
void diffuse(ImageF& image, ImageF& next, const ImageF& conductivity, float time, const Executor& executor) {
  const int w = image.width(), h = image.height();
  const float half = 0.5f * time;
  each_row(h, executor, [&](int y) {
    const int up = std::max(0, y - 1), down = std::min(h - 1, y + 1);
    const float *l = image.row(y), *lu = image.row(up), *ld = image.row(down), *g = conductivity.row(y),
                *gu = conductivity.row(up), *gd = conductivity.row(down);
    float* to = next.row(y);
    const auto at = [&](int x, int left, int right) {
      return l[x] + half * ((g[x] + g[right]) * (l[right] - l[x]) - (g[left] + g[x]) * (l[x] - l[left]) +
                            (g[x] + gd[x]) * (ld[x] - l[x]) - (gu[x] + g[x]) * (l[x] - lu[x]));
    };
    to[0] = at(0, 0, std::min(1, w - 1));
    for (int x = 1; x < w - 1; ++x) to[x] = at(x, x - 1, x + 1);
    if (w > 1) to[w - 1] = at(w - 1, w - 2, w - 1);
  });
  std::swap(image, next);
}

// Steps of fast explicit diffusion (Grewenig, Weickert and Bruhn, "From box filtering to fast explicit diffusion",
// 2010): single ones are too long to be stable, the whole cycle is.
std::vector<float> cycle(float time) {
  constexpr float kStable = 0.25f;
  const int count = std::max(1, static_cast<int>(std::ceil(std::sqrt(3 * time / kStable + 0.25f) - 0.5f - 1e-6f)));
  const float scale = 3 * time / (kStable * static_cast<float>(count * (count + 1)));
  std::vector<float> steps;
  for (int k = 0; k < count; ++k) {
    const float c =
        std::cos(std::numbers::pi_v<float> * static_cast<float>(2 * k + 1) / static_cast<float>(4 * count + 2));
    steps.push_back(0.5f * scale * kStable / (c * c));
  }
  return steps;
}

ImageF halved(const ImageF& image) {
  ImageF out(image.width() / 2, image.height() / 2);
  for (int y = 0; y < out.height(); ++y)
    for (int x = 0; x < out.width(); ++x)
      out.at(x, y) = 0.25f * (image.at(2 * x, 2 * y) + image.at(2 * x + 1, 2 * y) + image.at(2 * x, 2 * y + 1) +
                              image.at(2 * x + 1, 2 * y + 1));
  return out;
}

struct Level {
  int number, octave;
  float sigma;  // px of the octave
  const ImageF& image;
};

// Visits the levels from fine to coarse; nothing of one is kept for the next but its image.
template <class Visit>
void walk_scale_space(const ImageF& grey, const Executor& executor, Visit&& visit) {
  float edge = edge_gradient(grey, executor);
  ImageF image = gaussian_blur(grey, kFirstSigma), next(image.width(), image.height()),
         conductivity(image.width(), image.height());
  for (int number = 0, octave = 0;; ++number) {
    if (number > 0) {
      if (number % kLevels == 0) {
        if (std::min(image.width(), image.height()) / 2 < kSmallest) return;
        image = halved(image);
        next = ImageF(image.width(), image.height());
        conductivity = ImageF(image.width(), image.height());
        edge *= 0.75f;
        ++octave;
      }
      const ImageF smooth = gaussian_blur(image, 1);
      const ImageF dx = derivative(smooth, 1, true, executor), dy = derivative(smooth, 1, false, executor);
      const float inverse2 = 1 / (edge * edge);
      each_row(image.height(), executor, [&](int y) {
        const float *px = dx.row(y), *py = dy.row(y);
        float* to = conductivity.row(y);
        for (int x = 0; x < image.width(); ++x) to[x] = 1 / (1 + (px[x] * px[x] + py[x] * py[x]) * inverse2);
      });
      // From the blur of the level before to that of this one, in pixels of the octave.
      const float before = sigma_of(static_cast<float>(number - 1)), now = sigma_of(static_cast<float>(number));
      for (const float step :
           cycle(0.5f * (now * now - before * before) / std::exp2(2.0f * static_cast<float>(octave))))
        diffuse(image, next, conductivity, step, executor);
    }
    visit(Level{number, octave, sigma_of(static_cast<float>(number)) / std::exp2(static_cast<float>(octave)), image});
  }
}

struct Derivatives {
  ImageF x, y;
  float reach;
};
Derivatives derivatives_of(const Level& level, const Executor& executor) {
  const float reach = std::max(1.0f, level.sigma);
  const ImageF smooth = gaussian_blur(level.image, 1);
  return {derivative(smooth, reach, true, executor), derivative(smooth, reach, false, executor), reach};
}

// Maxima of the scale-normalised determinant of the Hessian over their neighbours in the level, to a fraction of a
// pixel.
std::vector<Candidate> maxima(const Level& level, float threshold, float max_edge_ratio, const Executor& executor) {
  const Derivatives d = derivatives_of(level, executor);
  const ImageF xx = derivative(d.x, d.reach, true, executor), xy = derivative(d.x, d.reach, false, executor),
               yy = derivative(d.y, d.reach, false, executor);
  const int w = level.image.width(), h = level.image.height();
  ImageF response(w, h);
  const float normal = std::pow(level.sigma, 4.0f);
  each_row(h, executor, [&](int y) {
    const float *a = xx.row(y), *b = xy.row(y), *c = yy.row(y);
    float* to = response.row(y);
    for (int x = 0; x < w; ++x) to[x] = normal * (a[x] * c[x] - b[x] * b[x]);
  });
  const int border = std::max(2, static_cast<int>(std::ceil(2 * d.reach)));
  std::vector<std::vector<Candidate>> parts(block_count(static_cast<std::size_t>(h), kRows));
  executor.blocks(static_cast<std::size_t>(h), kRows, [&](std::size_t part, std::size_t begin, std::size_t end) {
    for (int y = std::max(border, static_cast<int>(begin)); y < std::min(h - border, static_cast<int>(end)); ++y)
      for (int x = border; x < w - border; ++x) {
        const float v = response.at(x, y);
        if (v < threshold) continue;
        bool largest = true;
        for (int dy = -1; dy <= 1 && largest; ++dy)
          for (int dx = -1; dx <= 1; ++dx)
            if ((dx != 0 || dy != 0) && (response.at(x + dx, y + dy) > v ||
                                         (response.at(x + dx, y + dy) == v && (dy < 0 || (dy == 0 && dx < 0)))))
              largest = false;
        if (!largest) continue;
        const float trace = xx.at(x, y) + yy.at(x, y), determinant = v / normal;
        if (trace * trace * max_edge_ratio >= (max_edge_ratio + 1) * (max_edge_ratio + 1) * determinant) continue;
        const auto at = [&](int dx, int dy) { return response.at(x + dx, y + dy); };
        const float gx = 0.5f * (at(1, 0) - at(-1, 0)), gy = 0.5f * (at(0, 1) - at(0, -1));
        const float hxx = at(1, 0) + at(-1, 0) - 2 * v, hyy = at(0, 1) + at(0, -1) - 2 * v,
                    hxy = 0.25f * (at(1, 1) - at(-1, 1) - at(1, -1) + at(-1, -1));
        const float det = hxx * hyy - hxy * hxy;
        if (!(det > 0)) continue;
        const float ox = (hxy * gy - hyy * gx) / det, oy = (hxy * gx - hxx * gy) / det;
        if (!(std::abs(ox) <= 1 && std::abs(oy) <= 1)) continue;
        const float size = std::exp2(static_cast<float>(level.octave));
        Candidate c;
        c.x = static_cast<float>(x) + ox, c.y = static_cast<float>(y) + oy, c.layer = static_cast<float>(level.number);
        c.photo_x = (c.x + 0.5f) * size, c.photo_y = (c.y + 0.5f) * size;
        c.strength = v;
        c.octave = level.octave;
        parts[part].push_back(c);
      }
  });
  std::vector<Candidate> all;
  for (const auto& part : parts) all.insert(all.end(), part.begin(), part.end());
  return all;
}

// Leaves out those that a stronger one of the same or a neighbouring level stands beside. The layer of those kept
// becomes a fraction, by a parabola through their strength and that of the strongest beside them in both neighbouring
// levels.
std::vector<Candidate> strongest_over_levels(const std::vector<std::vector<Candidate>>& levels) {
  std::vector<Candidate> kept;
  for (std::size_t l = 0; l < levels.size(); ++l) {
    const float reach = sigma_of(static_cast<float>(l));
    // Neighbours by cells of the reach.
    const auto cell = [&](float v) { return static_cast<std::int64_t>(v / reach); };
    struct Near {
      std::int64_t first;
      const Candidate* second;
      std::size_t level;
    };
    std::vector<Near> near;
    for (std::size_t k = l > 0 ? l - 1 : 0; k <= std::min(levels.size() - 1, l + 1); ++k)
      for (const Candidate& c : levels[k]) near.push_back({cell(c.photo_y) << 32 | cell(c.photo_x), &c, k});
    std::sort(near.begin(), near.end(), [](const Near& a, const Near& b) { return a.first < b.first; });
    for (const Candidate& c : levels[l]) {
      bool strongest = true;
      float finer = 0, coarser = 0;
      for (std::int64_t dy = -1; dy <= 1; ++dy) {
        const std::int64_t row = (cell(c.photo_y) + dy) << 32,
                           from = row | std::max<std::int64_t>(0, cell(c.photo_x) - 1),
                           to = row | (cell(c.photo_x) + 1);
        for (auto it = std::lower_bound(near.begin(), near.end(), from,
                                        [](const auto&a, std::int64_t v) { return a.first < v; });
             it != near.end() && it->first <= to; ++it)
          if (std::hypot(it->second->photo_x - c.photo_x, it->second->photo_y - c.photo_y) < reach) {
            if (it->second->strength > c.strength) strongest = false;
            if (it->level < l) finer = std::max(finer, it->second->strength);
            if (it->level > l) coarser = std::max(coarser, it->second->strength);
          }
      }
      if (!strongest) continue;
      kept.push_back(c);
      if (finer > 0 && coarser > 0 && finer + coarser < 2 * c.strength)
        kept.back().layer += std::clamp(0.5f * (finer - coarser) / (finer + coarser - 2 * c.strength), -0.49f, 0.49f);
    }
  }
  return kept;
}

// Direction of the strongest sixth of a circle of gradients (Bay, Ess, Tuytelaars and Van Gool, "Speeded-up robust
// features", 2008), in steps of 5 degrees.
float orientation_of(const Derivatives& d, const Candidate& c, float sigma) {
  constexpr int kSteps = 72;
  float sums_x[kSteps] = {}, sums_y[kSteps] = {};
  for (int v = -6; v <= 6; ++v)
    for (int u = -6; u <= 6; ++u) {
      if (u * u + v * v >= 36) continue;
      const int x = std::clamp(static_cast<int>(std::lround(c.x + static_cast<float>(u) * sigma)), 0, d.x.width() - 1),
                y = std::clamp(static_cast<int>(std::lround(c.y + static_cast<float>(v) * sigma)), 0, d.x.height() - 1);
      const float weight = std::exp(-static_cast<float>(u * u + v * v) / (2 * 2.5f * 2.5f)), gx = weight * d.x.at(x, y),
                  gy = weight * d.y.at(x, y);
      const float turn = std::atan2(gy, gx) / (2 * std::numbers::pi_v<float>);
      const int step = std::clamp(static_cast<int>((turn < 0 ? turn + 1 : turn) * kSteps), 0, kSteps - 1);
      sums_x[step] += gx, sums_y[step] += gy;
    }
  float best = -1, angle = 0;
  for (int start = 0; start < kSteps; ++start) {
    float x = 0, y = 0;
    for (int k = 0; k < kSteps / 6; ++k) x += sums_x[(start + k) % kSteps], y += sums_y[(start + k) % kSteps];
    if (x * x + y * y > best) best = x * x + y * y, angle = std::atan2(y, x);
  }
  return angle < 0 ? angle + 2 * std::numbers::pi_v<float> : angle;
}

// Means of brightness and of its derivatives along and across the direction, over cells of 2x2, 3x3 and 4x4, each
// compared with each of its grid: 3 (6 + 36 + 120) = 486 bits.
void describe(const Level& level, const Derivatives& d, const Candidate& c, float angle, std::uint64_t* words) {
  const float s = level.sigma * std::exp2((c.layer - static_cast<float>(level.number)) / kLevels), co = std::cos(angle),
              si = std::sin(angle);
  constexpr int kSide = 24;  // samples along a side of the pattern of 20 sigma
  const int w = level.image.width(), h = level.image.height();
  float values[3][kSide][kSide];
  for (int v = 0; v < kSide; ++v)
    for (int u = 0; u < kSide; ++u) {
      const float px = (static_cast<float>(u) + 0.5f - 0.5f * kSide) * (20.0f / kSide) * s,
                  py = (static_cast<float>(v) + 0.5f - 0.5f * kSide) * (20.0f / kSide) * s;
      const int x = std::clamp(static_cast<int>(std::lround(c.x + co * px - si * py)), 0, w - 1),
                y = std::clamp(static_cast<int>(std::lround(c.y + si * px + co * py)), 0, h - 1);
      const float gx = d.x.at(x, y), gy = d.y.at(x, y);
      values[0][v][u] = level.image.at(x, y);
      values[1][v][u] = co * gx + si * gy;
      values[2][v][u] = co * gy - si * gx;
    }
  std::fill(words, words + kBitWords, 0);
  int bit = 0;
  for (const int cells : {2, 3, 4}) {
    const int side = kSide / cells, count = cells * cells;
    for (const auto& channel : values) {
      float sums[16] = {};
      for (int v = 0; v < kSide; ++v)
        for (int u = 0; u < kSide; ++u) sums[v / side * cells + u / side] += channel[v][u];
      for (int a = 0; a < count; ++a)
        for (int b = a + 1; b < count; ++b, ++bit)
          words[bit / 64] |= static_cast<std::uint64_t>(sums[a] > sums[b]) << (bit % 64);
    }
  }
}

}  // namespace

Features find_nonlinear_features(const ImageF& grey, const FeatureOptions& options, const ImageU8* mask,
                                 const Executor& executor) {
  Features features;
  if (std::min(grey.width(), grey.height()) < kSmallest) return features;
  // The determinant goes with the square of the contrast.
  const float factor = contrast_factor(grey, options), threshold = options.min_blob_strength * factor * factor;
  std::vector<std::vector<Candidate>> levels;
  walk_scale_space(grey, executor, [&](const Level& level) {
    levels.push_back(maxima(level, threshold, options.max_edge_ratio, executor));
  });
  std::vector<Candidate> keypoints = strongest_over_levels(levels);
  const auto scale_of = [](const Candidate& c) { return sigma_of(c.layer); };
  if (mask) {
    const MaskSums sums(*mask);
    std::erase_if(keypoints, [&](const Candidate& c) {
      return sums.touches(c.photo_x, c.photo_y, std::max(2.0f, 3 * scale_of(c)));
    });
  }
  spread(keypoints, grey.width(), grey.height(), options.max_features);
  features.keypoints.resize(keypoints.size());
  features.bits.resize(keypoints.size() * kBitWords);
  // The levels are made a second time: keeping all of them would take twice the memory of making them.
  walk_scale_space(grey, executor, [&](const Level& level) {
    std::vector<std::size_t> here;
    for (std::size_t i = 0; i < keypoints.size(); ++i)
      if (std::lround(keypoints[i].layer) == level.number) here.push_back(i);
    if (here.empty()) return;
    const Derivatives d = derivatives_of(level, executor);
    executor.blocks(here.size(), 16, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t k = begin; k < end; ++k) {
        const Candidate& c = keypoints[here[k]];
        const float angle = options.upright ? 0 : orientation_of(d, c, level.sigma);
        features.keypoints[here[k]] = {c.photo_x, c.photo_y, scale_of(c), angle};
        describe(level, d, c, angle, features.bits.data() + here[k] * kBitWords);
      }
    });
  });
  return features;
}

}  // namespace icefield
