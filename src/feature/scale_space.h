// Gaussian scale space as a stream of rows, so that memory need not grow with the height of a photo.
#pragma once
#include <cstdint>
#include <functional>
#include <memory>
#include <vector>

#include "icefield/base/parallel.h"
#include "icefield/feature/feature.h"
#include "src/feature/row_kernels.h"

namespace icefield {

// The last rows of an image of some height. Values beyond the width are undefined.
class RowRing {
 public:
  RowRing() = default;
  RowRing(int width, int capacity);
  float* row(int y) {
    return data_.get() + static_cast<std::size_t>(y % capacity_) * static_cast<std::size_t>(stride_);
  }
  const float* row(int y) const {
    return data_.get() + static_cast<std::size_t>(y % capacity_) * static_cast<std::size_t>(stride_);
  }

 private:
  int stride_ = 0, capacity_ = 1;
  std::unique_ptr<float[]> data_;
};

// A layer to describe keypoints from: 16 bits for each pixel (brightness 0 to 1 is 0 to 65,535, far finer than any
// photo's noise) take half the memory, and one load fetches two neighbours. Row y is at (y & mask) * stride.
struct LayerView {
  const std::uint16_t* base = nullptr;
  int stride = 0, mask = 0, width = 0, height = 0;
};

// A layer of that form: all its rows, or the last ones only.
class Level {
 public:
  Level(int width, int height, int rows);
  std::uint16_t* row(int y) {
    return data_.get() + static_cast<std::size_t>(y & view_.mask) * static_cast<std::size_t>(view_.stride);
  }
  const std::uint16_t* row(int y) const {
    return data_.get() + static_cast<std::size_t>(y & view_.mask) * static_cast<std::size_t>(view_.stride);
  }
  const LayerView& view() const { return view_; }

 private:
  std::unique_ptr<std::uint16_t[]> data_;
  LayerView view_;
};

// One octave. Layers are blurred from one another; a row of a layer can be made once the rows below it that the filter
// needs are there, so deeper layers lag behind.
struct Octave {
  int number = 0;  // 0 is the finest
  int width = 0, height = 0;
  float pixel_size = 1;             // in px of the photo
  float origin = 0.5f;              // image coordinate (x and y) of the middle of the first pixel
  std::vector<RowRing> gaussian;    // layers, as the filters need them
  std::vector<int> ready;           // rows made of each layer
  std::vector<RowRing> difference;  // each the next layer minus this one; ready with the next layer
  std::vector<Level> levels;        // the first layers, to describe from
  int looked_at = 0;                // rows that the visitor is done with
};

struct ScaleSpaceOptions {
  bool doubled = false;
  bool differences = true;    // shows the differences of layers
  int gaussian_layers = 0;    // layers made of each octave: all that are asked for, at least `layers` + 1
  int levels = 0;             // layers of them to describe from
  bool whole_levels = false;  // keeps all rows of these
  int reach = 8;              // rows above and below a row that the visitor wants to look at
};

// Streams the scale space of `grey`. visit(octave, begin, end) is called for successive rows of each octave once all
// layers that are made reach `reach` rows beyond them (or to the border); rows down to begin - reach are still there,
// of the differences and of the levels. Returns the octaves, whose levels may be whole. Filters run on the executor.
std::vector<Octave> stream_scale_space(const ImageF& grey, const FeatureOptions& options, const ScaleSpaceOptions& what,
                                       const RowKernels& kernels, const Executor& executor,
                                       const std::function<void(const Octave&, int begin, int end)>& visit);

// Bytes of whole levels for a photo of so many pixels.
double whole_level_bytes(double pixels, bool doubled, int levels);

// Standard deviation of a layer in pixels of its octave.
float layer_sigma(const FeatureOptions& options, float layer);

bool starts_doubled(const ImageF& grey, const FeatureOptions& options);

}  // namespace icefield
