// Any bytes as a file for LasReader: an Error or a value, nothing else.
#include <cstdint>
#include <fstream>

#include "icefield/base/error.h"
#include "icefield/io/las_file.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const char* file = "/dev/shm/icefield-fuzz-las";
  std::ofstream(file, std::ios::binary).write(reinterpret_cast<const char*>(data), static_cast<std::streamsize>(size));
  try {
    icefield::LasReader reader(file);
    for (icefield::PointCloud part; reader.read(part);) continue;
  } catch (const icefield::Error&) {
  }
  return 0;
}
