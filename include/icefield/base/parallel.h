// Rounds of independent units.
#pragma once
#include <cstddef>
#include <cstdint>
#include <functional>
#include <memory>
#include <string_view>

#include "icefield/base/monitor.h"

namespace icefield {

// Runs the units of a round. Steps only know this interface, so that units can later run elsewhere than in threads of
// this process. Results must not depend on the number of threads or on the order in which units finish: a unit
// writes to its own slot, and whatever joins slots does so in index order.
class Executor {
 public:
  // 0 threads: as many as the machine has. `memory_bytes`: what the units of a round (rounds.h) may take together; 0:
  // half of the machine's.
  explicit Executor(int threads = 0, std::uint64_t memory_bytes = 0);
  int threads() const { return threads_; }
  std::uint64_t memory_bytes() const { return memory_bytes_; }

  // The same workers, with rounds and loops that also stop with Error(interrupted) when this monitor cancels. The
  // monitor must outlive it.
  Executor watching(const Monitor& monitor) const {
    Executor watched = *this;
    watched.watched_ = &monitor;
    return watched;
  }

  // Calls unit(i) once for each i in [0, count). Reports progress to the monitor under `what` (empty: silent) and looks
  // for cancellation before each unit. When units throw, those already started are finished and the exception of the
  // lowest index is passed on. A round started inside a unit runs in that unit's thread.
  void run(std::string_view what, std::size_t count, Monitor& monitor,
           const std::function<void(std::size_t)>& unit) const;

  // The same for cheap inner loops: [0, count) cut in blocks of `grain` whatever the number of threads, no progress.
  void blocks(std::size_t count, std::size_t grain,
              const std::function<void(std::size_t block, std::size_t begin, std::size_t end)>& unit) const;

 private:
  struct Workers;  // started with the first round, kept between rounds
  int threads_;
  std::uint64_t memory_bytes_;
  std::shared_ptr<Workers> workers_;
  const Monitor* watched_ = nullptr;
};

inline std::size_t block_count(std::size_t count, std::size_t grain) {
  return (count + grain - 1) / grain;
}

}  // namespace icefield
