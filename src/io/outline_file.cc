#include "icefield/io/outline_file.h"

#include <fmt/format.h>

#include <sstream>

#include "icefield/base/error.h"
#include "icefield/io/text_file.h"

namespace icefield {

std::vector<Eigen::Vector2d> read_outline_file(const std::filesystem::path& file) {
  std::vector<Eigen::Vector2d> outline;
  std::istringstream text(read_file(file, std::size_t{1} << 24));
  std::size_t number = 0;
  for (std::string line; std::getline(text, line);) {
    ++number;
    std::istringstream words(line);
    std::string first;
    if (!(words >> first) || first[0] == '#') continue;
    Eigen::Vector2d place;
    std::istringstream again(line);
    if (!(again >> place.x() >> place.y()) || !place.allFinite())
      throw Error(ErrorKind::input, file.string(), fmt::format("line {} is no pair of coordinates", number),
                  "write a corner of the polygon in each line, as X Y");
    outline.push_back(place);
  }
  if (outline.size() < 3)
    throw Error(ErrorKind::input, file.string(), fmt::format("has {} corners", outline.size()),
                "a polygon needs three, a line X Y for each");
  return outline;
}

}  // namespace icefield
