#include "tests/tools/terminal.h"

#include <pty.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <csignal>

namespace icefield::test {

Terminal::Terminal(const std::vector<std::string>& words) {
  std::vector<char*> arguments;
  for (const std::string& word : words) arguments.push_back(const_cast<char*>(word.c_str()));
  arguments.push_back(nullptr);
  winsize size{};
  size.ws_row = 40, size.ws_col = 120;
  child_ = ::forkpty(&master_, nullptr, nullptr, &size);
  if (child_ != 0) return;
  ::execv(arguments[0], arguments.data());
  ::_exit(127);
}

Terminal::~Terminal() {
  if (child_ > 0) ::kill(child_, SIGKILL), ::waitpid(child_, nullptr, 0);
  if (master_ >= 0) ::close(master_);
}

bool Terminal::read_some() {
  char buffer[4096];
  ssize_t n;
  do n = ::read(master_, buffer, sizeof buffer);
  while (n < 0 && errno == EINTR);
  if (n <= 0) return false;  // its other end is closed
  written_.append(buffer, static_cast<std::size_t>(n));
  return true;
}

bool Terminal::wait_for(const std::string& text) {
  while (written_.find(text) == std::string::npos)
    if (!read_some()) return false;
  return true;
}

void Terminal::type(const std::string& keys) {
  (void)!::write(master_, keys.data(), keys.size());
}

int Terminal::wait() {
  while (read_some()) {
  }
  int raw = 0;
  ::waitpid(child_, &raw, 0);
  child_ = -1;
  return WIFEXITED(raw) ? WEXITSTATUS(raw) : 128 + WTERMSIG(raw);
}

std::vector<std::string> Terminal::lines() const {
  std::vector<std::string> lines(1);
  std::size_t column = 0;
  for (std::size_t i = 0; i < written_.size(); ++i) {
    const char c = written_[i];
    if (c == '\n') {
      lines.emplace_back(), column = 0;
    } else if (c == '\r') {
      column = 0;
    } else if (written_.compare(i, 3, "\033[K") == 0) {
      lines.back().resize(std::min(lines.back().size(), column)), i += 2;
    } else {
      if (lines.back().size() <= column) lines.back().resize(column + 1, ' ');
      lines.back()[column++] = c;
    }
  }
  return lines;
}

}  // namespace icefield::test
