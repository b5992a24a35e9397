// The command-line tool as a user runs it.
#pragma once
#include <gtest/gtest.h>

#include <nlohmann/json.hpp>
#include <set>

#include "icefield/io/photo_file.h"
#include "tests/tools/programs.h"

namespace icefield::test {

inline Ran icefield(std::vector<std::string> words) {
  words.insert(words.begin(), ICEFIELD_TOOL);
  return run(words);
}

// With --json; the command must succeed.
inline nlohmann::json icefield_json(std::vector<std::string> words) {
  words.push_back("--json");
  const Ran ran = icefield(words);
  EXPECT_EQ(ran.status, 0) << ran.error;
  return nlohmann::json::parse(ran.out, nullptr, false);
}

// How many colours a picture of the usual width shows, of one pixel in nine.
inline std::size_t colours_in(const std::filesystem::path& picture) {
  const ImageU8 image = read_photo(picture);
  EXPECT_EQ(image.width(), 1280);
  std::set<std::uint32_t> colours;
  for (int y = 0; y < image.height(); y += 3)
    for (int x = 0; x < image.width(); x += 3)
      colours.insert(static_cast<std::uint32_t>(image.at(x, y, 0) << 16 | image.at(x, y, 1) << 8 | image.at(x, y, 2)));
  return colours.size();
}

}  // namespace icefield::test
