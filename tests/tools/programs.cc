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

Running::Running(const std::vector<std::string>& words) {
  static int count = 0;
  out_ = (scratch_folder() / ("out-" + std::to_string(++count))).string();
  error_ = out_ + "-error";
  child_ = start(words, out_, error_);
}

Running::~Running() {
  if (ended()) return;
  ::kill(child_, SIGKILL);
  ::waitpid(child_, &raw_, 0);
}

bool Running::ended() {
  if (!done_) done_ = ::waitpid(child_, &raw_, WNOHANG) == child_;
  return done_;
}

bool Running::wait_for(const std::function<bool()>& sign) {
  while (!sign()) {
    if (ended()) return false;
    std::this_thread::sleep_for(std::chrono::milliseconds(1));
  }
  return true;
}

void Running::send(int signal) {
  if (!ended()) ::kill(child_, signal);
}

Ran Running::wait() {
  if (!done_) ::waitpid(child_, &raw_, 0);
  done_ = true;
  return {exit_status(raw_), content_of(out_), content_of(error_)};
}

bool run_and_kill(const std::vector<std::string>& words, int milliseconds, const std::function<bool()>& sign) {
  Running running(words);
  if (!running.wait_for(sign)) return true;
  const auto end = std::chrono::steady_clock::now() + std::chrono::milliseconds(milliseconds);
  if (!running.wait_for([&] { return std::chrono::steady_clock::now() >= end; })) return true;
  running.send(SIGKILL);
  return running.wait().status != 128 + SIGKILL;
}

}  // namespace icefield::test
