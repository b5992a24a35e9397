// How a long function tells of its progress and is asked to stop.
#pragma once
#include <cstddef>
#include <string>
#include <string_view>

#include "icefield/base/error.h"

namespace icefield {

enum class LogLevel { detail, info, warning };

// Passed to each long function. The default does nothing and never cancels. Every member may be called from any thread.
class Monitor {
 public:
  virtual ~Monitor() = default;

  // `done` of `total` units of the named round are finished. `what` stays the same through one round.
  virtual void progress(std::string_view what, std::size_t done, std::size_t total) {
    (void)what, (void)done, (void)total;
  }
  virtual void log(LogLevel level, const std::string& message) { (void)level, (void)message; }
  virtual bool cancelled() const { return false; }

  // Throws Error(interrupted) when the caller wants to stop. Called between units and in long loops.
  void check() const {
    if (cancelled())
      throw Error(ErrorKind::interrupted, "run", "stopped on request", "run the same command again to go on");
  }
};

// Tells of a part of a round as of the whole of it, of which `before` units were done when it began.
class PartOfRound : public Monitor {
 public:
  PartOfRound(Monitor& whole, std::size_t before, std::size_t total) : whole_(whole), before_(before), total_(total) {}
  void progress(std::string_view what, std::size_t done, std::size_t) override {
    whole_.progress(what, before_ + done, total_);
  }
  void log(LogLevel level, const std::string& message) override { whole_.log(level, message); }
  bool cancelled() const override { return whole_.cancelled(); }

 private:
  Monitor& whole_;
  std::size_t before_, total_;
};

// Says nothing and never cancels: for calls that need none.
Monitor& silent_monitor();

}  // namespace icefield
