// Any bytes as a photo file that is looked into without a decoder: what is found lies within them.
#include <cstdint>
#include <cstdlib>
#include <string_view>

#include "src/io/photo_bytes.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const std::string_view bytes(reinterpret_cast<const char*>(data), size);
  const auto within = [&](std::string_view part) {
    if (!part.empty() && (part.data() < bytes.data() || part.data() + part.size() > bytes.data() + size)) std::abort();
  };
  if (const auto end = icefield::jpeg_end(bytes); end && *end > size) std::abort();
  within(icefield::longest_jpeg(bytes));
  within(icefield::webp_exif(bytes));
  (void)icefield::xmp_values(bytes);
  return 0;
}
