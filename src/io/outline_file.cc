#include "icefield/io/outline_file.h"

#include <fmt/format.h>

#include <sstream>

#include "icefield/base/error.h"
#include "icefield/io/text_file.h"

namespace icefield {

namespace {

std::vector<Eigen::Vector2d> read_places(const std::filesystem::path& file) {
  std::vector<Eigen::Vector2d> places;
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
                  "write a place in each line, as X Y");
    places.push_back(place);
  }
  return places;
}

}  // namespace

std::vector<Eigen::Vector2d> read_line_file(const std::filesystem::path& file) {
  std::vector<Eigen::Vector2d> line = read_places(file);
  if (line.size() < 2)
    throw Error(ErrorKind::input, file.string(), fmt::format("has {} places", line.size()),
                "a line needs two, X Y in each line of the file");
  return line;
}

std::vector<Eigen::Vector2d> read_outline_file(const std::filesystem::path& file) {
  std::vector<Eigen::Vector2d> outline = read_places(file);
  if (outline.size() < 3)
    throw Error(ErrorKind::input, file.string(), fmt::format("has {} corners", outline.size()),
                "a polygon needs three, a line X Y for each");
  return outline;
}

}  // namespace icefield
