// Each command as a user meets it: what it prints, what it keeps, what it says when it is used wrongly.
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <unistd.h>

#include <cmath>
#include <fstream>
#include <nlohmann/json.hpp>
#include <numbers>
#include <map>
#include <set>
#include <sstream>

#include "icefield/io/camera_file.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/ply_file.h"
#include "icefield/io/text_file.h"
#include "tests/tools/scenes.h"
#include "tests/tools/tool.h"

namespace icefield {
namespace {
namespace fs = std::filesystem;
using nlohmann::json;
using test::icefield;
using test::icefield_json;

std::string last_line(const std::string& text) {
  std::istringstream in(text);
  std::string last;
  for (std::string line; std::getline(in, line);)
    if (!line.empty()) last = line;
  return last;
}

bool has(const std::string& text, const std::string& words) {
  return text.find(words) != std::string::npos;
}

// One survey of fourteen photos, begun but not matched, and a densified copy of it, that stays as it is.
const fs::path& all_surveys() {
  static const fs::path folder = [] {
    const fs::path made = test::rendered("cairn", test::small_cairn()), all = test::scratch_folder() / "commands";
    fs::create_directories(all);
    fs::copy(made / "photos", all / "photos");
    return all;
  }();
  return folder;
}

std::vector<std::string> begin_words(const std::string& folder) {
  return {"begin",         folder,  (all_surveys() / "photos").string(),   "--effort",
          "draft",         "--set", "feature.double_below_megapixels=1.5", "--set",
          "dense.shrink=2"};
}

const std::string& survey() {
  static const std::string folder = (all_surveys() / "s").string();
  return folder;
}

// Each case has the densified survey for itself, so that they run in any order.
class Commands : public testing::Test {
 protected:
  void SetUp() override {
    static const fs::path finished = [] {
      const fs::path folder = all_surveys() / "finished";
      EXPECT_EQ(icefield(begin_words(folder.string())).status, 0);
      EXPECT_EQ(icefield({"run", folder.string(), "--quiet"}).status, 0);
      return folder;
    }();
    fs::remove_all(survey());
    fs::copy(finished, survey(), fs::copy_options::recursive);
  }
};

fs::path block_folder() {
  return fs::path(survey()) / "results/block-1";
}

TEST_F(Commands, EachSaysWhatItDidAndWhatIsNext) {
  fs::remove_all(survey());
  const auto begun = icefield(begin_words(survey()));
  ASSERT_EQ(begun.status, 0) << begun.error;
  EXPECT_TRUE(has(begun.out, "Firnlicht")) << begun.out;
  EXPECT_TRUE(has(begun.out, "metadata and sensor table")) << begun.out;
  EXPECT_EQ(last_line(begun.out), "Next: icefield match " + survey());
  const auto matched = icefield({"match", survey()});
  ASSERT_EQ(matched.status, 0) << matched.error;
  EXPECT_TRUE(has(matched.out, "features in 14 photos")) << matched.out;
  EXPECT_TRUE(has(matched.out, "of 91 pairs verified")) << matched.out;
  EXPECT_EQ(last_line(matched.out), "Next: icefield pose " + survey());
  const auto posed = icefield({"pose", survey()});
  ASSERT_EQ(posed.status, 0) << posed.error;
  EXPECT_TRUE(has(posed.out, "14 of 14 photos posed in 1 block")) << posed.out;
  EXPECT_TRUE(has(posed.out, "RMS px")) << posed.out;
  EXPECT_TRUE(has(last_line(posed.out), "icefield densify " + survey())) << posed.out;
  const auto early = icefield({"status", survey()});
  EXPECT_TRUE(has(early.out, "missing")) << early.out;
  EXPECT_EQ(last_line(early.out), "Next: icefield densify " + survey());
  const auto densified = icefield({"densify", survey()});
  ASSERT_EQ(densified.status, 0) << densified.error;
  EXPECT_TRUE(has(densified.out, "dense.ply")) << densified.out;
  EXPECT_TRUE(has(densified.out, "Bounds of block 1: centre")) << densified.out;
  const auto status = icefield({"status", survey()});
  EXPECT_FALSE(has(status.out, "missing") || has(status.out, "stale")) << status.out;
  EXPECT_TRUE(has(status.out, "effort draft")) << status.out;
  // No bars and no escape codes where there is no terminal.
  EXPECT_FALSE(has(densified.error, "\r") || has(densified.error, "\x1b")) << densified.error;
}

TEST_F(Commands, PhotosAreSwitchedOffAndOn) {
  const auto off = icefield({"photos", survey(), "--off", "cairn_005.jpg"});
  ASSERT_EQ(off.status, 0) << off.error;
  EXPECT_TRUE(has(off.out, "switched off")) << off.out;
  const auto status = icefield_json({"status", survey()});
  EXPECT_EQ(status["photos"], 13);
  EXPECT_EQ(status["steps"][1]["state"], "stale");
  const auto match = icefield_json({"match", survey()});
  EXPECT_EQ(match["pairs"], 78);
  EXPECT_EQ(match["computed_pairs"], 0);  // all that is needed was there
  EXPECT_EQ(icefield({"photos", survey(), "--on", "cairn_005.jpg"}).status, 0);
  EXPECT_EQ(icefield_json({"status", survey()})["steps"][2]["state"], "fresh");
  const auto unknown = icefield({"photos", survey(), "--off", "crevasse.jpg"});
  EXPECT_EQ(unknown.status, 2);
  EXPECT_TRUE(has(unknown.error, "crevasse.jpg")) << unknown.error;
}

TEST_F(Commands, CamerasAreGivenAndForgotten) {
  icefield_json({"match", survey()});
  const auto given = icefield_json({"photos", survey(), "--camera", "1", "--model", "brown", "--focal-px", "345.5",
                                    "--uncertain", "2", "--parameter", "tangential_1=-0.001"});
  EXPECT_EQ(given["photos"][0]["model"], "brown");
  EXPECT_EQ(given["photos"][0]["focal_px"], 345.5);
  EXPECT_EQ(given["photos"][0]["focal_uncertainty_percent"], 2);
  EXPECT_EQ(icefield_json({"status", survey()})["steps"][0]["state"], "stale");
  const auto listed = icefield({"photos", survey()});
  EXPECT_TRUE(has(listed.out, "brown") && has(listed.out, "345.5") && has(listed.out, "given")) << listed.out;
  for (const std::vector<std::string>& wrong : {std::vector<std::string>{"--camera", "9", "--model", "brown"},
                                                {"--model", "brown"},
                                                {"--camera", "1", "--model", "flat"},
                                                {"--camera", "1", "--parameter", "radial_1"},
                                                {"--camera", "1", "--parameter", "angular_1=0.1"},
                                                {"--camera", "1", "--uncertain", "3"}}) {
    std::vector<std::string> words{"photos", survey()};
    words.insert(words.end(), wrong.begin(), wrong.end());
    EXPECT_EQ(icefield(words).status, 2) << wrong.back();
  }
  EXPECT_EQ(icefield_json({"photos", survey(), "--camera", "1"})["photos"][0]["model"], "radial");
  EXPECT_EQ(icefield_json({"status", survey()})["steps"][0]["state"], "fresh");
  EXPECT_EQ(read_file(fs::path(survey()) / "survey.toml").find("[cameras"), std::string::npos);
}

TEST_F(Commands, APairIsStudied) {
  icefield_json({"match", survey()});
  const fs::path points = test::scratch_folder() / "pair.ply";
  const auto study = icefield_json({"pair", survey(), "cairn_002.jpg", "cairn_001.jpg", "--points", points.string()});
  EXPECT_EQ(study["first"], "cairn_001.jpg");
  EXPECT_EQ(study["tried_by_match"], true);
  EXPECT_EQ(study["geometry"], "depth");
  EXPECT_TRUE(study["no_geometry_because"].is_null());
  ASSERT_EQ(study["poses"].size(), 4u);
  EXPECT_GT(study["poses"][0]["in_front_percent"], 97);
  EXPECT_LT(study["poses"][1]["in_front_percent"], 60);
  EXPECT_GT(study["verified"], 30);
  EXPECT_GT(study["points"]["median_angle_deg"], 0);
  EXPECT_EQ(read_ply(points).size(), study["points"]["count"]);
  EXPECT_EQ(read_ply(points).colours.size(), study["points"]["count"]);
  // The pose that two photos alone give is near the truth.
  const CameraFile truth = read_camera_file(test::rendered("cairn", test::small_cairn()) / "truth/cameras.json");
  const double turned =
      rotation_angle(truth.photos[0].pose.orientation, truth.photos[1].pose.orientation) * 180 / std::numbers::pi;
  EXPECT_NEAR(static_cast<double>(study["poses"][0]["turned_deg"]), turned, 1.0);

  const auto read = icefield({"pair", survey(), "cairn_001.jpg", "cairn_002.jpg"});
  EXPECT_TRUE(has(read.out, "depth: two places, a subject with depth") && has(read.out, "essential matrix") &&
              has(read.out, "rays meet at"))
      << read.out;
  // The two are far apart on the ring: most of what they have in common is the mountains.
  EXPECT_EQ(has(read.out, "tells little of depth"), study["points"]["median_angle_deg"] < 1) << read.out;
  EXPECT_EQ(last_line(read.out),
            "Next: icefield view " + survey() + " matches --photo cairn_001.jpg --with cairn_002.jpg");
  const auto same = icefield({"pair", survey(), "cairn_001.jpg", "cairn_001.jpg"}),
             unknown = icefield({"pair", survey(), "cairn_001.jpg", "crevasse.jpg"});
  EXPECT_EQ(same.status, 2);
  EXPECT_TRUE(has(same.error, "given twice")) << same.error;
  EXPECT_EQ(unknown.status, 2);
  EXPECT_TRUE(has(unknown.error, "crevasse.jpg")) << unknown.error;
}

TEST_F(Commands, PairsThatAreAskedFor) {
  const fs::path list = test::scratch_folder() / "asked.txt";
  write_file(list, "# across the ring\ncairn_001.jpg | cairn_009.jpg\ncairn_004.jpg | cairn_001.jpg\n");
  icefield_json({"match", survey()});  // so that nothing is left to compute
  const auto before = icefield_json({"match", survey()});
  const auto match = icefield_json({"match", survey(), "--pairs", list.string()});
  EXPECT_EQ(match["sources"]["listed"]["tried"], 2);
  EXPECT_EQ(match["sources"]["all"]["tried"], 91);
  EXPECT_EQ(match["pairs"], 91);
  EXPECT_EQ(match["computed_pairs"], 0);
  EXPECT_EQ(match["verified"], before["verified"]);
  // Kept, until the file is taken away; a list that names what is not there changes nothing.
  write_file(list, "cairn_001.jpg | crevasse.jpg\n");
  const auto wrong = icefield({"match", survey(), "--pairs", list.string()});
  EXPECT_EQ(wrong.status, 3);
  EXPECT_TRUE(has(wrong.error, "line 1") && has(wrong.error, "'crevasse.jpg'")) << wrong.error;
  EXPECT_EQ(icefield_json({"match", survey()})["sources"]["listed"]["tried"], 2);
  fs::remove(fs::path(survey()) / "pairs.txt");
  EXPECT_EQ(icefield_json({"match", survey()}), before);
}

TEST_F(Commands, ALargerSetIsNotTriedPairByPair) {
  icefield_json({"match", survey()});
  const auto all = icefield_json({"match", survey()});
  const auto chosen = icefield_json({"match", survey(), "--set", "pairs.all_up_to=5"});
  EXPECT_FALSE(chosen["sources"].contains("all"));
  EXPECT_GT(chosen["sources"]["alike"]["verified"], 10);
  EXPECT_GT(chosen["sources"]["next"]["verified"], 5);
  EXPECT_LT(chosen["pairs"], 91);
  EXPECT_GT(chosen["verified"], 0.85 * all["verified"].get<double>());
  EXPECT_EQ(chosen["computed_pairs"], 0);  // a pair's result does not hang on why it was tried
  EXPECT_EQ(icefield_json({"match", survey(), "--threads", "1"}), chosen);
  EXPECT_EQ(icefield_json({"match", survey(), "--set", "pairs.all_up_to=40"}), all);
}

TEST_F(Commands, FeaturesMatchesAndPairsAreDrawn) {
  const fs::path folder = test::scratch_folder() / "drawn";
  for (const std::vector<std::string>& words :
       std::vector<std::vector<std::string>>{{"features", "--photo", "cairn_003.jpg"},
                                             {"matches", "--photo", "cairn_003.jpg", "--with", "cairn_002.jpg"},
                                             {"matches"},
                                             {"pairs"}}) {
    const fs::path file = folder / (words[0] + std::to_string(words.size()) + ".png");
    std::vector<std::string> all = {"view", survey(), "--output", file.string()};
    all.insert(all.end(), words.begin(), words.end());
    const auto ran = icefield(all);
    ASSERT_EQ(ran.status, 0) << ran.error;
    EXPECT_EQ(read_photo(file).width(), 1280);
  }
  EXPECT_NE(test::content_of(folder / "matches5.png"), test::content_of(folder / "matches1.png"));
  EXPECT_EQ(icefield({"view", survey(), "features", "--photo", "crevasse.jpg"}).status, 2);
}

TEST_F(Commands, SettingsAreExplainedAndChecked) {
  const auto list = icefield_json({"settings", survey()});
  std::size_t changed = 0;
  for (const auto& s : list["settings"]) {
    EXPECT_GT(s["meaning"].get<std::string>().size(), 15u) << s;
    changed += s["value"] != s["default"];
  }
  EXPECT_EQ(list["effort"], "draft");
  EXPECT_EQ(changed, 2u);
  const auto misspelt = icefield({"settings", survey(), "--set", "dense.shrinc=2"});
  EXPECT_EQ(misspelt.status, 2);
  EXPECT_TRUE(has(misspelt.error, "dense.shrink")) << misspelt.error;
  EXPECT_EQ(icefield({"settings", survey(), "--set", "dense.shrink=many"}).status, 2);
  EXPECT_EQ(icefield({"settings", survey(), "--set", "dense.shrink=-1"}).status, 2);
  EXPECT_EQ(icefield({"settings", survey(), "--effort", "heroic"}).status, 2);
  EXPECT_EQ(icefield_json({"settings", survey()}), list);
}

TEST_F(Commands, BoundsAreKeptUntilTheyAreForgotten) {
  const std::string before = test::content_of(block_folder() / "dense.ply");
  const auto automatic = read_camera_file(block_folder() / "cameras.json").bounds;
  ASSERT_TRUE(automatic);
  const Eigen::Vector3d c = automatic->centre, size = automatic->half_size;  // half of it each way
  std::vector<std::string> words = {"densify", survey(), "--bounds"};
  for (const double v : {c.x(), c.y(), c.z(), size.x(), size.y(), size.z()}) words.push_back(std::to_string(v));
  words.push_back("30");
  EXPECT_EQ(icefield_json(words)["blocks"][0]["fresh"], false);
  Bounds box{c, 0.5 * size, Eigen::Quaterniond(Eigen::AngleAxisd(std::numbers::pi / 6, Eigen::Vector3d::UnitZ()))};
  const PointCloud inside = read_ply(block_folder() / "dense.ply");
  ASSERT_GT(inside.size(), 100u);
  box.half_size *= 1.0001;
  for (std::size_t i = 0; i < inside.size(); ++i)
    ASSERT_TRUE(box.contains(inside.position(i))) << inside.position(i).transpose();
  EXPECT_EQ(icefield_json({"run", survey()})["blocks"][0]["fresh"], true);
  EXPECT_EQ(icefield_json({"status", survey()})["steps"][2]["state"], "fresh");
  EXPECT_EQ(icefield({"densify", survey(), "--bounds", "0", "0", "0", "1", "0", "1"}).status, 2);
  const auto elsewhere = icefield({"densify", survey(), "--bounds", "500", "0", "0", "1", "1", "1"});
  EXPECT_EQ(elsewhere.status, 1);
  EXPECT_TRUE(has(elsewhere.error, "--automatic-bounds")) << elsewhere.error;
  const auto automatically = icefield({"densify", survey(), "--automatic-bounds"});
  EXPECT_EQ(automatically.status, 0) << automatically.error;
  EXPECT_FALSE(has(automatically.out, "turned by")) << automatically.out;
  EXPECT_FALSE(has(test::content_of(fs::path(survey()) / "survey.toml"), "bounds"));
  EXPECT_TRUE(test::content_of(block_folder() / "dense.ply") == before);
}

TEST_F(Commands, AnOutlineIsKeptUntilItIsForgotten) {
  const std::string before = test::content_of(block_folder() / "dense.ply");
  const auto automatic = read_camera_file(block_folder() / "cameras.json").bounds;
  ASSERT_TRUE(automatic);
  const Eigen::Vector3d c = automatic->centre, size = automatic->half_size;
  const std::vector<Eigen::Vector2d> corners = {{c.x() - 0.4 * size.x(), c.y() - 0.3 * size.y()},
                                                {c.x() + 0.5 * size.x(), c.y() - 0.3 * size.y()},
                                                {c.x(), c.y() + 0.4 * size.y()}};
  const fs::path file = test::scratch_folder() / "outline.txt";
  std::string text = "# the cairn's foot\n";
  for (const Eigen::Vector2d& corner : corners) text += fmt::format("{} {}\n", corner.x(), corner.y());
  write_file(file, text);
  const json report = icefield_json({"densify", survey(), "--outline", file.string()})["blocks"][0];
  EXPECT_EQ(report["fresh"], false);
  EXPECT_EQ(report["bounds"]["outline"].size(), 3u);
  const PointCloud inside = read_ply(block_folder() / "dense.ply");
  ASSERT_GT(inside.size(), 50u);
  for (std::size_t i = 0; i < inside.size(); ++i)
    ASSERT_TRUE(within_outline(inside.position(i).head<2>(), corners)) << inside.position(i).transpose();
  EXPECT_EQ(read_camera_file(block_folder() / "cameras.json").bounds->outline, corners);
  EXPECT_EQ(icefield_json({"run", survey()})["blocks"][0]["fresh"], true);
  EXPECT_EQ(icefield_json({"status", survey()})["steps"][2]["state"], "fresh");
  // With a box as well both hold; lower than the ground it leaves nothing.
  const auto below = icefield({"densify", survey(), "--outline", file.string(), "--bounds", fmt::format("{}", c.x()),
                               fmt::format("{}", c.y()), fmt::format("{}", c.z() - 50 * size.z()), "5", "5", "0.1"});
  EXPECT_EQ(below.status, 1);
  EXPECT_TRUE(has(below.error, "contain no tie point")) << below.error;
  EXPECT_EQ(icefield({"densify", survey(), "--outline", file.string(), "--automatic-bounds"}).status, 2)
      << "one or the other";
  // What encloses nothing is said, and nothing changes.
  const std::string kept = test::content_of(fs::path(survey()) / "survey.toml");
  write_file(file, "1 1\n2 2\n3 3\n");
  EXPECT_TRUE(has(icefield({"densify", survey(), "--outline", file.string()}).error, "encloses nothing"));
  write_file(file, "1 1\n2 x\n");
  EXPECT_TRUE(has(icefield({"densify", survey(), "--outline", file.string()}).error, "line 2"));
  EXPECT_EQ(test::content_of(fs::path(survey()) / "survey.toml"), kept);
  ASSERT_EQ(icefield({"densify", survey(), "--automatic-bounds"}).status, 0);
  EXPECT_TRUE(test::content_of(block_folder() / "dense.ply") == before);
}

TEST_F(Commands, ADryRunSaysWhatItTakesAndDoesNothing) {
  const std::string before = test::content_of(block_folder() / "dense.ply");
  const json draft = icefield_json({"densify", survey(), "--dry-run"});
  EXPECT_EQ(draft["blocks"][0]["maps"], 14);
  for (const char* what : {"pixels", "points", "seconds", "memory_bytes", "work_bytes", "result_bytes"})
    EXPECT_GT(draft["blocks"][0][what], 0) << what;
  const json fine = icefield_json({"densify", survey(), "--dry-run", "--set", "dense.shrink=1"});
  EXPECT_NEAR(fine["blocks"][0]["pixels"].get<double>() / draft["blocks"][0]["pixels"].get<double>(), 4, 0.1);
  EXPECT_NEAR(fine["blocks"][0]["work_bytes"].get<double>() / draft["blocks"][0]["work_bytes"].get<double>(), 4, 0.1);
  EXPECT_GT(fine["blocks"][0]["seconds"], draft["blocks"][0]["seconds"]) << "timed on this machine, each on its own";
  EXPECT_EQ(icefield({"settings", survey(), "--set", "dense.shrink=2"}).status, 0);
  EXPECT_TRUE(has(icefield({"densify", survey(), "--dry-run"}).out, "nothing is computed"));
  // The finest effort that ends in time.
  const json efforts = icefield_json({"densify", survey(), "--within", "100d"});
  ASSERT_EQ(efforts["efforts"].size(), 3u);
  EXPECT_EQ(efforts["proposed"], "fine");
  EXPECT_EQ(efforts["efforts"][0]["effort"], "draft");
  EXPECT_EQ(efforts["efforts"][2]["maps"], 14);
  EXPECT_EQ(efforts["efforts"][2]["pixels"], draft["blocks"][0]["pixels"]) << "dense.shrink is set by hand";
  EXPECT_TRUE(icefield_json({"densify", survey(), "--dry-run", "--within", "0.001s"})["proposed"].is_null());
  EXPECT_TRUE(has(icefield({"densify", survey(), "--within", "0.001s"}).out, "No effort ends within"));
  EXPECT_TRUE(has(icefield({"densify", survey(), "--within", "100d"}).out, "--effort fine`, about"));
  const auto no_time = icefield({"densify", survey(), "--within", "soon"});
  EXPECT_EQ(no_time.status, 2);
  EXPECT_TRUE(has(no_time.error, "time 'soon': is no time; write it as 2h, 45m or 1h30m")) << no_time.error;
  EXPECT_EQ(test::content_of(block_folder() / "dense.ply"), before);
  EXPECT_EQ(icefield_json({"densify", survey()})["blocks"][0]["fresh"], true);
}

TEST_F(Commands, DensifySaysWhatWasSetAsideAndWhereItIsThin) {
  const json report = icefield_json({"densify", survey()})["blocks"][0];
  EXPECT_EQ(report["photos"].size(), 14u);
  ASSERT_EQ(report["coverage"].size(), 14u);
  for (const json& photo : report["coverage"]) {
    ASSERT_EQ(photo["parts_by_photos"].size(), 5u);
    EXPECT_GT(photo["parts_by_photos"][2].get<int>() + photo["parts_by_photos"][3].get<int>() +
                  photo["parts_by_photos"][4].get<int>(),
              20)
        << photo;
    const bool thin = photo["parts_by_photos"][0].get<int>() + photo["parts_by_photos"][1].get<int>() > 0;
    EXPECT_EQ(photo["thin_reason"].get<std::string>().empty(), !thin) << photo;
  }
  EXPECT_TRUE(has(icefield({"densify", survey()}).out, "four others or more"));
  std::size_t aside = 0;
  for (const auto& [reason, count] : report["set_aside"].items()) aside += count.get<std::size_t>();
  if (aside > 0) {
    const PointCloud out = read_ply(report["set_aside_file"].get<std::string>());
    EXPECT_EQ(out.size(), aside);
    EXPECT_EQ(out.faults.size(), aside);
  }
  // Without cleaning all is in one file again; with it the same bytes come back.
  const std::string before = test::content_of(block_folder() / "dense.ply");
  const json raw = icefield_json({"densify", survey(), "--set", "clean.on=false"})["blocks"][0];
  EXPECT_EQ(raw["points"], report["points"].get<std::size_t>() + aside);
  EXPECT_FALSE(fs::exists(block_folder() / "set_aside.ply"));
  EXPECT_EQ(icefield({"densify", survey(), "--set", "clean.on=true"}).status, 0);
  EXPECT_TRUE(test::content_of(block_folder() / "dense.ply") == before);
  // Only the maps that the cloud is made of are kept on disk.
  EXPECT_EQ(std::distance(fs::directory_iterator(fs::path(survey()) / "work/depth"), {}), 14);
}

TEST_F(Commands, CloudsAreWorkedOn) {
  const std::string cloud = (block_folder() / "dense.ply").string();
  const fs::path folder = test::scratch_folder() / "clouds";
  fs::create_directories(folder);
  const auto file = [&](const char* name) { return (folder / name).string(); };
  const PointCloud whole = read_ply(cloud);
  Eigen::Vector3d middle = Eigen::Vector3d::Zero();
  for (std::size_t i = 0; i < whole.size(); ++i) middle += whole.position(i) / static_cast<double>(whole.size());
  std::vector<std::string> crop = {"cloud", cloud, "--output", file("crop.ply"), "--box"};
  for (const double v : {middle.x(), middle.y(), middle.z(), 0.5, 0.5, 5.0}) crop.push_back(std::to_string(v));
  const auto cropped = icefield(crop);
  ASSERT_EQ(cropped.status, 0) << cropped.error;
  EXPECT_TRUE(has(cropped.out, "Points lie")) << cropped.out;
  const std::size_t inside = read_ply(file("crop.ply")).size();
  ASSERT_GT(inside, 100u);
  ASSERT_LT(inside, whole.size());
  crop.push_back("--outside");
  crop[3] = file("rest.ply");
  ASSERT_EQ(icefield(crop).status, 0);
  // Merged, the two halves are the whole; split in tiles and merged, too.
  const auto merged = icefield({"cloud", file("crop.ply"), file("rest.ply"), "--output", file("all.ply")});
  ASSERT_EQ(merged.status, 0) << merged.error;
  EXPECT_EQ(read_ply(file("all.ply")).size(), whole.size());
  const json tiles = icefield_json({"cloud", cloud, "--output", file("tile.ply"), "--tiles", "0.8"});
  std::size_t sum = 0;
  for (const json& name : tiles["written"]) sum += read_ply(name.get<std::string>()).size();
  EXPECT_GT(tiles["written"].size(), 2u);
  EXPECT_EQ(sum, whole.size());
  // A polygon, thinning and normals.
  std::ofstream(file("outline.txt")) << "# a triangle\n"
                                     << middle.x() - 0.5 << " " << middle.y() - 0.5 << "\n\n"
                                     << middle.x() + 0.5 << " " << middle.y() - 0.5 << "\n"
                                     << middle.x() << " " << middle.y() + 0.5 << "\n";
  const json cut = icefield_json(
      {"cloud", cloud, "--output", file("cut.xyz"), "--outline", file("outline.txt"), "--thin", "0.02", "--normals"});
  EXPECT_LT(cut["thin"], cut["outline"]);
  EXPECT_GT(cut["spacing"], 0.005);
  // Points strewn about are cleaned away, kept apart, and brought back.
  PointCloud strewn = whole;
  for (int i = 0; i < 60; ++i) {
    strewn.append(whole, 0);
    strewn.positions.back() =
        middle.cast<float>() + Eigen::Vector3f(0.05f * static_cast<float>(i % 8), 0.06f * static_cast<float>(i / 8),
                                               2 + 0.04f * static_cast<float>(i % 5));
  }
  write_ply(file("strewn.ply"), strewn);
  const json cleaned = icefield_json(
      {"cloud", file("strewn.ply"), "--output", file("clean.ply"), "--clean", "--aside", file("aside.ply")});
  const std::size_t kept = cleaned["clean"], out = read_ply(file("aside.ply")).size();
  EXPECT_EQ(kept + out, strewn.size());
  EXPECT_GE(out, 60u);
  EXPECT_LT(out, 60 + whole.size() / 50);
  EXPECT_EQ(icefield_json({"cloud", file("clean.ply"), file("aside.ply"), "--output", file("back.ply")})["read"],
            strewn.size());
  // What is wrong is said.
  EXPECT_EQ(icefield({"cloud", cloud, "--output", file("no.ply"), "--box", "900", "0", "0", "1", "1", "1"}).status, 1);
  EXPECT_FALSE(fs::exists(file("no.ply")));
  std::ofstream(file("bad.txt")) << "0 0\n1 x\n";
  const auto bad = icefield({"cloud", cloud, "--output", file("no.ply"), "--outline", file("bad.txt")});
  EXPECT_EQ(bad.status, 3);
  EXPECT_TRUE(has(bad.error, "line 2")) << bad.error;
  EXPECT_EQ(icefield({"cloud", cloud, "--output", file("no.ply"), "--aside", file("a.ply")}).status, 2);
  EXPECT_EQ(icefield({"cloud", file("missing.ply"), "--output", file("no.ply")}).status, 3);
  EXPECT_EQ(icefield({"cloud", cloud, "--output", file("no.stl")}).status, 2);
}

TEST_F(Commands, DepthMapsAreExportedAndDrawn) {
  const fs::path folder = test::scratch_folder() / "maps";
  for (const char* format : {"tif", "exr"}) {
    ASSERT_EQ(icefield({"export", survey(), "--depth-maps", folder.string(), "--depth-format", format}).status, 0);
    const CameraFile cameras = read_camera_file(folder / "cameras.json");
    ASSERT_EQ(cameras.photos.size(), 14u);
    // A pixel's depth, taken into the world by the camera beside it, is a point of the cloud of that map.
    const ImageF depth = read_float_image(folder / cameras.photos[3].name);
    const Camera& camera = cameras.cameras[cameras.photos[3].camera];
    ASSERT_EQ(depth.width(), camera.width);
    const std::string points = (folder / "points.ply").string(),
                      name = cameras.photos[3].name.substr(0, cameras.photos[3].name.rfind('_')) + ".jpg";
    ASSERT_EQ(icefield({"export", survey(), "--depth-points", points, "--photo", name}).status, 0);
    const PointCloud cloud = read_ply(points);
    std::size_t at = 0;
    for (int y = 0; y < depth.height(); ++y)
      for (int x = 0; x < depth.width(); ++x) {
        if (!(depth.at(x, y) > 0)) continue;
        ASSERT_LT(at, cloud.size());
        const Eigen::Vector3d p =
            cameras.photos[3].pose.to_world(depth.at(x, y) * unproject(camera, {x + 0.5, y + 0.5})->homogeneous());
        ASSERT_LT((p - cloud.position(at++)).norm(), 1e-4);
      }
    EXPECT_EQ(at, cloud.size());
    ASSERT_GT(at, 1000u);
    ASSERT_EQ(cloud.colours.size(), cloud.size());
  }
  std::set<std::string> pictures;
  for (const char* by : {"depth", "normal", "confidence", "views"}) {
    const std::string file = (folder / (std::string(by) + ".png")).string();
    const auto drawn = icefield({"view", survey(), "depth", "--by", by, "--output", file});
    ASSERT_EQ(drawn.status, 0) << drawn.error;
    pictures.insert(test::content_of(file));
  }
  for (const char* by : {"colour", "height", "normal", "views", "error"}) {
    const std::string file = (folder / (std::string(by) + "_cloud.png")).string();
    const auto drawn = icefield({"view", survey(), "cloud", "--by", by, "--from", "above", "--output", file});
    ASSERT_EQ(drawn.status, 0) << drawn.error;
    pictures.insert(test::content_of(file));
  }
  const std::string apart = (folder / "apart.png").string();
  ASSERT_EQ(icefield({"view", survey(), "cloud", "--by", "distance", "--with",
                      (block_folder() / "tie_points.ply").string(), "--output", apart})
                .status,
            0);
  pictures.insert(test::content_of(apart));
  EXPECT_EQ(icefield({"view", survey(), "cloud", "--by", "distance"}).status, 2);
  EXPECT_EQ(pictures.size(), 10u);
  // Two clouds side by side.
  const std::string both = (folder / "both.png").string();
  ASSERT_EQ(icefield({"view", survey(), "clouds", "--with", (block_folder() / "tie_points.ply").string(), "--from",
                      "above", "--output", both})
                .status,
            0);
  EXPECT_TRUE(pictures.insert(test::content_of(both)).second);
  const auto alone = icefield({"view", survey(), "clouds"});
  EXPECT_EQ(alone.status, 2);
  EXPECT_NE(alone.error.find("--with"), std::string::npos) << alone.error;
  EXPECT_EQ(icefield({"view", survey(), "cloud", "--by", "residual"}).status, 2);
  EXPECT_EQ(icefield({"view", survey(), "depth", "--by", "height"}).status, 2);
  EXPECT_EQ(icefield({"view", survey(), "block", "--by", "height"}).status, 2);
  EXPECT_EQ(
      icefield({"view", survey(), "cloud", "--file", (block_folder() / "tie_points.ply").string(), "--by", "error"})
          .status,
      2);
}

TEST_F(Commands, ADamagedDepthMapIsComputedAgain) {
  const std::string before = test::content_of(block_folder() / "dense.ply");
  int n = 0;
  for (const auto& entry : fs::directory_iterator(fs::path(survey()) / "work/depth")) {
    std::string content = test::content_of(entry.path());
    if (++n % 3 == 0) {
      content[content.size() / 2] = static_cast<char>(content[content.size() / 2] ^ 1);  // one bit
      std::ofstream(entry.path(), std::ios::binary) << content;
    } else if (n % 3 == 1) {
      std::ofstream(entry.path(), std::ios::binary) << content.substr(0, content.size() / 2);
    }
  }
  ASSERT_GE(n, 14);
  fs::remove(block_folder() / "dense.ply");
  const auto again = icefield({"densify", survey()});
  ASSERT_EQ(again.status, 0) << again.error;
  EXPECT_TRUE(has(again.error, "is damaged; it is computed again")) << again.error;
  EXPECT_TRUE(test::content_of(block_folder() / "dense.ply") == before);
}

TEST_F(Commands, PicturesShowTheBlock) {
  const fs::path picture = test::scratch_folder() / "p.png";
  // The same view twice gives the same picture; another side another one.
  ASSERT_EQ(icefield({"view", survey(), "cloud", "--output", picture.string()}).status, 0);
  const ImageU8 front = read_photo(picture);
  ASSERT_EQ(icefield({"view", survey(), "cloud", "--output", picture.string(), "--azimuth", "120"}).status, 0);
  const ImageU8 side = read_photo(picture);
  EXPECT_EQ(front.height(), 800);
  EXPECT_NE(front.values(), side.values());
  // The cloud fills a good part of it, and what is far from it is background.
  const auto colour = [&](int x, int y) {
    return front.at(x, y, 0) << 16 | front.at(x, y, 1) << 8 | front.at(x, y, 2);
  };
  int drawn = 0, corner = 0;
  for (int y = 0; y < 750; ++y)
    for (int x = 0; x < 1280; ++x) {
      drawn += colour(x, y) != colour(2, 2);
      corner += x < 100 && y < 100 && colour(x, y) != colour(2, 2);
    }
  EXPECT_GT(drawn, 750 * 1280 / 20);
  EXPECT_EQ(corner, 0);
  const auto depth = icefield({"view", survey(), "depth", "--photo", "cairn_007.jpg", "--output", picture.string()});
  EXPECT_EQ(depth.status, 0) << depth.error;
  EXPECT_EQ(icefield({"view", survey(), "depth", "--photo", "none.jpg"}).status, 2);
  EXPECT_EQ(icefield({"view", survey(), "cloud", "--block", "2"}).status, 2);
  EXPECT_EQ(icefield({"view", survey(), "weather"}).status, 2);
}

TEST_F(Commands, ABlockIsAdjustedAgainAndBroughtBack) {
  const CameraFile before = read_camera_file(block_folder() / "cameras.json");
  const std::string points = test::content_of(block_folder() / "tie_points.ply");
  const auto base = icefield_json({"pose", survey()});
  // Other freedoms.
  const auto held = icefield_json({"adjust", survey(), "--free", "focal"});
  for (const auto& parameter : held["blocks"][0]["by_camera"])
    EXPECT_EQ(parameter.contains("standard_deviation"), parameter["parameter"] == "focal") << parameter;
  // Later steps see the new block; a later run of `pose` does not take it away.
  EXPECT_EQ(icefield_json({"pose", survey()})["blocks"][0]["rms_px"], held["rms_after_px"]);
  EXPECT_EQ(icefield_json({"status", survey()})["steps"].back()["state"], "stale");
  // Weak tie points, on top of that.
  const auto printed =
      icefield({"adjust", survey(), "--remove-weak", "--level", "2.5", "--passes", "3", "--share", "4"});
  ASSERT_EQ(printed.status, 0) << printed.error;
  for (const char* words : {"pass", "by residual", "largest residual", "Cameras:", "standard deviation", "Worst photos",
                            "--undo brings the block before back"})
    EXPECT_TRUE(has(printed.out, words)) << words << "\n" << printed.out;
  const auto thinner = icefield_json({"pose", survey()});
  EXPECT_LT(thinner["blocks"][0]["observations"], base["blocks"][0]["observations"]);
  EXPECT_NE(test::content_of(block_folder() / "tie_points.ply"), points);
  // Back, one adjustment at a time, to the same bytes.
  ASSERT_EQ(icefield({"adjust", survey(), "--undo"}).status, 0);
  EXPECT_EQ(icefield_json({"pose", survey()})["blocks"][0]["rms_px"], held["rms_after_px"]);
  ASSERT_EQ(icefield({"adjust", survey(), "--undo"}).status, 0);
  const CameraFile after = read_camera_file(block_folder() / "cameras.json");
  EXPECT_EQ(after.cameras, before.cameras);
  ASSERT_EQ(after.photos.size(), before.photos.size());
  for (std::size_t i = 0; i < after.photos.size(); ++i)
    EXPECT_EQ(after.photos[i].pose.centre, before.photos[i].pose.centre);
  EXPECT_EQ(test::content_of(block_folder() / "tie_points.ply"), points);
  const auto none = icefield({"adjust", survey(), "--undo"});
  EXPECT_EQ(none.status, 2);
  EXPECT_TRUE(has(none.error, "has no adjustment to undo")) << none.error;
  // Wrong names.
  const auto unknown = icefield({"adjust", survey(), "--fix", "zoom"});
  EXPECT_EQ(unknown.status, 2);
  EXPECT_TRUE(has(unknown.error, "'zoom': does not exist; the first camera has focal, centre_x")) << unknown.error;
  EXPECT_EQ(icefield({"adjust", survey(), "--block", "2"}).status, 2);
  EXPECT_EQ(icefield({"join", survey(), "1", "2"}).status, 2);
  EXPECT_EQ(icefield({"join", survey(), "1", "1"}).status, 2);
  icefield_json({"densify", survey()});
}

TEST_F(Commands, ABlockIsLookedAtFromAllSides) {
  const fs::path picture = test::scratch_folder() / "b.png";
  std::map<std::uint64_t, std::string> different;
  const auto drawn = [&](std::vector<std::string> words) {
    std::string name;
    for (const std::string& word : words) name += word + " ";
    words.insert(words.begin(), {"view", survey()});
    words.insert(words.end(), {"--output", picture.string()});
    const auto ran = icefield(words);
    EXPECT_EQ(ran.status, 0) << ran.error;
    const ImageU8 image = read_photo(picture);
    EXPECT_EQ(image.width(), 1280);
    std::uint64_t sum = 0;
    for (std::size_t i = 0; i < image.values().size(); ++i) sum = sum * 31 + image.values()[i];
    const auto [same, is_new] = different.emplace(sum, name);
    EXPECT_TRUE(is_new) << name << "draws what " << same->second << "draws";
  };
  for (const char* from : {"perspective", "above", "front", "side"}) drawn({"block", "--from", from});
  for (const char* by : {"views", "residual", "uncertainty"}) drawn({"block", "--by", by});
  drawn({"block", "--no-names"});
  drawn({"residuals", "--photo", "cairn_004.jpg"});
  drawn({"residuals", "--photo", "cairn_004.jpg", "--enlarged", "33"});
  drawn({"lens"});
  drawn({"through", "--photo", "cairn_004.jpg"});
  drawn({"through", "--photo", "cairn_004.jpg", "--cloud"});
  EXPECT_EQ(different.size(), 13u);
  EXPECT_EQ(icefield({"view", survey(), "lens", "--camera", "2"}).status, 2);
  // What others see of each photo: all, and one alone.
  const fs::path sheet = test::scratch_folder() / "coverage.png", alone = test::scratch_folder() / "one.png";
  ASSERT_EQ(icefield({"view", survey(), "coverage", "--output", sheet.string()}).status, 0);
  ASSERT_EQ(icefield({"view", survey(), "coverage", "--photo", "cairn_007.jpg", "--output", alone.string()}).status, 0);
  EXPECT_FALSE(test::content_of(sheet) == test::content_of(alone));
  EXPECT_EQ(icefield({"view", survey(), "coverage", "--photo", "none.jpg"}).status, 2);
  EXPECT_EQ(icefield({"view", survey(), "residuals", "--photo", "none.jpg"}).status, 2);
}

TEST_F(Commands, CompareCountsWhatIsRight) {
  const fs::path truth = test::rendered("cairn", test::small_cairn()) / "truth/cameras.json";
  const auto compared = icefield_json({"compare", survey(), "--cameras", truth.string()});
  EXPECT_EQ(compared["cameras"]["truth_photos"], 14);
  EXPECT_EQ(compared["cameras"]["posed"], 14);
  const auto& o = compared["observations"];
  EXPECT_GT(o["right_kept_percent"], 80);
  EXPECT_LT(o["wrong_kept"].get<double>(), 0.02 * o["right_kept"].get<double>());
  EXPECT_LT(o["wrong_tracks"].get<double>(), 0.1 * o["tracks"].get<double>());
  const auto text = icefield({"compare", survey(), "--cameras", truth.string()});
  EXPECT_TRUE(has(text.out, "percent of the right ones kept")) << text.out;
  const auto none = icefield({"compare", survey(), "--cameras", (fs::path(survey()) / "survey.toml").string()});
  EXPECT_EQ(none.status, 3);
  EXPECT_TRUE(has(none.error, "survey.toml")) << none.error;
}

TEST_F(Commands, AReadOnlySurveyIsLookedAtAndNotWorkedOn) {
  if (::getuid() != 0) GTEST_SKIP() << "needs to become another user";
  fs::permissions(test::scratch_folder(), fs::perms::others_read | fs::perms::others_exec, fs::perm_options::add);
  const auto as_another = [](std::vector<std::string> words) {
    const std::vector<std::string> before = {"/usr/bin/setpriv", "--reuid=65534", "--regid=65534", "--clear-groups",
                                             ICEFIELD_TOOL};
    words.insert(words.begin(), before.begin(), before.end());
    return test::run(words);
  };
  const auto looked = as_another({"status", survey()});
  if (looked.status == 127 || looked.status == 126) GTEST_SKIP() << looked.error;
  EXPECT_EQ(looked.status, 0) << looked.error;
  EXPECT_FALSE(has(looked.out, "stale")) << looked.out;
  EXPECT_EQ(as_another({"export", survey(), "--cloud", "/dev/null", "--ascii"}).status, 0);
  EXPECT_EQ(as_another({"densify", survey()}).status, 0) << "all is there";
  for (const std::vector<std::string>& words : std::vector<std::vector<std::string>>{
           {"adjust", survey(), "--fix", "focal"}, {"match", survey(), "--set", "match.max_ratio=0.7"}}) {
    const auto ran = as_another(words);
    EXPECT_EQ(ran.status, 1) << ran.error;
    EXPECT_TRUE(has(ran.error, "cannot be") && has(ran.error, "check permissions") && has(ran.error, survey()))
        << ran.error;
  }
}

}  // namespace
}  // namespace icefield
