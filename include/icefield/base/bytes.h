// Plain values and arrays to bytes and back, for records kept between runs.
#pragma once
#include <cstddef>
#include <cstdint>
#include <cstring>
#include <span>
#include <string>
#include <type_traits>
#include <vector>

#include "icefield/base/error.h"

namespace icefield {

using Bytes = std::vector<std::byte>;

// Little-endian, no padding between items; arrays and strings carry a 64-bit count.
class ByteWriter {
 public:
  template <class T>
  requires std::is_trivially_copyable_v<T> ByteWriter& put(const T& value) {
    const auto* p = reinterpret_cast<const std::byte*>(&value);
    bytes_.insert(bytes_.end(), p, p + sizeof(T));
    return *this;
  }
  template <class T>
  requires std::is_trivially_copyable_v<T> ByteWriter& put(const std::vector<T>& values) {
    put(static_cast<std::uint64_t>(values.size()));
    const auto* p = reinterpret_cast<const std::byte*>(values.data());
    bytes_.insert(bytes_.end(), p, p + values.size() * sizeof(T));
    return *this;
  }
  ByteWriter& put(const std::string& text) {
    put(static_cast<std::uint64_t>(text.size()));
    const auto* p = reinterpret_cast<const std::byte*>(text.data());
    bytes_.insert(bytes_.end(), p, p + text.size());
    return *this;
  }
  Bytes take() { return std::move(bytes_); }

 private:
  Bytes bytes_;
};

// Reads what ByteWriter wrote. Throws Error(input) when the bytes end too early; never reads past the end.
class ByteReader {
 public:
  explicit ByteReader(std::span<const std::byte> bytes) : rest_(bytes) {}

  template <class T>
  requires std::is_trivially_copyable_v<T> T get() {
    T value;
    std::memcpy(&value, need(sizeof(T), 1), sizeof(T));
    return value;
  }
  template <class T>
  requires std::is_trivially_copyable_v<T> std::vector<T> get_array() {
    const auto count = get<std::uint64_t>();
    const std::byte* p = need(count, sizeof(T));
    std::vector<T> values(count);
    if (count > 0) std::memcpy(values.data(), p, count * sizeof(T));
    return values;
  }
  std::string get_string() {
    const auto count = get<std::uint64_t>();
    const std::byte* p = need(count, 1);
    return std::string(reinterpret_cast<const char*>(p), count);
  }
  bool at_end() const { return rest_.empty(); }
  void need_end() const {
    if (!at_end()) throw Error(ErrorKind::input, "record", "does not end where it should", "it is computed again");
  }

 private:
  const std::byte* need(std::uint64_t count, std::size_t item) {
    if (count > rest_.size() / item)
      throw Error(ErrorKind::input, "record", "ends too early", "delete it; it is computed again");
    const std::byte* p = rest_.data();
    rest_ = rest_.subspan(count * item);
    return p;
  }
  std::span<const std::byte> rest_;
};

}  // namespace icefield
