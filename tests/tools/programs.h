// Running programs as a user would.
#pragma once
#include <filesystem>
#include <functional>
#include <string>
#include <vector>

namespace icefield::test {

struct Ran {
  int status = -1;         // exit status; 128 + signal where it was killed
  std::string out, error;  // standard output, standard error
};

Ran run(const std::vector<std::string>& words);

// A program that goes on while the test does something else. Killed at the end of its life.
class Running {
 public:
  explicit Running(const std::vector<std::string>& words);
  ~Running();
  Running(const Running&) = delete;
  Running& operator=(const Running&) = delete;

  // Waits for a sign of what the program does, for as long as it lives; false when it ended before. Looks a thousand
  // times a second.
  bool wait_for(const std::function<bool()>& sign);
  void send(int signal);
  Ran wait();

 private:
  bool ended();
  std::string out_, error_;
  int child_ = -1, raw_ = 0;
  bool done_ = false;
};

// Starts the program, kills it with SIGKILL so many milliseconds after the sign. True when it had ended by itself.
bool run_and_kill(
    const std::vector<std::string>& words, int milliseconds, const std::function<bool()>& sign = [] { return true; });

std::string content_of(const std::filesystem::path& file);

}  // namespace icefield::test
