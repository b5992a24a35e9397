// Fingerprints of content: what decides whether something computed before still holds.
#pragma once
#include <cstddef>
#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <type_traits>
#include <vector>

namespace icefield {

// 128 bits, XXH3 (no protection against malice, none needed).
struct Fingerprint {
  std::uint64_t high = 0, low = 0;
  auto operator<=>(const Fingerprint&) const = default;
  std::string hex() const;  // 32 lower-case digits
};

// Adds up bytes. Variable-length parts carry their length, so that ("ab", "c") and ("a", "bc") differ.
class Fingerprinter {
 public:
  Fingerprinter();
  ~Fingerprinter();
  Fingerprinter(const Fingerprinter&) = delete;
  Fingerprinter& operator=(const Fingerprinter&) = delete;

  Fingerprinter& raw(const void* data, std::size_t size);
  Fingerprinter& add(std::string_view text);
  Fingerprinter& add(const Fingerprint& other) { return raw(&other, sizeof other); }
  template <class T>
  requires std::is_arithmetic_v<T> Fingerprinter& add(T value) { return raw(&value, sizeof value); }
  template <class T>
  requires std::is_trivially_copyable_v<T> Fingerprinter& add(std::span<const T> values) {
    add(static_cast<std::uint64_t>(values.size()));
    return raw(values.data(), values.size_bytes());
  }
  Fingerprint result() const;

 private:
  struct State;
  std::unique_ptr<State> state_;
};

Fingerprint fingerprint_bytes(std::span<const std::byte> bytes);

}  // namespace icefield
