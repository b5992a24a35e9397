// Progress, log and interruption for the command line.
#pragma once
#include <chrono>
#include <mutex>
#include <string>

#include "icefield/base/monitor.h"

// Log and, on a terminal, progress bars with the time left, on standard error. Ctrl-C asks to stop.
class TerminalMonitor : public icefield::Monitor {
 public:
  TerminalMonitor(bool quiet, bool verbose);
  ~TerminalMonitor() override;
  void progress(std::string_view what, std::size_t done, std::size_t total) override;
  void log(icefield::LogLevel level, const std::string& message) override;
  bool cancelled() const override;

 private:
  void clear_bar();
  std::mutex mutex_;
  bool bars_, quiet_, verbose_, bar_shown_ = false;
  std::string round_;
  std::size_t first_done_ = 0, highest_ = 0;
  std::chrono::steady_clock::time_point round_start_, last_drawn_;
};
