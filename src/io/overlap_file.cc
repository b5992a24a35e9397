#include "icefield/io/overlap_file.h"

#include <fmt/format.h>

#include <cstdlib>

#include "icefield/base/error.h"
#include "icefield/io/text_file.h"

namespace icefield {

std::vector<PhotoOverlap> read_overlap_file(const std::filesystem::path& file) {
  std::vector<PhotoOverlap> overlaps;
  for (const TextRow& row : read_rows(file)) {
    double numbers[2] = {};
    bool good = row.cells.size() == 4;
    for (std::size_t k = 0; good && k < 2; ++k) {
      char* end = nullptr;
      numbers[k] = std::strtod(row.cells[2 + k].c_str(), &end);
      good = end != row.cells[2 + k].c_str() && !*end && numbers[k] >= 0 && numbers[k] <= 180;
    }
    if (!good || numbers[0] > 100)
      throw Error(ErrorKind::input, fmt::format("{}, line {}", file.string(), row.line), "is no overlap",
                  "write PHOTO | PHOTO | PERCENT | DEGREES");
    overlaps.push_back({row.cells[0], row.cells[1], numbers[0] / 100, numbers[1]});
  }
  return overlaps;
}

void write_overlap_file(const std::filesystem::path& file, const std::vector<PhotoOverlap>& overlaps) {
  std::string text =
      "# photo | photo | smaller share of the two that the other sees, percent | angle of their rays, degrees\n";
  for (const PhotoOverlap& o : overlaps)
    text += fmt::format("{} | {} | {:.1f} | {:.1f}\n", o.first, o.second, 100 * o.share, o.angle_deg);
  write_file(file, text);
}

}  // namespace icefield
