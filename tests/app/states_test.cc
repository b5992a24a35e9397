// What is shown is what was asked for: a random walk through settings, adjustments, clouds, kills and exports, in which
// every file is held against the one that a survey which never saw anything else makes, byte for byte.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <map>
#include <nlohmann/json.hpp>

#include "icefield/base/random.h"
#include "icefield/io/camera_file.h"
#include "icefield/io/text_file.h"
#include "tests/tools/scenes.h"
#include "tests/tools/tool.h"

namespace icefield {
namespace {
namespace fs = std::filesystem;
using test::icefield;
using test::icefield_json;

// Ten photos, matched; copies of it are what others start from.
const fs::path& matched_survey() {
  static const fs::path folder = [] {
    const fs::path source = test::rendered("cairn", test::small_cairn()) / "photos",
                   base = test::scratch_folder() / "base";
    fs::create_directories(base / "photos");
    for (int i = 2; i <= 11; ++i) {
      const std::string file = fmt::format("cairn_{:03}.jpg", i);
      fs::copy(source / file, base / "photos" / file);
    }
    EXPECT_EQ(icefield({"begin", base.string(), (base / "photos").string(), "--effort", "draft", "--set",
                        "dense.coarse_iterations=2"})
                  .status,
              0);
    EXPECT_EQ(icefield({"match", base.string()}).status, 0);
    return base;
  }();
  return folder;
}

fs::path copy_of_base(const std::string& name) {
  const fs::path folder = test::scratch_folder() / name;
  fs::remove_all(folder);
  fs::copy(matched_survey(), folder, fs::copy_options::recursive);
  return folder;
}

const std::vector<std::vector<std::string>> kAdjustments = {{"--fix", "focal"}, {"--remove-weak", "--passes", "1"}};

// What was asked for. Adjustments belong to the settings that were posed.
struct Asked {
  bool whole_lens = true, few_views = false, boxed = false;
  std::map<bool, std::vector<std::size_t>> adjusted;  // by whole_lens: which of kAdjustments, in order

  const std::vector<std::size_t>& now() const {
    static const std::vector<std::size_t> none;
    const auto found = adjusted.find(whole_lens);
    return found == adjusted.end() ? none : found->second;
  }
  std::string text() const {
    std::string out = fmt::format("{}{}{}", whole_lens, few_views, boxed);
    for (const std::size_t a : now()) out += fmt::format("-{}", a);
    return out;
  }
};

std::vector<std::string> box_words() {
  static const std::vector<std::string> words = [] {
    const fs::path folder = copy_of_base("for-the-box");
    EXPECT_EQ(icefield({"pose", folder.string()}).status, 0);
    const Bounds box = *read_camera_file(folder / "results/block-1/cameras.json").bounds;
    std::vector<std::string> all;
    for (const Eigen::Vector3d& v : {box.centre, Eigen::Vector3d(1.2 * box.half_size)})
      for (int c = 0; c < 3; ++c) all.push_back(fmt::format("{:.6f}", v[c]));
    return all;
  }();
  return words;
}

std::vector<std::string> settings_words(const Asked& asked) {
  return {"--set", fmt::format("pose.free_whole_lens={}", asked.whole_lens), "--set",
          fmt::format("fuse.min_views={}", asked.few_views ? 2 : 3)};
}

void add(std::vector<std::string>& words, const std::vector<std::string>& more) {
  words.insert(words.end(), more.begin(), more.end());
}

std::vector<std::string> densify_words(const fs::path& folder, const Asked& asked) {
  std::vector<std::string> words = {"densify", folder.string()};
  add(words, settings_words(asked));
  if (asked.boxed) {
    words.push_back("--bounds");
    add(words, box_words());
  } else {
    words.push_back("--automatic-bounds");
  }
  return words;
}

using Files = std::map<std::string, std::string>;

Files files_of(const fs::path& folder) {
  Files files;
  for (const char* name : {"cameras.json", "tie_points.ply", "dense.ply", "set_aside.ply"})
    if (fs::exists(folder / "results/block-1" / name))
      files[name] = test::content_of(folder / "results/block-1" / name);
  return files;
}

// By a survey that never saw anything else; made once for each state.
const Files& fresh_files(const Asked& asked) {
  static std::map<std::string, Files> known;
  const auto [entry, is_new] = known.try_emplace(asked.text());
  if (!is_new) return entry->second;
  const fs::path folder = copy_of_base("fresh-" + asked.text());
  std::vector<std::string> pose = {"pose", folder.string()};
  add(pose, settings_words(asked));
  EXPECT_EQ(icefield(pose).status, 0);
  for (const std::size_t a : asked.now()) {
    std::vector<std::string> words = {"adjust", folder.string()};
    add(words, kAdjustments[a]);
    EXPECT_EQ(icefield(words).status, 0);
  }
  EXPECT_EQ(icefield(densify_words(folder, asked)).status, 0);
  entry->second = files_of(folder);
  EXPECT_GE(entry->second.size(), 3u);
  fs::remove_all(folder);
  return entry->second;
}

void expect_block_files(const fs::path& folder, const Asked& asked, const std::string& after) {
  const Files now = files_of(folder);
  const Files& wanted = fresh_files(asked);
  for (const char* name : {"cameras.json", "tie_points.ply"}) {
    ASSERT_TRUE(now.contains(name)) << name << " after " << after;
    ASSERT_TRUE(now.at(name) == wanted.at(name)) << name << " after " << after << " in state " << asked.text();
  }
}

// Exports what there is: it is that of the present state, or the command says that there is none.
void expect_exports(const fs::path& folder, const Asked& asked, const std::string& after, bool cloud_is_fresh) {
  const fs::path out = test::scratch_folder() / "exported";
  fs::create_directories(out);
  const Files& wanted = fresh_files(asked);
  const auto cameras = icefield(
      {"export", folder.string(), "--cameras", (out / "c.json").string(), "--tie-points", (out / "t.xyz").string()});
  if (cameras.status == 0) {
    ASSERT_TRUE(test::content_of(out / "c.json") == wanted.at("cameras.json"))
        << "cameras after " << after << " in " << asked.text();
    expect_block_files(folder, asked, "export after " + after);  // mended on the way
  } else {
    ASSERT_EQ(cameras.status, 2) << cameras.error;
    ASSERT_FALSE(cloud_is_fresh) << cameras.error;
  }
  const auto cloud = icefield({"export", folder.string(), "--cloud", (out / "d.ply").string()});
  if (cloud.status == 0) {
    ASSERT_TRUE(test::content_of(out / "d.ply") == wanted.at("dense.ply"))
        << "cloud after " << after << " in " << asked.text();
  } else {
    ASSERT_EQ(cloud.status, 2) << cloud.error;
    ASSERT_NE(cloud.error.find("run `icefield "), std::string::npos) << cloud.error;
    ASSERT_FALSE(cloud_is_fresh) << cloud.error;
  }
}

// Goes on at random from state to state, now and then with a kill.
class Walk {
 public:
  explicit Walk(std::uint64_t seed)
      : seed_(seed), folder_(copy_of_base(fmt::format("walk-{}", seed))), survey_(folder_.string()), random_(seed) {}

  void go(int steps) {
    ASSERT_EQ(icefield({"pose", survey_}).status, 0);
    for (int step = 0; step < steps; ++step) {
      kill_ = random_.below(4) == 0;
      milliseconds_ = 5 + static_cast<int>(random_.below(300));
      cloud_is_fresh_ = false;
      const std::uint32_t what = random_.below(7);
      what < 2 ? change_settings() : what == 2 ? pose() : what < 5 ? adjust_or_undo() : densify();
      if (testing::Test::HasFatalFailure()) return;
      expect_exports(folder_, asked_, trail_, cloud_is_fresh_);
      if (testing::Test::HasFatalFailure()) return;
    }
    // What is not needed goes, and what is fresh stays so.
    ASSERT_EQ(icefield(densify_words(folder_, asked_)).status, 0);
    EXPECT_EQ(icefield({"tidy", survey_}).status, 0);
    const auto status = icefield_json({"status", survey_});
    for (const auto& part : status["disk"]) EXPECT_EQ(part["idle"], 0) << part;
    expect_all_fresh();
    EXPECT_TRUE(files_of(folder_) == fresh_files(asked_));
    std::printf("seed %d: %d steps, %d kills\n", static_cast<int>(seed_), steps, kills_);
  }

 private:
  void expect_all_fresh() {
    const auto status = icefield_json({"status", survey_});
    for (const auto& s : status["steps"]) EXPECT_EQ(s["state"], "fresh") << s << trail_;
  }
  void kill(std::vector<std::string> words) {
    words.insert(words.begin(), ICEFIELD_TOOL);
    kills_ += !test::run_and_kill(words, milliseconds_);
  }

  // Without a run.
  void change_settings() {
    trail_ += ", settings";
    (random_.below(2) ? asked_.whole_lens : asked_.few_views) ^= true;
    std::vector<std::string> words = {"settings", survey_};
    add(words, settings_words(asked_));
    ASSERT_EQ(icefield(words).status, 0);
  }

  void pose() {
    trail_ += kill_ ? ", killed pose" : ", pose";
    if (kill_) return kill({"pose", survey_});
    ASSERT_EQ(icefield({"pose", survey_}).status, 0);
    expect_block_files(folder_, asked_, trail_);
  }

  void adjust_or_undo() {
    ASSERT_EQ(icefield({"pose", survey_}).status, 0);
    Asked next = asked_;
    auto& done = next.adjusted[next.whole_lens];
    std::vector<std::string> words = {"adjust", survey_};
    trail_ += kill_ ? ", killed " : ", ";
    if (done.size() > 1 || (!done.empty() && random_.below(2))) {
      trail_ += "undo";
      words.push_back("--undo");
      done.pop_back();
    } else {
      const std::size_t a = random_.below(static_cast<std::uint32_t>(kAdjustments.size()));
      trail_ += fmt::format("adjustment {}", a);
      add(words, kAdjustments[a]);
      done.push_back(a);
    }
    if (!kill_) {
      const auto ran = icefield(words);
      ASSERT_EQ(ran.status, 0) << ran.error << trail_;
      asked_ = next;
    } else {
      // It came into force, or it did not; nothing in between.
      kill(words);
      ASSERT_EQ(icefield({"pose", survey_}).status, 0);
      const auto history = icefield_json({"status", survey_})["steps"][1]["history"].size();
      ASSERT_TRUE(history == 1 + asked_.now().size() || history == 1 + next.now().size()) << history;
      if (history == 1 + next.now().size()) asked_ = next;
    }
    expect_block_files(folder_, asked_, trail_);
  }

  void densify() {
    asked_.boxed = random_.below(3) == 0;
    trail_ += kill_ ? ", killed densify" : ", densify";
    const std::vector<std::string> words = densify_words(folder_, asked_);
    if (kill_) {
      // The bounds are given before anything is killed: whether they came in would not be known.
      ASSERT_EQ(icefield({"pose", survey_}).status, 0);
      ASSERT_EQ(icefield(words).status, 0);
      ASSERT_EQ(icefield({"settings", survey_, "--set", "clean.min_island_points=50"}).status, 0);
      kill({"densify", survey_});
      ASSERT_EQ(icefield({"settings", survey_, "--set", "clean.min_island_points=100"}).status, 0);
      return;
    }
    const auto ran = icefield(words);
    ASSERT_EQ(ran.status, 0) << ran.error;
    cloud_is_fresh_ = true;
    ASSERT_TRUE(files_of(folder_) == fresh_files(asked_)) << trail_ << " in " << asked_.text();
    expect_all_fresh();
  }

  std::uint64_t seed_;
  fs::path folder_;
  std::string survey_;
  CounterRandom random_;
  Asked asked_;
  std::string trail_ = "pose";
  bool kill_ = false, cloud_is_fresh_ = false;  // of the present step
  int milliseconds_ = 0, kills_ = 0;
};

TEST(States, EveryFileIsThatOfAFreshSurvey) {
  for (const std::uint64_t seed : {1, 2}) {
    Walk(seed).go(20);
    if (HasFatalFailure()) return;
  }
}

// The case that was found on real work, step by step.
TEST(States, GoingBackToASettingBringsItsBlockBack) {
  const fs::path folder = copy_of_base("back");
  const auto pose = [&](bool whole) {
    return icefield({"pose", folder.string(), "--set", fmt::format("pose.free_whole_lens={}", whole)}).status;
  };
  ASSERT_EQ(pose(true), 0);
  const Files first = files_of(folder);
  const auto took = [&] { return icefield_json({"status", folder.string()})["steps"][1]["seconds"].get<double>(); };
  const double seconds = took();
  EXPECT_GT(seconds, 0);
  ASSERT_EQ(pose(false), 0);
  EXPECT_FALSE(files_of(folder) == first);
  ASSERT_EQ(pose(true), 0);
  EXPECT_TRUE(files_of(folder) == first);
  EXPECT_EQ(took(), seconds) << "as when it was made";
}

TEST(States, AnEffortOfOneStepIsThatStepsAlone) {
  const fs::path folder = copy_of_base("effort");
  const std::string survey = folder.string();
  ASSERT_EQ(icefield({"pose", survey}).status, 0);
  const std::string cameras = test::content_of(folder / "results/block-1/cameras.json"),
                    toml = read_file(folder / "survey.toml");
  // A dry run changes nothing, whatever it is asked.
  const auto dry = icefield_json({"densify", survey, "--dry-run", "--effort", "standard", "--set", "fuse.min_views=2",
                                  "--bounds", "0", "0", "0", "9", "9", "9"});
  EXPECT_EQ(dry["effort"], "standard");
  EXPECT_EQ(read_file(folder / "survey.toml"), toml);
  EXPECT_FALSE(fs::exists(folder / "work/depth"));
  EXPECT_EQ(icefield_json({"status", survey})["steps"][1]["state"], "fresh");
  // Densify at another effort leaves the block alone.
  ASSERT_EQ(icefield({"densify", survey, "--effort", "standard"}).status, 0);
  EXPECT_EQ(test::content_of(folder / "results/block-1/cameras.json"), cameras);
  const auto status = icefield_json({"status", survey});
  EXPECT_EQ(status["effort"], "draft");
  EXPECT_EQ(status["step_effort"]["densify"], "standard");
  for (const auto& s : status["steps"]) EXPECT_EQ(s["state"], "fresh") << s;
  // Of all steps it is everybody's again.
  ASSERT_EQ(icefield({"settings", survey, "--effort", "draft"}).status, 0);
  EXPECT_EQ(icefield_json({"status", survey})["step_effort"].size(), 0u);
  EXPECT_EQ(icefield_json({"status", survey})["steps"][2]["state"], "stale");
  // A dry run without a fresh block computes none.
  ASSERT_EQ(icefield({"settings", survey, "--set", "match.max_ratio=0.7"}).status, 0);
  const auto refused = icefield({"densify", survey, "--dry-run"});
  EXPECT_EQ(refused.status, 2);
  EXPECT_NE(refused.error.find("icefield pose"), std::string::npos) << refused.error;
}

TEST(States, StatusSaysWhyInWords) {
  const fs::path folder = copy_of_base("why");
  const std::string survey = folder.string();
  ASSERT_EQ(icefield({"densify", survey}).status, 0);
  const auto why = [&](std::size_t step) { return icefield_json({"status", survey})["steps"][step]["reasons"].dump(); };
  ASSERT_EQ(icefield({"settings", survey, "--set", "pose.free_whole_lens=false"}).status, 0);
  EXPECT_EQ(why(1), "[\"pose.free_whole_lens was true, is false\"]");
  EXPECT_EQ(why(2), "[\"pose is stale\"]");
  EXPECT_NE(icefield({"status", survey}).out.find("pose is stale: pose.free_whole_lens was true, is false"),
            std::string::npos);
  ASSERT_EQ(icefield({"settings", survey, "--set", "pose.free_whole_lens=true", "--set", "fuse.min_views=2"}).status,
            0);
  EXPECT_EQ(why(1), "[]");
  EXPECT_EQ(why(2), "[\"fuse.min_views was 3, is 2\"]");
  const auto refused = icefield({"export", survey, "--cloud", (folder / "x.ply").string()});
  EXPECT_EQ(refused.status, 2);
  EXPECT_NE(refused.error.find("fuse.min_views was 3, is 2"), std::string::npos) << refused.error;
  EXPECT_FALSE(fs::exists(folder / "x.ply"));
  // Knowingly it can be had, and is said.
  const auto taken = icefield({"export", survey, "--cloud", (folder / "x.ply").string(), "--stale"});
  EXPECT_EQ(taken.status, 0);
  EXPECT_NE(taken.error.find("though stale: fuse.min_views was 3, is 2"), std::string::npos) << taken.error;
  EXPECT_EQ(test::content_of(folder / "x.ply"), test::content_of(folder / "results/block-1/dense.ply"));
  ASSERT_EQ(icefield({"settings", survey, "--set", "fuse.min_views=3"}).status, 0);
  // Photos and masks.
  ASSERT_EQ(icefield({"photos", survey, "--off", "cairn_004.jpg"}).status, 0);
  EXPECT_EQ(why(0), "[\"photo cairn_004.jpg is gone\"]");
  ASSERT_EQ(icefield({"photos", survey, "--on", "cairn_004.jpg"}).status, 0);
  // An adjustment: the cloud is of another block, and the view of it says so.
  ASSERT_EQ(icefield({"adjust", survey, "--fix", "focal"}).status, 0);
  EXPECT_EQ(why(2), "[\"block 1 is another: it was posed, adjusted, joined or georeferenced since\"]");
  for (const std::vector<std::string>& words : std::vector<std::vector<std::string>>{
           {"view", survey, "cloud"}, {"export", survey, "--cloud", "x.ply"}, {"view", survey, "through", "--cloud"}}) {
    const auto ran = icefield(words);
    EXPECT_EQ(ran.status, 2) << words[0];
    EXPECT_NE(ran.error.find("block 1 is another"), std::string::npos) << ran.error;
  }
  EXPECT_EQ(icefield({"view", survey, "cloud", "--stale"}).status, 0);
  // Undone and adjusted otherwise it is still another: adjustments are not merely counted.
  ASSERT_EQ(icefield({"densify", survey}).status, 0);
  ASSERT_EQ(icefield({"adjust", survey, "--undo"}).status, 0);
  ASSERT_EQ(icefield({"adjust", survey, "--fix", "radial_1,radial_2"}).status, 0);
  EXPECT_EQ(icefield_json({"status", survey})["steps"][2]["state"], "stale");
}

TEST(States, WhatAnotherProgramChangedIsNeitherHandedOutNorLost) {
  const fs::path folder = copy_of_base("changed");
  const std::string survey = folder.string();
  const fs::path cloud = folder / "results/block-1/dense.ply";
  ASSERT_EQ(icefield({"densify", survey}).status, 0);
  const std::string
      before = test::content_of(cloud),
      cleaned =
          "ply\nformat ascii 1.0\nelement vertex 0\nproperty float x\nproperty float y\nproperty float z\nend_header\n";
  fs::last_write_time(cloud, fs::last_write_time(cloud) + std::chrono::hours(1));  // touched, but the same
  EXPECT_EQ(icefield({"export", survey, "--cloud", (folder / "x.ply").string()}).status, 0);
  write_file(cloud, cleaned);
  const auto refused = icefield({"export", survey, "--cloud", (folder / "x.ply").string()});
  EXPECT_EQ(refused.status, 2);
  EXPECT_NE(refused.error.find("changed by another program"), std::string::npos) << refused.error;
  const auto again = icefield({"densify", survey});
  EXPECT_EQ(again.status, 0);
  EXPECT_NE(again.error.find("dense.changed.ply"), std::string::npos) << again.error;
  EXPECT_EQ(test::content_of(folder / "results/block-1/dense.changed.ply"), cleaned);
  EXPECT_TRUE(test::content_of(cloud) == before);
  // The files of a block come back by themselves from its record.
  fs::remove(folder / "results/block-1/cameras.json");
  EXPECT_EQ(icefield({"export", survey, "--cameras", (folder / "c.json").string()}).status, 0);
  EXPECT_TRUE(fs::exists(folder / "results/block-1/cameras.json"));
  // The work folder may go at any time.
  fs::remove_all(folder / "work");
  EXPECT_EQ(icefield({"run", survey, "--quiet"}).status, 0);
  EXPECT_TRUE(test::content_of(cloud) == before);
}

}  // namespace
}  // namespace icefield
