// Gaussian scale space as a stream of rows, so that memory does not grow with the height of a photo.
#pragma once
#include <functional>
#include <vector>

#include "icefield/base/parallel.h"
#include "icefield/feature/feature.h"
#include "src/feature/row_kernels.h"

namespace icefield {

// The last rows of an image of some height: row y lies at y modulo the capacity (y & mask() where that is a power of two). Values beyond the width are undefined.
class RowRing {
 public:
  RowRing() = default;
  RowRing(int width, int capacity);
  float* row(int y) { return data_.data() + static_cast<std::size_t>(y % capacity_) * static_cast<std::size_t>(stride_); }
  const float* row(int y) const { return data_.data() + static_cast<std::size_t>(y % capacity_) * static_cast<std::size_t>(stride_); }
  int stride() const { return stride_; }
  int mask() const { return capacity_ - 1; }
  const float* base() const { return data_.data(); }

 private:
  int stride_ = 0, capacity_ = 1;
  std::vector<float> data_;
};

// One octave. Layers are blurred from one another; a row of a layer can be made once the rows below it that the filter
// needs are there, so deeper layers lag behind.
struct Octave {
  int number = 0;                  // 0 is the finest
  int width = 0, height = 0;
  float pixel_size = 1;            // in px of the photo
  float origin = 0.5f;             // image coordinate (x and y) of the middle of the first pixel
  std::vector<RowRing> gaussian;   // layers + 3
  std::vector<int> ready;          // rows made of each layer
  std::vector<RowRing> difference; // layers + 2, each the next layer minus this one; ready with the next layer
  int looked_at = 0;               // rows that the visitor is done with
  int handed_on = 0;               // rows given to the next octave
};

struct ScaleSpaceOptions {
  bool doubled = false;
  bool differences = true;         // shows the differences of layers; otherwise the layers themselves
  int gaussian_layers = 0;         // layers made of each octave: all that are asked for, at least `layers` + 1
  int reach = 8;                   // rows above and below a row that the visitor wants to look at
};

// Streams the scale space of `grey`. visit(octave, begin, end) is called for successive rows of each octave once all
// layers that are made reach `reach` rows beyond them (or to the border); rows down to begin - reach are still there, of
// the differences or of the layers, whichever are shown.
// Filters run on the executor.
void stream_scale_space(const ImageF& grey, const FeatureOptions& options, const ScaleSpaceOptions& what, const RowKernels& kernels, const Executor& executor,
                        const std::function<void(const Octave&, int begin, int end)>& visit);

// Standard deviation of a layer in pixels of its octave.
float layer_sigma(const FeatureOptions& options, float layer);

bool starts_doubled(const ImageF& grey, const FeatureOptions& options);

}  // namespace icefield
