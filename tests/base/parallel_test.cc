#include "icefield/base/parallel.h"

#include <gtest/gtest.h>

#include <atomic>
#include <numeric>
#include <stdexcept>

#include "icefield/base/random.h"

namespace icefield {
namespace {

TEST(Executor, RunsEachUnitOnce) {
  for (const int threads : {1, 2, 7}) {
    std::vector<std::atomic<int>> calls(1000);
    Monitor monitor;
    Executor(threads).run("units", calls.size(), monitor, [&](std::size_t i) { ++calls[i]; });
    for (const auto& c : calls) EXPECT_EQ(c, 1);
  }
}

TEST(Executor, ExceptionsLeaveByTheLowestIndex) {
  for (const int threads : {1, 2, 7})
    for (int repeat = 0; repeat < 20; ++repeat) {
      Monitor monitor;
      try {
        Executor(threads).run("units", 200, monitor, [&](std::size_t i) {
          if (i >= 40 && i % 3 == 1) throw std::runtime_error(std::to_string(i));
        });
        FAIL() << "nothing thrown";
      } catch (const std::runtime_error& e) {
        EXPECT_STREQ(e.what(), "40");
      }
    }
}

TEST(Executor, StopsWhenCancelledAndKeepsWhatIsDone) {
  struct StopAfter : Monitor {
    std::atomic<std::size_t> done{0};
    void progress(std::string_view, std::size_t d, std::size_t) override { done = std::max(done.load(), d); }
    bool cancelled() const override { return done >= 10; }
  } monitor;
  std::atomic<int> ran{0};
  try {
    Executor(2).run("units", 1000, monitor, [&](std::size_t) { ++ran; });
    FAIL() << "not stopped";
  } catch (const Error& e) {
    EXPECT_EQ(e.kind(), ErrorKind::interrupted);
  }
  EXPECT_GE(ran, 10);
  EXPECT_LT(ran, 20);
}

TEST(Executor, LoopsStopForTheMonitorThatIsWatched) {
  struct Stopped : Monitor {
    std::atomic<bool> stop{false};
    bool cancelled() const override { return stop; }
  } monitor;
  for (const int threads : {1, 3}) {
    monitor.stop = false;
    const Executor executor(threads), watched = executor.watching(monitor);
    std::atomic<int> ran{0};
    const auto stop_at_ten = [&](std::size_t, std::size_t, std::size_t) { monitor.stop = ++ran >= 10 || monitor.stop; };
    EXPECT_NO_THROW(executor.blocks(100, 1, stop_at_ten));  // nobody looks
    monitor.stop = false, ran = 0;
    EXPECT_THROW(watched.blocks(100, 1, stop_at_ten), Error);
    EXPECT_LT(ran, 20);
  }
}

TEST(Executor, BlocksDoNotDependOnThreads) {
  // Sums of floats by block, joined in order, are the same bits for any number of threads.
  std::vector<float> values(100000);
  CounterRandom random(3);
  for (float& v : values) v = static_cast<float>(random.normal());
  const auto sum = [&](int threads) {
    std::vector<float> parts(block_count(values.size(), 777));
    Executor(threads).blocks(values.size(), 777, [&](std::size_t b, std::size_t begin, std::size_t end) {
      parts[b] = std::accumulate(values.begin() + static_cast<std::ptrdiff_t>(begin),
                                 values.begin() + static_cast<std::ptrdiff_t>(end), 0.0f);
    });
    return std::accumulate(parts.begin(), parts.end(), 0.0f);
  };
  EXPECT_EQ(sum(1), sum(2));
  EXPECT_EQ(sum(1), sum(7));
}

TEST(Executor, RoundsInsideUnitsWork) {
  std::atomic<int> calls{0};
  Monitor monitor;
  const Executor executor(4);
  executor.run("outer", 8, monitor,
               [&](std::size_t) { executor.run("inner", 8, monitor, [&](std::size_t) { ++calls; }); });
  EXPECT_EQ(calls, 64);
}

TEST(CounterRandom, IsAFunctionOfKeyAndCounter) {
  CounterRandom a(5), b(5), skipped(5, 2), other(6);
  a.bits(), a.bits();
  b.bits(), b.bits();
  EXPECT_EQ(a.bits(), b.bits());
  CounterRandom c(5);
  c.bits(), c.bits();
  EXPECT_EQ(c.bits(), skipped.bits());
  EXPECT_NE(CounterRandom(5).bits(), other.bits());
}

TEST(CounterRandom, IsUniformAndNormal) {
  CounterRandom random(9);
  double sum = 0, sum2 = 0, normal_sum = 0, normal_sum2 = 0;
  constexpr int kCount = 200000;
  int below[7] = {};
  for (int i = 0; i < kCount; ++i) {
    const double u = random.uniform(), n = random.normal();
    ASSERT_GE(u, 0);
    ASSERT_LT(u, 1);
    sum += u, sum2 += u * u, normal_sum += n, normal_sum2 += n * n;
    ++below[random.below(7)];
  }
  EXPECT_NEAR(sum / kCount, 0.5, 0.004);
  EXPECT_NEAR(sum2 / kCount, 1.0 / 3, 0.004);
  EXPECT_NEAR(normal_sum / kCount, 0, 0.012);
  EXPECT_NEAR(normal_sum2 / kCount, 1, 0.02);
  for (const int b : below) EXPECT_NEAR(b, kCount / 7.0, 800);
}

// a b - c d and a b + c d side by side, which compilers like to contract; each product is rounded by itself all the
// same, or the last bits would hang on what the optimiser finds.
void turned(const double* a, const double* b, double c, double s, double* out) {
  for (int i = 0; i < 4; ++i) {
    out[2 * i] = c * a[i] - s * b[i];
    out[2 * i + 1] = c * b[i] + s * a[i];
  }
}

TEST(Rounding, ProductsAreRoundedByThemselves) {
  CounterRandom random(3);
  for (int repeat = 0; repeat < 200; ++repeat) {
    double a[4], b[4], out[8];
    for (int i = 0; i < 4; ++i) a[i] = random.normal(), b[i] = random.normal();
    const double c = random.uniform(), s = random.uniform();
    turned(a, b, c, s, out);
    for (int i = 0; i < 4; ++i) {
      volatile const double ca = c * a[i], sb = s * b[i], cb = c * b[i], sa = s * a[i];
      EXPECT_EQ(out[2 * i], ca - sb);
      EXPECT_EQ(out[2 * i + 1], cb + sa);
    }
  }
}

}  // namespace
}  // namespace icefield
