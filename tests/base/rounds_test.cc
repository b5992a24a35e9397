#include "icefield/base/rounds.h"

#include <gtest/gtest.h>

#include <atomic>
#include <map>
#include <mutex>
#include <set>

namespace icefield {
namespace {

// Squares, kept in memory; tells how many units were in work at a time.
struct Squares : UnitRound {
  std::size_t count;
  std::uint64_t each;
  std::map<std::size_t, Bytes> kept;
  std::mutex mutex;
  int now = 0, most = 0;
  std::uint64_t bytes_now = 0, bytes_most = 0;
  std::set<std::size_t> ahead;
  std::size_t failing = ~std::size_t{0};
  Squares(std::size_t n, std::uint64_t b) : count(n), each(b) {}
  std::size_t size() const override { return count; }
  bool is_kept(std::size_t unit) override { return kept.count(unit) > 0; }
  std::uint64_t memory_bytes(std::size_t unit) const override { return each * (unit % 3 + 1); }
  void look_ahead(std::size_t unit) override {
    const std::lock_guard lock(mutex);
    ahead.insert(unit);
  }
  Bytes compute(std::size_t unit, const Executor& inner) override {
    {
      const std::lock_guard lock(mutex);
      most = std::max(most, ++now);
      bytes_most = std::max(bytes_most, bytes_now += memory_bytes(unit));
    }
    std::vector<std::uint64_t> parts(10, 0);
    inner.blocks(parts.size(), 1, [&](std::size_t k, std::size_t, std::size_t) { parts[k] = unit * unit; });
    {
      const std::lock_guard lock(mutex);
      --now, bytes_now -= memory_bytes(unit);
    }
    if (unit >= failing) throw Error(ErrorKind::input, "unit " + std::to_string(unit), "fails", "nothing");
    return ByteWriter().put(parts[0]).take();
  }
  void keep(std::size_t unit, const Bytes& result) override {
    const std::lock_guard lock(mutex);
    kept.emplace(unit, result);
  }
};

TEST(RunRound, KeepsTheSameWhateverTheThreadsAndTheMemory) {
  Monitor monitor;
  std::map<std::size_t, Bytes> first;
  for (const int threads : {1, 2, 7})
    for (const std::uint64_t memory : {std::uint64_t{10}, std::uint64_t{350}, std::uint64_t{1} << 40}) {
      Squares round(50, 100);
      EXPECT_EQ(run_round("squares", round, Executor(threads, memory), monitor), 50u);
      if (first.empty()) first = round.kept;
      EXPECT_EQ(round.kept, first);
      // Within the budget, or one at a time.
      EXPECT_TRUE(round.bytes_most <= memory || round.most == 1) << threads << " " << memory;
    }
}

TEST(RunRound, ComputesWhatIsMissingAndLooksAheadWhereOnlyOneFits) {
  Monitor monitor;
  Squares round(20, 100);
  for (const std::size_t known : {3, 4, 11}) round.kept[known] = {};
  EXPECT_EQ(run_round("squares", round, Executor(2, 50), monitor), 17u);
  EXPECT_EQ(round.kept.size(), 20u);
  EXPECT_EQ(round.ahead.size(), 16u);  // all but the first
  EXPECT_FALSE(round.ahead.count(4));
  EXPECT_EQ(run_round("squares", round, Executor(2, 50), monitor), 0u);
}

TEST(RunRound, PassesTheLowestFailureOnAndKeepsWhatWasDone) {
  Monitor monitor;
  for (const std::uint64_t memory : {std::uint64_t{50}, std::uint64_t{1} << 40}) {
    Squares round(40, 100);
    round.failing = 13;
    try {
      run_round("squares", round, Executor(3, memory), monitor);
      FAIL() << "no failure";
    } catch (const Error& error) {
      EXPECT_EQ(error.subject(), "unit 13");
    }
    EXPECT_EQ(round.kept.size(), 13u);
  }
}

}  // namespace
}  // namespace icefield
