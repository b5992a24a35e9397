// Input that cannot be worked with: the file, the fault and the remedy are named, the rest goes on.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <fstream>
#include <nlohmann/json.hpp>

#include "icefield/io/photo_file.h"
#include "icefield/io/text_file.h"
#include "icefield/survey/survey.h"
#include "tests/tools/scenes.h"
#include "tests/tools/tool.h"

namespace icefield {
namespace {
namespace fs = std::filesystem;
using test::icefield;

fs::path fresh_folder(const std::string& name) {
  const fs::path folder = test::scratch_folder() / name;
  fs::remove_all(folder);
  fs::create_directories(folder / "photos");
  return folder;
}

fs::path cairn_photo(int i) {
  return test::rendered("cairn", test::small_cairn()) / "photos" /
         ("cairn_0" + std::string(i < 10 ? "0" : "") + std::to_string(i) + ".jpg");
}

void expect_error(const test::Ran& ran, int status, const std::string& words) {
  EXPECT_EQ(ran.status, status) << ran.error;
  EXPECT_NE(ran.error.find(words), std::string::npos) << ran.error;
  EXPECT_NE(ran.error.find(';'), std::string::npos) << "no remedy: " << ran.error;
}

TEST(BadInput, EmptyFolder) {
  const fs::path folder = fresh_folder("empty");
  expect_error(icefield({"begin", (folder / "s").string(), (folder / "photos").string()}), 3, "has no photos");
  expect_error(icefield({"begin", (folder / "s2").string(), (folder / "none").string()}), 3, "does not exist");
  expect_error(icefield({"pose", (folder / "photos").string()}), 3, "is no survey");
}

TEST(BadInput, OnePhotoAndItsCopies) {
  const fs::path folder = fresh_folder("one");
  fs::copy(cairn_photo(3), folder / "photos" / "a.jpg");
  expect_error(icefield({"begin", (folder / "s").string(), (folder / "photos").string()}), 3, "1 usable photo");
  fs::copy(cairn_photo(3), folder / "photos" / "b.jpg");
  fs::copy(cairn_photo(3), folder / "photos" / "c.jpg");
  expect_error(icefield({"begin", (folder / "s").string(), (folder / "photos").string()}), 3,
               "is the same file as a.jpg");
}

TEST(BadInput, TwoPhotosWithoutOverlap) {
  const fs::path folder = fresh_folder("apart");
  fs::copy(cairn_photo(3), folder / "photos" / "a.jpg");
  fs::copy(test::rendered("flight", test::small_flight()) / "photos" / "flight_002.jpg", folder / "photos" / "b.jpg");
  ASSERT_EQ(icefield({"begin", (folder / "s").string(), (folder / "photos").string()}).status, 0);
  expect_error(icefield({"pose", (folder / "s").string()}), 1, "no pair of photos shares a view");
}

TEST(BadInput, PlainWall) {
  const fs::path folder = fresh_folder("wall");
  for (int i = 0; i < 3; ++i)
    write_photo(folder / "photos" / ("wall" + std::to_string(i) + ".png"),
                ImageU8(300, 200, 3, static_cast<std::uint8_t>(120 + i)));
  ASSERT_EQ(icefield({"begin", (folder / "s").string(), (folder / "photos").string()}).status, 0);
  expect_error(icefield({"pose", (folder / "s").string()}), 1, "plain");
}

TEST(BadInput, PanoramaFromATripod) {
  const fs::path folder = fresh_folder("turned");
  simulate::PlanOptions plan = test::small_cairn();
  const simulate::Scene scene(plan.scene);
  const auto planned = simulate::plan_photos(plan);
  for (int i = 0; i < 4; ++i) {
    simulate::Shot shot = planned[2].shot;
    shot.pose.orientation = (rotation_from_vector({0, 0.12 * i, 0}) * shot.pose.orientation).normalized();
    simulate::RenderOptions options;
    options.samples = 4;
    options.seed = static_cast<std::uint64_t>(i);
    write_photo(folder / "photos" / ("turn" + std::to_string(i) + ".jpg"),
                simulate::render(scene, shot, options, Executor()), planned[2].metadata, 95);
  }
  ASSERT_EQ(icefield({"begin", (folder / "s").string(), (folder / "photos").string()}).status, 0);
  expect_error(icefield({"pose", (folder / "s").string()}), 1,
               "pairs show no depth: the photos were turned about one spot, or nothing but a far background");
}

TEST(BadInput, DamagedPhotosAmongGoodOnesAreLeftOut) {
  const fs::path folder = fresh_folder("mixed");
  for (int i = 6; i <= 10; ++i) fs::copy(cairn_photo(i), folder / "photos" / cairn_photo(i).filename());
  const std::string good = test::content_of(cairn_photo(5));
  std::ofstream(folder / "photos" / "cut.jpg", std::ios::binary) << good.substr(0, good.size() / 3);
  std::ofstream(folder / "photos" / "text.jpg") << "stones, 12 of them";
  std::ofstream(folder / "photos" / "zero.jpg");
  std::string huge = good;
  const std::size_t frame = huge.find("\xff\xc0");
  ASSERT_NE(frame, std::string::npos);
  for (const std::size_t at : {frame + 5, frame + 7})
    huge[at] = static_cast<char>(30000 >> 8), huge[at + 1] = static_cast<char>(30000 & 255);
  std::ofstream(folder / "photos" / "huge.jpg", std::ios::binary) << huge.substr(0, huge.find("\xff\xda") + 14);
  const auto begun = icefield({"begin", (folder / "s").string(), (folder / "photos").string()});
  EXPECT_EQ(begun.status, 0) << begun.error;
  for (const char* name : {"cut.jpg", "text.jpg", "zero.jpg", "huge.jpg"})
    EXPECT_NE(begun.error.find(name), std::string::npos) << name << "\n" << begun.error;
  const auto posed = icefield({"pose", (folder / "s").string(), "--json"});
  EXPECT_EQ(posed.status, 0) << posed.error;
  EXPECT_EQ(nlohmann::json::parse(posed.out)["photos"], 5);
}

TEST(BadInput, AFullDiskLosesNothing) {
  const fs::path folder = fresh_folder("full");
  for (int i = 6; i <= 9; ++i) fs::copy(cairn_photo(i), folder / "photos" / cairn_photo(i).filename());
  const std::string survey = (folder / "s").string();
  ASSERT_EQ(icefield({"begin", survey, (folder / "photos").string()}).status, 0);
  // No file may grow beyond 600 kB: some features fit, all do not.
  const auto limited = test::run({"/bin/bash", "-c", "ulimit -f 600; exec '" ICEFIELD_TOOL "' match '" + survey + "'"});
  expect_error(limited, 1, "cannot be written");
  const auto after = icefield({"match", survey, "--json"});
  EXPECT_EQ(after.status, 0) << after.error;
  EXPECT_LT(nlohmann::json::parse(after.out)["computed_photos"], 4);
  ASSERT_EQ(icefield({"pose", survey}).status, 0);
  expect_error(icefield({"export", survey, "--tie-points", "/dev/full"}), 1, "cannot be written");
}

TEST(BadInput, TwoPhotosMakeACloudOrSayWhyNot) {
  const fs::path folder = fresh_folder("two");
  const fs::path demo = fs::path(ICEFIELD_DEMO) / "cairn/photos";
  for (const char* name : {"cairn_001.jpg", "cairn_011.jpg"}) fs::copy(demo / name, folder / "photos" / name);
  const std::string survey = (folder / "s").string();
  ASSERT_EQ(icefield({"begin", survey, (folder / "photos").string()}).status, 0);
  ASSERT_EQ(icefield({"pose", survey}).status, 0);
  const auto dense = icefield({"densify", survey, "--json"});
  ASSERT_EQ(dense.status, 0) << dense.error;
  const auto block = nlohmann::json::parse(dense.out)["blocks"][0];
  EXPECT_EQ(block["maps"], 2);
  EXPECT_GT(block["points"], 10000) << "what two agree on closely";
  // Where three must agree there is none, and that is said.
  const auto none = icefield({"densify", survey, "--set", "fuse.keep_thin=false"});
  EXPECT_EQ(none.status, 0) << none.error;
  EXPECT_NE((none.out + none.error).find("fuse.min_views"), std::string::npos) << none.out << none.error;
}

TEST(BadInput, ADiskThatFillsUpUnderACloudLeavesTheOneBefore) {
  const fs::path folder = fresh_folder("full_cloud");
  for (int i = 6; i <= 9; ++i) fs::copy(cairn_photo(i), folder / "photos" / cairn_photo(i).filename());
  const std::string survey = (folder / "s").string();
  ASSERT_EQ(icefield({"begin", survey, (folder / "photos").string()}).status, 0);
  ASSERT_EQ(icefield({"densify", survey, "--set", "dense.shrink=1"}).status, 0);
  const std::string before = test::content_of(folder / "s/results/block-1/dense.ply");
  ASSERT_GT(before.size(), 150'000u);
  // Depth maps are at hand; only the cloud is made again, and its file may not grow to its size. The photos' maps fit.
  ASSERT_EQ(icefield({"settings", survey, "--set", "clean.min_island_points=10"}).status, 0);
  const auto limited =
      test::run({"/bin/bash", "-c", "trap '' XFSZ; ulimit -f 100; exec '" ICEFIELD_TOOL "' densify '" + survey + "'"});
  expect_error(limited, 1, "cannot be written");
  EXPECT_TRUE(test::content_of(folder / "s/results/block-1/dense.ply") == before);
  const auto after = icefield({"densify", survey});
  EXPECT_EQ(after.status, 0) << after.error;
}

TEST(BadInput, PhotosThatAreGoneOrChangedAreNamed) {
  const fs::path made = test::rendered("cairn", test::small_cairn()), all = test::scratch_folder() / "gone";
  fs::create_directories(all);
  fs::copy(made / "photos", all / "photos");
  const std::string survey = (all / "s").string();
  ASSERT_EQ(icefield({"begin", survey, (all / "photos").string(), "--effort", "draft"}).status, 0);
  const auto first = icefield({"match", survey});
  ASSERT_EQ(first.status, 0) << first.error;
  EXPECT_EQ(first.error.find("gone"), std::string::npos) << first.error;
  fs::rename(all / "photos/cairn_003.jpg", all / "cairn_003.jpg");
  fs::copy(all / "photos/cairn_004.jpg", all / "cairn_004.jpg");
  std::ofstream(all / "photos/cairn_004.jpg", std::ios::binary | std::ios::app) << "more";
  const auto again = icefield({"match", survey});
  ASSERT_EQ(again.status, 0) << again.error;
  EXPECT_NE(again.error.find("cairn_003.jpg: was matched and is gone"), std::string::npos) << again.error;
  EXPECT_NE(again.error.find("cairn_004.jpg: has changed"), std::string::npos) << again.error;
  EXPECT_EQ(icefield({"match", survey}).error.find("gone"), std::string::npos) << "said once";
}

TEST(BadInput, AnAmountOfMemoryThatIsNone) {
  const fs::path folder = fresh_folder("memory");
  for (const int i : {6, 7, 8, 9}) fs::copy(cairn_photo(i), folder / "photos" / cairn_photo(i).filename());
  const std::string survey = (folder / "s").string();
  ASSERT_EQ(icefield({"begin", survey, (folder / "photos").string()}).status, 0);
  expect_error(icefield({"match", survey, "--memory", "much"}), 2, "is no amount of memory");
  expect_error(icefield({"match", survey, "--memory", "3"}), 2, "has no unit");
  EXPECT_EQ(icefield({"match", survey, "--memory", "64M"}).status, 0);
}

TEST(BadInput, AWrongCommandLineIsSaidInPlainWords) {
  const auto says = [](const std::vector<std::string>& arguments, const std::string& words) {
    const test::Ran run = icefield(arguments);
    EXPECT_EQ(run.status, 2) << words;
    EXPECT_NE(run.error.find(words), std::string::npos) << run.error;
  };
  says({"nosuch"}, "nosuch is no command");
  says({"--nosuch"}, "--nosuch is no option before a command");
  says({"--quiet", "nosuch"}, "--quiet is no option before a command");
  says({}, "A subcommand is required");
  says({"pose"}, "survey is required");
  says({"pose", "x", "--nosuch"}, "--nosuch");
  says({"pose", "x", "--threads", "5000"}, "--threads: 5000 is not from 0 to 1024");
  says({"adjust", "x", "--level", "0"}, "--level: 0 is not from 1 to 100");
  says({"adjust", "x", "--level", "nan"}, "--level: nan is not from 1 to 100");
  says({"adjust", "x", "--passes", "few"}, "--passes: few is no number");
  says({"join", "x", "0", "1"}, "first: 0 is not above 0");
  says({"run", "x", "--to", "y"}, "--to: y is none of match, pose, georeference, densify");
  says({"densify", "x", "--bounds", "1", "2"}, "--bounds");
  EXPECT_EQ(icefield({"adjust", "--help"}).status, 0);
}

TEST(BadInput, AReadOnlyFolder) {
  expect_error(icefield({"begin", "/proc/survey", cairn_photo(1).parent_path().string()}), 1, "cannot be made");
  const fs::path folder = fresh_folder("blocked");
  fs::copy(cairn_photo(6), folder / "photos" / "a.jpg");
  fs::copy(cairn_photo(7), folder / "photos" / "b.jpg");
  std::ofstream(folder / "file") << "in the way";
  expect_error(icefield({"begin", (folder / "file").string(), (folder / "photos").string()}), 1, "cannot be made");
}

TEST(BadInput, ADamagedStoreIsComputedAgain) {
  const fs::path folder = fresh_folder("damaged");
  for (int i = 6; i <= 9; ++i) fs::copy(cairn_photo(i), folder / "photos" / cairn_photo(i).filename());
  const std::string survey = (folder / "s").string();
  ASSERT_EQ(icefield({"begin", survey, (folder / "photos").string()}).status, 0);
  ASSERT_EQ(icefield({"pose", survey}).status, 0);
  const std::string before = test::content_of(folder / "s/results/block-1/cameras.json");
  for (const char* ending : {"-wal", "-shm"}) fs::remove(folder / ("s/work/records.sqlite" + std::string(ending)));
  std::ofstream(folder / "s/work/records.sqlite", std::ios::trunc) << std::string(9000, '?');
  const auto again = icefield({"pose", survey});
  EXPECT_EQ(again.status, 0) << again.error;
  EXPECT_NE(again.error.find("damaged"), std::string::npos) << again.error;
  EXPECT_EQ(test::content_of(folder / "s/results/block-1/cameras.json"), before);
}

TEST(BadInput, JsonErrorsCanBeRead) {
  const auto ran = icefield({"pose", "/nowhere", "--json"});
  EXPECT_EQ(ran.status, 3);
  const auto error = nlohmann::json::parse(ran.out)["error"];
  EXPECT_EQ(error["subject"], "/nowhere");
  EXPECT_FALSE(error["remedy"].get<std::string>().empty());
}

TEST(BadInput, MasksThatFitAndMasksThatDoNot) {
  const fs::path folder = fresh_folder("masks");
  fs::create_directories(folder / "masks");
  for (int i = 2; i <= 6; ++i) fs::copy(cairn_photo(i), folder / "photos" / fmt::format("p{}.jpg", i));
  ImageU8 half(480, 320, 3, std::uint8_t{255});
  for (int y = 0; y < 320; ++y)
    for (int x = 0; x < 240; ++x)
      for (int c = 0; c < 3; ++c) half.at(x, y, c) = 0;
  write_photo(folder / "masks" / "p2.png", half);
  write_photo(folder / "masks" / "p3.jpg.png", ImageU8(480, 320, 1, std::uint8_t{0}));
  write_photo(folder / "masks" / "p6.png", ImageU8(320, 480, 1, std::uint8_t{255}));
  const std::string survey = (folder / "s").string();
  const auto begun = icefield({"begin", survey, (folder / "photos").string(), "--masks", (folder / "masks").string()});
  ASSERT_EQ(begun.status, 0) << begun.error;
  EXPECT_NE(begun.out.find("320x480"), std::string::npos) << begun.out;
  const auto match = test::icefield_json({"match", survey});
  EXPECT_EQ(match["photos"], 4);
  for (const auto& photo : match["by_photo"]) {
    if (photo["name"] == "p3.jpg") {
      EXPECT_EQ(photo["features"], 0);
      EXPECT_NE(photo["few_because"].get<std::string>().find("mask"), std::string::npos);
    } else {
      EXPECT_GT(photo["features"], 300);
    }
  }
  Monitor monitor;
  {
    Survey opened(survey, Executor(1), monitor);
    for (const Keypoint& k : opened.features(PhotoIndex(0)).keypoints) ASSERT_GT(k.x, 240);
  }
  // A mask that was changed counts again; without the folder nothing is guessed.
  write_photo(folder / "masks" / "p3.jpg.png", half);
  EXPECT_GT(test::icefield_json({"match", survey})["by_photo"][1]["features"], 200);
  fs::remove_all(folder / "masks");
  expect_error(icefield({"match", survey}), 3, "masks");
}

}  // namespace
}  // namespace icefield
