// The same bytes for any number of threads, and for a run that is killed and goes on.
#include <gtest/gtest.h>

#include <csignal>
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
    EXPECT_FALSE(fs::exists(folder / "work/tiles")) << "the cloud is whole";
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

// So many depth maps are there, of whatever round.
std::size_t depth_maps(const fs::path& survey) {
  std::size_t count = 0;
  std::error_code ignored;
  for (const auto& entry : fs::directory_iterator(survey / "work/depth", ignored))
    count += entry.path().extension() == ".depth";
  return count;
}

TEST(SameBytes, AfterTenKills) {
  const fs::path folder = begun("killed");
  CounterRandom random(1);
  int kills = 0;
  // Each life is to go a little farther than the one before: features, pairs, poses, depth maps, the cloud.
  for (int i = 0; i < 10; ++i) {
    const std::size_t maps = i < 4 ? 0 : depth_maps(folder) + 1 + random.below(4);
    kills += !test::run_and_kill({ICEFIELD_TOOL, "run", folder.string(), "--threads", "2"},
                                 1 + static_cast<int>(random.below(i < 4 ? 400 : 40)),
                                 [&] { return depth_maps(folder) >= maps; });
  }
  EXPECT_GT(kills, 4);
  ASSERT_EQ(test::run({ICEFIELD_TOOL, "run", folder.string(), "--threads", "2"}).status, 0);
  expect_same(reference(), results_of(folder));
}

// Mesh and texture too: killed while the surface is fitted, sharpened and painted, as the progress says where it is.
TEST(SameBytes, AfterKillsInMeshAndTexture) {
  const fs::path whole = begun("surface-whole"), killed = test::scratch_folder() / "surface-killed";
  ASSERT_EQ(
      test::run({ICEFIELD_TOOL, "run", whole.string(), "--set", "mesh.faces=20000", "--set", "texture.page_size=1024"})
          .status,
      0);
  fs::copy(whole, killed, fs::copy_options::recursive);
  ASSERT_EQ(test::run({ICEFIELD_TOOL, "run", whole.string(), "--to", "texture"}).status, 0);
  CounterRandom random(2);
  const std::vector<std::string> words = {ICEFIELD_TOOL, "run", killed.string(), "--to", "texture", "--threads", "1"};
  int kills = 0;
  for (int i = 0; i < 6; ++i)
    kills += !test::run_and_kill(words, 1 + static_cast<int>(random.below(i < 3 ? 900 : 2500)));
  // Once more where the mesh is there and the texture is on its way.
  kills += !test::run_and_kill(words, 300, [&] { return fs::exists(killed / "results/block-1/mesh.ply"); });
  EXPECT_GE(kills, 3);
  ASSERT_EQ(test::run(words).status, 0);
  expect_same(results_of(whole), results_of(killed));
}

TEST(Interrupt, StopsWithStatus130AndGoesOn) {
  const fs::path folder = begun("interrupted");
  test::Running run({ICEFIELD_TOOL, "run", folder.string()});
  ASSERT_TRUE(run.wait_for([&] { return depth_maps(folder) > 0; }));
  run.send(SIGINT);
  const auto stopped = run.wait();
  EXPECT_EQ(stopped.status, 130) << stopped.error;
  EXPECT_NE(stopped.error.find("run the same command again"), std::string::npos) << stopped.error;
  ASSERT_EQ(test::run({ICEFIELD_TOOL, "run", folder.string()}).status, 0);
  expect_same(reference(), results_of(folder));
}

// One looks at a match while the dense step runs for hours; only a second run is turned away.
TEST(WhileARunGoesOn, AllThatOnlyReadsWorks) {
  const fs::path folder = begun("in-use"), out = test::scratch_folder() / "looked";
  const std::string survey = folder.string(),
                    truth = (test::rendered("cairn", test::small_cairn()) / "truth/cameras.json").string();
  fs::create_directories(out);
  test::Running run({ICEFIELD_TOOL, "run", survey});
  ASSERT_TRUE(run.wait_for([&] { return depth_maps(folder) > 0; }));
  run.send(SIGSTOP);  // it holds the lock, at this very point, for as long as is looked
  const std::vector<std::vector<std::string>> looks = {
      {"status", survey},
      {"photos", survey},
      {"settings", survey, "--set", "fuse.min_views=4"},
      {"pair", survey, "cairn_003.jpg", "cairn_004.jpg"},
      {"view", survey, "matches", "--output", (out / "m.png").string()},
      {"view", survey, "block", "--output", (out / "b.png").string()},
      {"export", survey, "--cameras", (out / "c.json").string(), "--tie-points", (out / "t.ply").string()},
      {"compare", survey, "--cameras", truth},
      {"densify", survey, "--dry-run"}};
  for (const auto& words : looks) {
    std::vector<std::string> whole = words;
    whole.insert(whole.begin(), ICEFIELD_TOOL);
    const auto ran = test::run(whole);
    EXPECT_EQ(ran.status, 0) << words[0] << ": " << ran.error;
    if (words[0] == "status") {
      EXPECT_NE(ran.out.find("A run is going on"), std::string::npos) << ran.out;
    }
  }
  // Two at once as well.
  test::Running first({ICEFIELD_TOOL, "status", survey, "--json"}),
      second({ICEFIELD_TOOL, "view", survey, "pairs", "--output", (out / "p.png").string()});
  EXPECT_EQ(first.wait().status, 0);
  EXPECT_EQ(second.wait().status, 0);
  for (const auto& words : std::vector<std::vector<std::string>>{{"run", survey},
                                                                 {"adjust", survey, "--fix", "focal"},
                                                                 {"tidy", survey},
                                                                 {"pose", survey, "--set", "pose.free_focal=false"}}) {
    std::vector<std::string> whole = words;
    whole.insert(whole.begin(), ICEFIELD_TOOL);
    const auto ran = test::run(whole);
    EXPECT_EQ(ran.status, 1) << words[0];
    EXPECT_NE(ran.error.find("in use by another run"), std::string::npos) << ran.error;
  }
  EXPECT_EQ(test::content_of(out / "c.json"), test::content_of(folder / "results/block-1/cameras.json"));
  run.send(SIGCONT);
  EXPECT_EQ(run.wait().status, 0);
  // What the run had begun with is what it made; the settings of the meantime are for the next one.
  EXPECT_EQ(test::run({ICEFIELD_TOOL, "settings", survey, "--set", "fuse.min_views=3", "--set", "pose.free_focal=true"})
                .status,
            0);
  ASSERT_EQ(test::run({ICEFIELD_TOOL, "run", survey, "--quiet"}).status, 0);
  expect_same(reference(), results_of(folder));
}

}  // namespace
}  // namespace icefield
