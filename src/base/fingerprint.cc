#include "icefield/base/fingerprint.h"

#include <fmt/format.h>
#include <xxhash.h>

namespace icefield {

struct Fingerprinter::State {
  XXH3_state_t* xxh = XXH3_createState();
  State() { XXH3_128bits_reset(xxh); }
  ~State() { XXH3_freeState(xxh); }
};

std::string Fingerprint::hex() const {
  return fmt::format("{:016x}{:016x}", high, low);
}

Fingerprinter::Fingerprinter() : state_(std::make_unique<State>()) {}
Fingerprinter::~Fingerprinter() = default;

Fingerprinter& Fingerprinter::raw(const void* data, std::size_t size) {
  XXH3_128bits_update(state_->xxh, data, size);
  return *this;
}

Fingerprinter& Fingerprinter::add(std::string_view text) {
  add(static_cast<std::uint64_t>(text.size()));
  return raw(text.data(), text.size());
}

Fingerprint Fingerprinter::result() const {
  const XXH128_hash_t hash = XXH3_128bits_digest(state_->xxh);
  return {hash.high64, hash.low64};
}

Fingerprint fingerprint_bytes(std::span<const std::byte> bytes) {
  const XXH128_hash_t hash = XXH3_128bits(bytes.data(), bytes.size());
  return {hash.high64, hash.low64};
}

}  // namespace icefield
