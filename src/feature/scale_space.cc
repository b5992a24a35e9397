#include "src/feature/scale_space.h"

#include <algorithm>
#include <bit>
#include <cmath>

#include "icefield/photo/filter.h"

namespace icefield {
namespace {

constexpr int kBand = 32;      // rows taken in at a time: enough of the second octave for two threads
constexpr int kSmallest = 16;  // px: octaves smaller than this hold nothing

// A symmetric Gaussian, cut at 3.5 sigma and normalised.
struct Gaussian {
  int radius = 0;
  std::vector<float> values;  // 2 radius + 1
  explicit Gaussian(double sigma) : radius(std::max(1, static_cast<int>(std::ceil(3.5 * sigma)))) {
    std::vector<double> exact;
    double sum = 0;
    for (int i = -radius; i <= radius; ++i) {
      exact.push_back(std::exp(-0.5 * i * i / (sigma * sigma)));
      sum += exact.back();
    }
    for (const double v : exact) values.push_back(static_cast<float>(v / sum));
  }
  const float* middle() const { return values.data() + radius; }
};

class Stream {
 public:
  Stream(const ImageF& grey, const FeatureOptions& options, const ScaleSpaceOptions& what, const RowKernels& kernels,
         const Executor& executor, const std::function<void(const Octave&, int, int)>& visit)
      : grey_(grey),
        what_(what),
        kernels_(kernels),
        executor_(executor),
        visit_(visit),
        layers_(options.layers),
        first_kernel_(first_step(options, what.doubled ? 2 : 1)) {
    const int scale = what.doubled ? 2 : 1;
    int width = grey.width() * scale, height = grey.height() * scale;
    const double step = std::exp2(1.0 / options.layers);
    double sigma = options.first_blur_px;
    made_ = std::clamp(what.gaussian_layers, layers_ + 1, layers_ + 3);
    int lag = 0;
    for (int l = 1; l < made_; ++l) {
      layer_kernels_.emplace_back(sigma * std::sqrt(step * step - 1));
      lag += layer_kernels_.back().radius;
      sigma *= step;
    }
    source_ = RowRing(width, 2 * first_kernel_.radius + 2 * kBand);
    source_width_ = width, source_height_ = height;
    float pixel_size = 1.0f / static_cast<float>(scale), origin = 0.5f * pixel_size;
    for (int number = 0; std::min(width, height) >= kSmallest; ++number) {
      Octave octave;
      octave.number = number;
      octave.width = width, octave.height = height;
      octave.pixel_size = pixel_size, octave.origin = origin;
      // What is shown stays until the deepest layer has passed by; a layer as the filters need it, until the next one
      // has.
      const int shown = lag + 2 * what.reach + 3 * kBand;
      for (int l = 0; l < made_; ++l) {
        const int next_radius = l + 1 < made_ ? layer_kernels_[static_cast<std::size_t>(l)].radius : 0;
        octave.gaussian.emplace_back(width, 2 * next_radius + 4 * kBand);
      }
      octave.ready.assign(static_cast<std::size_t>(made_), 0);
      if (what.differences)
        for (int l = 0; l + 1 < made_; ++l) octave.difference.emplace_back(width, shown);
      for (int l = 0; l < what.levels; ++l)
        octave.levels.emplace_back(width, height, what.whole_levels ? height : shown);
      octaves_.push_back(std::move(octave));
      width = (width + 1) / 2, height = (height + 1) / 2,
      pixel_size *= 2;  // the origin stays: each second pixel is kept
    }
  }

  std::vector<Octave> run() {
    if (octaves_.empty()) return {};
    for (int begin = 0; begin < source_height_; begin += kBand) {
      const int end = std::min(begin + kBand, source_height_);
      executor_.blocks(static_cast<std::size_t>(end - begin), kFilterRows,
                       [&](std::size_t, std::size_t first, std::size_t last) {
                         for (std::size_t k = first; k < last; ++k) take_source_row(begin + static_cast<int>(k));
                       });
      source_ready_ = end;
      make_first_layer();
      advance(0);
    }
    return std::move(octaves_);
  }

 private:
  // From the blur that the photo has to that of the first layer.
  static double first_step(const FeatureOptions& options, int scale) {
    const double present = options.photo_blur_px * scale, first = options.first_blur_px;
    return std::sqrt(std::max(0.01, first * first - present * present));
  }

  void take_source_row(int y) {
    float* out = source_.row(y);
    if (!what_.doubled) {
      std::copy_n(grey_.row(y), source_width_, out);
      return;
    }
    const int a = y == 0 ? 0 : (y - 1) / 2, b = y == 0 ? 0 : std::min(a + 1, grey_.height() - 1);
    kernels_.twice(grey_.row(a), grey_.row(b), y % 2 == 1 ? 0.25f : 0.75f, grey_.width(), out);
  }

  // Rows [from, to) of `out` from `in`, all of whose rows that are needed are there.
  void filter(const RowRing& in, RowRing& out, RowRing* difference, Level* level, const Gaussian& kernel, int width,
              int height, int from, int to) {
    const int radius = kernel.radius;
    executor_.blocks(
        static_cast<std::size_t>(to - from), kFilterRows, [&](std::size_t, std::size_t begin, std::size_t end) {
          const int pad = radius + kRowSlack, stride = width + 2 * pad + kRowSlack, y = from + static_cast<int>(begin);
          thread_local std::vector<float> scratch;
          scratch.resize(static_cast<std::size_t>(kFilterRows * stride));
          std::vector<const float*> rows(static_cast<std::size_t>(2 * radius + kFilterRows));
          // Rows beyond the block are made for nothing where its height is no multiple of what is made at once.
          for (int i = 0; i < 2 * radius + kFilterRows; ++i)
            rows[static_cast<std::size_t>(i)] = in.row(mirrored(std::min(y - radius + i, to - 1 + radius), height));
          float* middle[kFilterRows];
          for (int j = 0; j < kFilterRows; ++j) middle[j] = scratch.data() + j * stride + pad;
          kernels_.filter_down(rows.data(), radius, kernel.middle(), width, middle);
          for (int j = 0; j < static_cast<int>(end - begin); ++j) {
            float* m = middle[j];
            for (int k = 1; k <= radius; ++k) {
              m[-k] = m[mirrored(-k, width)];
              m[width - 1 + k] = m[mirrored(width - 1 + k, width)];
            }
            kernels_.filter_across(m, radius, kernel.middle(), width, out.row(y + j), in.row(y + j),
                                   difference ? difference->row(y + j) : nullptr);
            if (level) kernels_.quantise(out.row(y + j), width, level->row(y + j));
          }
        });
  }

  static Level* level_of(Octave& octave, int layer) {
    return layer < static_cast<int>(octave.levels.size()) ? &octave.levels[static_cast<std::size_t>(layer)] : nullptr;
  }

  static int reachable(int ready, int height, int radius) {
    return ready == height ? height : std::max(0, ready - radius);
  }

  void make_first_layer() {
    Octave& o = octaves_[0];
    const int to = reachable(source_ready_, source_height_, first_kernel_.radius);
    if (to > o.ready[0])
      filter(source_, o.gaussian[0], nullptr, level_of(o, 0), first_kernel_, o.width, o.height, o.ready[0], to);
    o.ready[0] = std::max(o.ready[0], to);
  }

  // Makes what can be made of an octave, shows it, hands on to the next.
  void advance(std::size_t number) {
    Octave& o = octaves_[number];
    for (int l = 1; l < made_; ++l) {
      const auto& kernel = layer_kernels_[static_cast<std::size_t>(l - 1)];
      const int to = reachable(o.ready[l - 1], o.height, kernel.radius);
      if (to <= o.ready[l]) continue;
      filter(o.gaussian[l - 1], o.gaussian[l], what_.differences ? &o.difference[l - 1] : nullptr, level_of(o, l),
             kernel, o.width, o.height, o.ready[l], to);
      o.ready[l] = to;
    }
    const int made = o.ready[made_ - 1];
    const int shown = made == o.height ? o.height : made - what_.reach;
    if (shown > o.looked_at) {
      visit_(o, o.looked_at, shown);
      o.looked_at = shown;
    }
    if (number + 1 == octaves_.size()) return;
    // Every second pixel of the layer of twice the blur is the next octave's first layer.
    Octave& next = octaves_[number + 1];
    const RowRing& twice = o.gaussian[static_cast<std::size_t>(layers_)];
    while (next.ready[0] < next.height && 2 * next.ready[0] < o.ready[layers_]) {
      // In bands, so that the rings of the next octave are not overrun.
      for (int k = 0; k < kBand && next.ready[0] < next.height && 2 * next.ready[0] < o.ready[layers_]; ++k) {
        const float* in = twice.row(2 * next.ready[0]);
        const int y = next.ready[0]++;
        float* out = next.gaussian[0].row(y);
        kernels_.halve(in, next.width, out);
        if (Level* level = level_of(next, 0)) kernels_.quantise(out, next.width, level->row(y));
      }
      advance(number + 1);
    }
  }

  const ImageF& grey_;
  const ScaleSpaceOptions& what_;
  const RowKernels& kernels_;
  const Executor& executor_;
  const std::function<void(const Octave&, int, int)>& visit_;
  const int layers_;
  int made_ = 0;
  const Gaussian first_kernel_;
  std::vector<Gaussian> layer_kernels_;  // [l - 1] makes layer l
  RowRing source_;
  int source_width_ = 0, source_height_ = 0, source_ready_ = 0;
  std::vector<Octave> octaves_;
};

}  // namespace

RowRing::RowRing(int width, int capacity)
    : stride_((width + 15) / 16 * 16 + kRowSlack),
      capacity_(capacity),
      data_(std::make_unique_for_overwrite<float[]>(static_cast<std::size_t>(capacity) *
                                                    static_cast<std::size_t>(stride_))) {}

Level::Level(int width, int height, int rows) {
  rows = rows >= height ? height : static_cast<int>(std::bit_ceil(static_cast<unsigned>(rows)));
  view_ = {nullptr, (width + 31) / 32 * 32 + kRowSlack, rows >= height ? -1 : rows - 1, width, height};
  data_ = std::make_unique_for_overwrite<std::uint16_t[]>(static_cast<std::size_t>(rows) *
                                                          static_cast<std::size_t>(view_.stride));
  view_.base = data_.get();
}

std::vector<Octave> stream_scale_space(const ImageF& grey, const FeatureOptions& options, const ScaleSpaceOptions& what,
                                       const RowKernels& kernels, const Executor& executor,
                                       const std::function<void(const Octave&, int, int)>& visit) {
  return Stream(grey, options, what, kernels, executor, visit).run();
}

double whole_level_bytes(double pixels, bool doubled, int levels) {
  return pixels * (doubled ? 4 : 1) * 4 / 3 * 2 * levels;
}

float layer_sigma(const FeatureOptions& options, float layer) {
  return options.first_blur_px * std::exp2(layer / static_cast<float>(options.layers));
}

bool starts_doubled(const ImageF& grey, const FeatureOptions& options) {
  return 1e-6 * static_cast<double>(grey.pixels()) < options.double_below_megapixels;
}

}  // namespace icefield
