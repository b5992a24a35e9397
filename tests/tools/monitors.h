// Monitors for tests.
#pragma once
#include <mutex>
#include <string>
#include <vector>

#include "icefield/base/monitor.h"

namespace icefield::test {

struct Remembering : Monitor {
  std::vector<std::string> warnings;
  void log(LogLevel level, const std::string& message) override {
    const std::lock_guard lock(mutex_);
    if (level == LogLevel::warning) warnings.push_back(message);
  }

 private:
  std::mutex mutex_;
};

}  // namespace icefield::test
