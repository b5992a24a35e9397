// Pixels.
#pragma once
#include <cassert>
#include <cstddef>
#include <cstdint>
#include <span>
#include <vector>

namespace icefield {

// A raster with interleaved channels, rows from the top without padding.
template <class T>
class Image {
 public:
  Image() = default;
  Image(int width, int height, int channels = 1, T value = T())
      : width_(width),
        height_(height),
        channels_(channels),
        data_(static_cast<std::size_t>(width) * height * channels, value) {
    assert(width >= 0 && height >= 0 && channels > 0);
  }

  int width() const { return width_; }
  int height() const { return height_; }
  int channels() const { return channels_; }
  bool empty() const { return data_.empty(); }
  std::size_t pixels() const { return static_cast<std::size_t>(width_) * height_; }

  T& at(int x, int y, int c = 0) { return data_[offset(x, y) + c]; }
  const T& at(int x, int y, int c = 0) const { return data_[offset(x, y) + c]; }
  T* row(int y) { return data_.data() + offset(0, y); }
  const T* row(int y) const { return data_.data() + offset(0, y); }
  std::span<T> data() { return data_; }
  std::span<const T> data() const { return data_; }
  std::vector<T>& values() { return data_; }
  const std::vector<T>& values() const { return data_; }

 private:
  std::size_t offset(int x, int y) const {
    assert(x >= 0 && y >= 0 && y <= height_);
    return (static_cast<std::size_t>(y) * width_ + x) * channels_;
  }
  int width_ = 0, height_ = 0, channels_ = 1;
  std::vector<T> data_;
};

using ImageU8 = Image<std::uint8_t>;
using ImageF = Image<float>;

}  // namespace icefield
