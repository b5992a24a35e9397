#include "terminal.h"

#include <fmt/format.h>
#include <spdlog/sinks/stdout_sinks.h>
#include <spdlog/spdlog.h>
#include <unistd.h>

#include <atomic>
#include <csignal>
#include <cstdio>

#include "icefield/report/table.h"

namespace {

std::atomic<bool> stop_asked{false};

void on_interrupt(int) {
  // A second Ctrl-C ends the process at once.
  if (stop_asked.exchange(true)) std::_Exit(130);
}

}  // namespace

TerminalMonitor::TerminalMonitor(bool quiet, bool verbose)
    : bars_(isatty(STDERR_FILENO) && !quiet), quiet_(quiet), verbose_(verbose) {
  spdlog::set_default_logger(spdlog::stderr_logger_mt("icefield"));
  spdlog::set_pattern("%l: %v");
  spdlog::set_level(verbose ? spdlog::level::debug : spdlog::level::info);
  std::signal(SIGINT, on_interrupt);
  std::signal(SIGTERM, on_interrupt);
  std::signal(SIGXFSZ, SIG_IGN);  // a limit on file size then shows as a failed write
}

TerminalMonitor::~TerminalMonitor() {
  clear_bar();
}

bool TerminalMonitor::cancelled() const {
  return stop_asked;
}

void TerminalMonitor::clear_bar() {
  if (bar_shown_) std::fputs("\r\033[K", stderr);
  bar_shown_ = false;
}

void TerminalMonitor::log(icefield::LogLevel level, const std::string& message) {
  std::lock_guard lock(mutex_);
  if (level == icefield::LogLevel::detail && !verbose_) return;
  if (quiet_ && level != icefield::LogLevel::warning) return;
  clear_bar();
  if (level == icefield::LogLevel::warning)
    spdlog::warn("{}", message);
  else if (level == icefield::LogLevel::info)
    spdlog::info("{}", message);
  else
    spdlog::debug("{}", message);
}

void TerminalMonitor::progress(std::string_view what, std::size_t done, std::size_t total) {
  if (!bars_) return;
  std::lock_guard lock(mutex_);
  const auto now = std::chrono::steady_clock::now();
  if (what != round_ || done < highest_ / 2) {
    round_ = what;
    round_start_ = now;
    first_done_ = highest_ = done;
    last_drawn_ = {};
  }
  highest_ = std::max(highest_, done);
  if (now - last_drawn_ < std::chrono::milliseconds(100) && highest_ < total) return;
  last_drawn_ = now;
  const double elapsed = std::chrono::duration<double>(now - round_start_).count();
  const std::size_t fresh = highest_ - first_done_;
  const double share = total > 0 ? static_cast<double>(highest_) / static_cast<double>(total) : 1;
  constexpr int kWidth = 30;
  const int filled = static_cast<int>(share * kWidth);
  std::string left = "";
  if (fresh > 0 && highest_ < total)
    left =
        icefield::duration_text(elapsed / static_cast<double>(fresh) * static_cast<double>(total - highest_)) + " left";
  fmt::print(stderr, "\r\033[K{:<20} [{}{}] {}/{}  {}", what, std::string(filled, '='),
             std::string(kWidth - filled, ' '), highest_, total, left);
  std::fflush(stderr);
  bar_shown_ = true;
  if (highest_ >= total) {
    fmt::print(stderr, "\r\033[K");
    bar_shown_ = false;
  }
}
