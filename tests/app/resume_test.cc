// The same bytes for any number of threads, and for a run that is killed and goes on.
#include <gtest/gtest.h>

#include <map>

#include "icefield/base/random.h"
#include "tests/tools/programs.h"
#include "tests/tools/scenes.h"

namespace icefield {
namespace {
namespace fs = std::filesystem;

std::map<std::string, std::string> results_of(const fs::path& survey) {
  std::map<std::string, std::string> files;
  for (const auto& entry : fs::recursive_directory_iterator(survey / "results"))
    if (entry.is_regular_file())
      files[entry.path().lexically_relative(survey).string()] = test::content_of(entry.path());
  return files;
}

// Pairs are chosen, as in a large set.
fs::path begun(const std::string& name) {
  const fs::path made = test::rendered("cairn", test::small_cairn()), folder = test::scratch_folder() / name;
  EXPECT_EQ(test::run({ICEFIELD_TOOL, "begin", folder.string(), (made / "photos").string(), "--set",
                       "dense.coarse_iterations=3", "--set", "pairs.all_up_to=5", "--quiet"})
                .status,
            0);
  return folder;
}

void expect_same(const std::map<std::string, std::string>& a, const std::map<std::string, std::string>& b) {
  ASSERT_EQ(a.size(), b.size());
  for (const auto& [name, content] : a) {
    ASSERT_TRUE(b.count(name)) << name;
    EXPECT_TRUE(content == b.at(name)) << name << " differs";
  }
}

std::map<std::string, std::string> reference() {
  static const auto files = [] {
    const fs::path folder = begun("reference");
    EXPECT_EQ(test::run({ICEFIELD_TOOL, "run", folder.string(), "--threads", "1"}).status, 0);
    return results_of(folder);
  }();
  return files;
}

TEST(SameBytes, ForAnyNumberOfThreads) {
  EXPECT_GE(reference().size(), 4u);  // cameras, tie points, cloud, provenance
  for (const char* threads : {"2", "7"}) {
    const fs::path folder = begun(std::string("threads-") + threads);
    ASSERT_EQ(test::run({ICEFIELD_TOOL, "run", folder.string(), "--threads", threads}).status, 0);
    expect_same(reference(), results_of(folder));
  }
}

TEST(SameBytes, AfterTenKills) {
  const fs::path folder = begun("killed");
  CounterRandom random(1);
  int kills = 0;
  for (int i = 0; i < 10; ++i)
    kills += !test::run_and_kill({ICEFIELD_TOOL, "run", folder.string(), "--threads", "2"},
                                 150 + static_cast<int>(random.below(900)));
  EXPECT_GT(kills, 4);
  ASSERT_EQ(test::run({ICEFIELD_TOOL, "run", folder.string(), "--threads", "2"}).status, 0);
  expect_same(reference(), results_of(folder));
}

TEST(Interrupt, StopsWithStatus130AndGoesOn) {
  const fs::path folder = begun("interrupted");
  const auto stopped =
      test::run({"/bin/bash", "-c",
                 "'" ICEFIELD_TOOL "' run '" + folder.string() + "' & pid=$!; sleep 2; kill -INT $pid; wait $pid"});
  EXPECT_EQ(stopped.status, 130) << stopped.error;
  EXPECT_NE(stopped.error.find("run the same command again"), std::string::npos) << stopped.error;
  ASSERT_EQ(test::run({ICEFIELD_TOOL, "run", folder.string()}).status, 0);
  expect_same(reference(), results_of(folder));
}

TEST(SecondRun, IsToldWhileTheFirstGoesOn) {
  const fs::path folder = begun("second");
  const auto ran = test::run({"/bin/bash", "-c",
                              "'" ICEFIELD_TOOL "' run '" + folder.string() +
                                  "' >/dev/null 2>&1 & sleep 2; '" ICEFIELD_TOOL "' run '" + folder.string() +
                                  "'; status=$?; kill %1; wait; exit $status"});
  EXPECT_EQ(ran.status, 1);
  EXPECT_NE(ran.error.find("in use by another run"), std::string::npos) << ran.error;
}

}  // namespace
}  // namespace icefield
