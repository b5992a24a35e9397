#include "icefield/base/amounts.h"

#include <gtest/gtest.h>

#include "icefield/base/error.h"
#include "icefield/base/parallel.h"

namespace icefield {
namespace {

TEST(Memory, IsReadAsPeopleWriteIt) {
  EXPECT_EQ(memory_from_text("8G"), std::uint64_t{8} << 30);
  EXPECT_EQ(memory_from_text("512 mb"), std::uint64_t{512} << 20);
  EXPECT_EQ(memory_from_text("1.5GB"), std::uint64_t{3} << 29);
  for (const char* bad : {"", "8", "G", "-1G", "8X", "1M", "nan G", "8G8", "1e300G"})
    EXPECT_THROW(memory_from_text(bad), Error) << bad;
  EXPECT_GT(Executor(1).memory_bytes(), std::uint64_t{64} << 20);
}

TEST(Time, IsReadAsPeopleWriteIt) {
  EXPECT_EQ(seconds_from_text("2h"), 7200);
  EXPECT_EQ(seconds_from_text("45m"), 2700);
  EXPECT_EQ(seconds_from_text("1h30m"), 5400);
  EXPECT_EQ(seconds_from_text("1d 2h 3m 4.5s"), 93784.5);
  EXPECT_EQ(seconds_from_text("0.5h"), 1800);
  for (const char* bad : {"", "2", "h", "-1h", "2x", "0m", "nan h", "30m1h", "1h1h", "1e300d", "2h 5", "2 h"})
    EXPECT_THROW(seconds_from_text(bad), Error) << bad;
}

}  // namespace
}  // namespace icefield
