// Any bytes as one of the texts that users write: survey.toml, a list of pairs, overlaps, a sensor table, tables
// of control. An Error or a
// value, nothing else. The first byte says which.
#include <cstdint>
#include <fstream>
#include <string>

#include "icefield/base/error.h"
#include "icefield/io/control_file.h"
#include "icefield/io/overlap_file.h"
#include "icefield/photo/metadata.h"
#include "src/survey/pair_list.h"
#include "src/survey/survey_file.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size == 0) return 0;
  const std::string text(reinterpret_cast<const char*>(data + 1), size - 1);
  const char* file = "/dev/shm/icefield-fuzz-text";
  std::ofstream(file, std::ios::binary) << text;
  try {
    switch (data[0] % 8) {
      case 0:
        (void)icefield::read_survey_file(file);
        break;
      case 1: {
        icefield::PhotoList list;
        list.photos.resize(3);
        list.photos[0].name = "a", list.photos[1].name = "b", list.photos[2].name = "c";
        list.photos[2].left_out = "dark";
        list.used = 2;
        (void)icefield::read_pair_list(file, list);
        break;
      }
      case 2:
        (void)icefield::read_overlap_file(file);
        break;
      case 4:
        (void)icefield::read_control_points(file);
        break;
      case 5:
        (void)icefield::read_marks(file);
        break;
      case 6:
        (void)icefield::read_lengths(file);
        break;
      case 7:
        (void)icefield::read_positions(file);
        break;
      default:
        icefield::SensorTable().add(text, "fuzz");
    }
  } catch (const icefield::Error&) {
  }
  return 0;
}
