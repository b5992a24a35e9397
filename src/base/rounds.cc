#include "icefield/base/rounds.h"

#include <algorithm>
#include <condition_variable>
#include <mutex>
#include <string>
#include <thread>
#include <vector>

namespace icefield {
namespace {

// Lets units in while their memory fits, and always one.
class MemoryGate {
 public:
  explicit MemoryGate(std::uint64_t budget) : budget_(budget) {}
  void enter(std::uint64_t bytes) {
    std::unique_lock lock(mutex_);
    room_.wait(lock, [&] { return taken_ == 0 || bytes <= budget_ - std::min(budget_, taken_); });
    taken_ += std::max<std::uint64_t>(1, bytes);
  }
  void leave(std::uint64_t bytes) {
    {
      const std::lock_guard lock(mutex_);
      taken_ -= std::max<std::uint64_t>(1, bytes);
    }
    room_.notify_all();
  }

 private:
  std::mutex mutex_;
  std::condition_variable room_;
  std::uint64_t budget_, taken_ = 0;
};

struct Inside {
  MemoryGate& gate;
  std::uint64_t bytes;
  Inside(MemoryGate& g, std::uint64_t b) : gate(g), bytes(b) { gate.enter(bytes); }
  ~Inside() { gate.leave(bytes); }
};

void run_one_by_one(std::string_view what, UnitRound& round, const std::vector<std::size_t>& missing,
                    const Executor& executor, Monitor& monitor) {
  for (std::size_t k = 0; k < missing.size(); ++k) {
    monitor.check();
    monitor.progress(what, k, missing.size());
    std::thread ahead;
    if (k + 1 < missing.size())
      ahead = std::thread([&round, next = missing[k + 1]] {
        try {
          round.look_ahead(next);
        } catch (...) {  // the unit itself will meet it again
        }
      });
    try {
      round.keep(missing[k], round.compute(missing[k], executor));
    } catch (...) {
      if (ahead.joinable()) ahead.join();
      throw;
    }
    if (ahead.joinable()) ahead.join();
  }
  monitor.progress(what, missing.size(), missing.size());
}

}  // namespace

std::size_t run_round(std::string_view what, UnitRound& round, const Executor& executor, Monitor& monitor) {
  const std::uint64_t memory_bytes = executor.memory_bytes();
  std::vector<std::size_t> missing;
  std::uint64_t largest = 1;
  for (std::size_t i = 0; i < round.size(); ++i) {
    if (round.is_kept(i)) continue;
    missing.push_back(i);
    largest = std::max(largest, round.memory_bytes(i));
  }
  if (missing.empty()) return 0;
  PartOfRound remaining(monitor, round.size() - missing.size(), round.size());
  if (executor.threads() > 1 && (memory_bytes / largest < 2 || missing.size() < 2)) {
    run_one_by_one(what, round, missing, executor.watching(monitor), remaining);
    return missing.size();
  }
  MemoryGate gate(memory_bytes);
  const Executor one = Executor(1, memory_bytes).watching(monitor);
  executor.run(what, missing.size(), remaining, [&](std::size_t k) {
    const Inside inside(gate, round.memory_bytes(missing[k]));
    round.keep(missing[k], round.compute(missing[k], one));
  });
  return missing.size();
}

}  // namespace icefield
