#include "src/base/recently_used.h"

#include <gtest/gtest.h>

#include <atomic>
#include <stdexcept>

#include "icefield/base/parallel.h"

namespace icefield {
namespace {

TEST(RecentlyUsed, MakesEachOnceForAllThatAskAtATime) {
  std::vector<std::atomic<int>> made(10);
  RecentlyUsed<std::uint32_t, int> values(10, [&](std::uint32_t key) {
    ++made[key];
    return std::make_shared<int>(static_cast<int>(key * key));
  });
  Executor(7).run("ask", 1000, silent_monitor(), [&](std::size_t i) {
    const auto key = static_cast<std::uint32_t>(i % 10);
    EXPECT_EQ(*values.get(key), static_cast<int>(key * key));
  });
  for (const auto& count : made) EXPECT_EQ(count, 1);
}

TEST(RecentlyUsed, ForgetsTheLongestUnusedAndTriesAgainAfterAFailure) {
  int made = 0;
  bool failing = true;
  RecentlyUsed<int, int> values(2, [&](int key) {
    if (failing) throw std::runtime_error("not now");
    ++made;
    return std::make_shared<int>(key);
  });
  EXPECT_THROW(values.get(1), std::runtime_error);
  failing = false;
  const auto held = values.get(1);
  values.get(2), values.get(1), values.get(3);  // 2 goes
  EXPECT_EQ(made, 3);
  values.get(1);
  EXPECT_EQ(made, 3);
  values.get(2);
  EXPECT_EQ(made, 4);
  values.clear();
  EXPECT_EQ(*held, 1);
  values.get(2);
  EXPECT_EQ(made, 5);
}

}  // namespace
}  // namespace icefield
