// Any bytes as a file for read_selection_file: an Error or a value, nothing else.
#include <cstdint>
#include <fstream>

#include "icefield/base/error.h"
#include "icefield/io/selection_file.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const char* file = "/dev/shm/icefield-fuzz-selection";
  std::ofstream(file, std::ios::binary).write(reinterpret_cast<const char*>(data), static_cast<std::streamsize>(size));
  try {
    (void)icefield::read_selection_file(file);
  } catch (const icefield::Error&) {
  }
  return 0;
}
