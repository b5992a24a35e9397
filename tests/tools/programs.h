// Running programs as a user would.
#pragma once
#include <filesystem>
#include <string>
#include <vector>

namespace icefield::test {

struct Ran {
  int status = -1;         // exit status; 128 + signal where it was killed
  std::string out, error;  // standard output, standard error
};

Ran run(const std::vector<std::string>& words);

// Starts the program, lets it live for so many milliseconds, kills it with SIGKILL. True when it had ended by itself.
bool run_and_kill(const std::vector<std::string>& words, int milliseconds, int signal = 9);

std::string content_of(const std::filesystem::path& file);

}  // namespace icefield::test
