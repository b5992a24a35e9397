#include "icefield/base/parallel.h"

#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <exception>
#include <mutex>
#include <thread>
#include <vector>

#ifndef ICEFIELD_STD_THREADS
#include <tbb/parallel_for.h>
#include <tbb/task_arena.h>
#endif

namespace icefield {
namespace {

thread_local bool inside_round = false;

// Marks the present thread as working on a unit, so that rounds inside it stay in this thread.
struct InsideRound {
  bool before = inside_round;
  InsideRound() { inside_round = true; }
  ~InsideRound() { inside_round = before; }
};

std::uint64_t default_memory_bytes() {
  const long pages = sysconf(_SC_PHYS_PAGES), page = sysconf(_SC_PAGE_SIZE);
  return pages > 0 && page > 0 ? static_cast<std::uint64_t>(pages) / 2 * static_cast<std::uint64_t>(page)
                               : std::uint64_t{2} << 30;
}

}  // namespace

// Lets `count` copies of `work` run at the same time and waits for all of them.
struct Executor::Workers {
#ifdef ICEFIELD_STD_THREADS
  explicit Workers(int) {}
  void run(int count, const std::function<void()>& work) {
    std::vector<std::thread> threads;
    for (int i = 1; i < count; ++i) threads.emplace_back(work);
    work();
    for (std::thread& thread : threads) thread.join();
  }
#else
  explicit Workers(int threads) : arena(threads) {}
  void run(int count, const std::function<void()>& work) {
    arena.execute([&] {
      tbb::parallel_for(
          0, count, [&](int) { work(); }, tbb::simple_partitioner());
    });
  }
  tbb::task_arena arena;
#endif
};

Executor::Executor(int threads, std::uint64_t memory_bytes)
    : threads_(threads > 0 ? threads : std::max(1, static_cast<int>(std::thread::hardware_concurrency()))),
      memory_bytes_(memory_bytes > 0 ? memory_bytes : default_memory_bytes()),
      workers_(std::make_shared<Workers>(threads_)) {}

void Executor::run(std::string_view what, std::size_t count, Monitor& monitor,
                   const std::function<void(std::size_t)>& unit) const {
  std::atomic<std::size_t> next{0}, done{0};
  std::atomic<bool> stop{false};
  std::mutex mutex;
  std::size_t failed_index = count;
  std::exception_ptr failure;

  auto work = [&] {
    InsideRound mark;
    while (!stop.load(std::memory_order_relaxed)) {
      const std::size_t i = next.fetch_add(1);
      if (i >= count) return;
      try {
        monitor.check();
        if (watched_) watched_->check();
        unit(i);
      } catch (...) {
        // Units are taken in order, so every unit below a failed one has been started and will report before the end.
        stop = true;
        std::lock_guard lock(mutex);
        if (i < failed_index) {
          failed_index = i;
          failure = std::current_exception();
        }
        return;
      }
      const std::size_t finished = done.fetch_add(1) + 1;
      if (!what.empty()) monitor.progress(what, finished, count);
    }
  };

  if (!what.empty()) monitor.progress(what, 0, count);
  const int workers = inside_round ? 1 : static_cast<int>(std::min<std::size_t>(threads_, count));
  if (workers <= 1)
    work();
  else
    workers_->run(workers, work);
  if (failure) std::rethrow_exception(failure);
}

Monitor& silent_monitor() {
  static Monitor silent;
  return silent;
}

void Executor::blocks(std::size_t count, std::size_t grain,
                      const std::function<void(std::size_t, std::size_t, std::size_t)>& unit) const {
  run("", block_count(count, grain), silent_monitor(),
      [&](std::size_t block) { unit(block, block * grain, std::min(count, (block + 1) * grain)); });
}

}  // namespace icefield
