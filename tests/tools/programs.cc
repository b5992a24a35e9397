#include "tests/tools/programs.h"

#include <fcntl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <csignal>
#include <fstream>
#include <thread>

#include "tests/tools/scenes.h"

namespace icefield::test {
namespace {

pid_t start(const std::vector<std::string>& words, const std::string& out, const std::string& error) {
  std::vector<char*> arguments;
  for (const std::string& word : words) arguments.push_back(const_cast<char*>(word.c_str()));
  arguments.push_back(nullptr);
  const pid_t child = ::fork();
  if (child == 0) {
    ::dup2(::open(out.c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0600), 1);
    ::dup2(::open(error.c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0600), 2);
    ::execv(arguments[0], arguments.data());
    ::_exit(127);
  }
  return child;
}

int exit_status(int raw) {
  return WIFEXITED(raw) ? WEXITSTATUS(raw) : 128 + WTERMSIG(raw);
}

}  // namespace

std::string content_of(const std::filesystem::path& file) {
  std::ifstream in(file, std::ios::binary);
  return {std::istreambuf_iterator<char>(in), {}};
}

Ran run(const std::vector<std::string>& words) {
  const std::string out = (scratch_folder() / "out").string(), error = (scratch_folder() / "error").string();
  const pid_t child = start(words, out, error);
  int raw = 0;
  ::waitpid(child, &raw, 0);
  return {exit_status(raw), content_of(out), content_of(error)};
}

bool run_and_kill(const std::vector<std::string>& words, int milliseconds, int signal) {
  const pid_t child = start(words, "/dev/null", "/dev/null");
  const auto end = std::chrono::steady_clock::now() + std::chrono::milliseconds(milliseconds);
  int raw = 0;
  while (std::chrono::steady_clock::now() < end) {
    if (::waitpid(child, &raw, WNOHANG) == child) return true;
    std::this_thread::sleep_for(std::chrono::milliseconds(2));
  }
  ::kill(child, signal);
  ::waitpid(child, &raw, 0);
  return WIFEXITED(raw);
}

}  // namespace icefield::test
