// Any bytes as a stored block or depth map: an Error or a value, nothing else.
#include <cstdint>

#include "icefield/block/block.h"
#include "icefield/dense/dense.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const std::span<const std::byte> bytes(reinterpret_cast<const std::byte*>(data), size);
  try {
    (void)icefield::block_from_bytes(bytes);
  } catch (const icefield::Error&) {
  }
  try {
    (void)icefield::DepthMap::from_bytes(bytes);
  } catch (const icefield::Error&) {
  }
  return 0;
}
