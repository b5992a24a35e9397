// What readers of PLY share.
#pragma once
#include <Eigen/Core>
#include <bit>
#include <charconv>
#include <cstdint>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <optional>
#include <sstream>
#include <string>
#include <utility>

#include "icefield/world/datum.h"

namespace icefield {

static_assert(std::endian::native == std::endian::little);

// Types of numbers in a PLY.
enum class Scalar { i8, u8, i16, u16, i32, u32, f32, f64 };

inline std::optional<Scalar> scalar_by_name(const std::string& name) {
  static const std::pair<const char*, Scalar> names[] = {
      {"char", Scalar::i8},   {"int8", Scalar::i8},     {"uchar", Scalar::u8},   {"uint8", Scalar::u8},
      {"short", Scalar::i16}, {"int16", Scalar::i16},   {"ushort", Scalar::u16}, {"uint16", Scalar::u16},
      {"int", Scalar::i32},   {"int32", Scalar::i32},   {"uint", Scalar::u32},   {"uint32", Scalar::u32},
      {"float", Scalar::f32}, {"float32", Scalar::f32}, {"double", Scalar::f64}, {"float64", Scalar::f64}};
  for (const auto& [n, s] : names)
    if (name == n) return s;
  return std::nullopt;
}

inline std::size_t scalar_size(Scalar s) {
  constexpr std::size_t sizes[] = {1, 1, 2, 2, 4, 4, 4, 8};
  return sizes[static_cast<int>(s)];
}

template <class T>
double load(const char* p) {
  T v;
  std::memcpy(&v, p, sizeof v);
  return static_cast<double>(v);
}

inline double load_scalar(Scalar s, const char* p) {
  switch (s) {
    case Scalar::i8:
      return load<std::int8_t>(p);
    case Scalar::u8:
      return load<std::uint8_t>(p);
    case Scalar::i16:
      return load<std::int16_t>(p);
    case Scalar::u16:
      return load<std::uint16_t>(p);
    case Scalar::i32:
      return load<std::int32_t>(p);
    case Scalar::u32:
      return load<std::uint32_t>(p);
    case Scalar::f32:
      return load<float>(p);
    case Scalar::f64:
      break;
  }
  return load<double>(p);
}

struct Property {
  std::string name;
  Scalar type;
};

// A file in pieces.
class Pieces {
 public:
  explicit Pieces(const std::filesystem::path& file) : file_(file, std::ios::binary), buffer_(1 << 18, '\0') {}
  bool opened() const { return file_.is_open(); }
  // Of the next byte in the file.
  std::uint64_t place() const { return before_ + at_; }
  void go_to(std::uint64_t place) {
    if (place >= before_ && place <= before_ + end_) {
      at_ = static_cast<std::size_t>(place - before_);
      return;
    }
    file_.clear();
    file_.seekg(static_cast<std::streamoff>(place));
    before_ = place, at_ = end_ = 0;
  }

  // The next `size` bytes (far fewer than the buffer holds), nullptr where the file ends before.
  const char* take(std::size_t size) {
    if (!hold(size)) return nullptr;
    at_ += size;
    return buffer_.data() + at_ - size;
  }
  // The next number of a text; false where there is none.
  bool number(double& value) {
    constexpr std::size_t kLongest = 512;
    const auto blank = [](char c) { return c == ' ' || c == '\n' || c == '\r' || c == '\t'; };
    while (hold(1) && blank(buffer_[at_])) ++at_;
    hold(kLongest);  // or up to the end
    const auto [next, error] = std::from_chars(buffer_.data() + at_, buffer_.data() + end_, value);
    if (error != std::errc()) return false;
    at_ = static_cast<std::size_t>(next - buffer_.data());
    return true;
  }
  // Without its end; false at the end of the file and for what is no line of a header.
  bool line(std::string& text) {
    text.clear();
    while (hold(1)) {
      const char c = buffer_[at_++];
      if (c == '\n') return true;
      if (c != '\r') text += c;
      if (text.size() > 10000) return false;
    }
    return false;
  }

 private:
  bool hold(std::size_t size) {
    if (end_ - at_ >= size) return true;
    std::memmove(buffer_.data(), buffer_.data() + at_, end_ - at_);
    before_ += at_, end_ -= at_, at_ = 0;
    while (end_ < size && file_) {
      file_.read(buffer_.data() + end_, static_cast<std::streamsize>(buffer_.size() - end_));
      end_ += static_cast<std::size_t>(file_.gcount());
    }
    return end_ >= size;
  }
  std::ifstream file_;
  std::string buffer_;
  std::uint64_t before_ = 0;  // in the file, of what the buffer begins with
  std::size_t at_ = 0, end_ = 0;
};

// What a comment of the head, `what` and the `rest` of its line, says of the frame. True where that is the origin.
inline bool read_frame_comment(const std::string& what, const std::string& rest, Datum& datum,
                               Eigen::Vector3d& origin) {
  if (what == "crs") datum.crs = rest;
  if (what == "vertical_crs") datum.vertical_crs = rest;
  if (what == "units") datum.units = rest;
  if (what == "axes")
    for (const Axes axes : {Axes::guessed, Axes::level, Axes::east_north_up})
      if (rest == describe(axes)) datum.axes = axes;
  if (what != "origin") return false;
  std::istringstream numbers(rest);
  Eigen::Vector3d stated;
  if (!(numbers >> stated.x() >> stated.y() >> stated.z()) || !stated.allFinite()) return false;
  origin = stated;
  return true;
}

}  // namespace icefield
