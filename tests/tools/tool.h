// The command-line tool as a user runs it.
#pragma once
#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

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

}  // namespace icefield::test
