#include "icefield/survey/settings.h"

#include <gtest/gtest.h>

#include <set>

#include "icefield/io/text_file.h"
#include "src/survey/survey_file.h"
#include "src/survey/toml_edit.h"
#include "tests/tools/scenes.h"

namespace icefield {
namespace {

TEST(Settings, EachHasAMeaningAndAUniqueKey) {
  std::set<std::string> keys;
  for (const SettingInfo& s : Settings().list()) {
    EXPECT_TRUE(keys.insert(s.key).second) << s.key;
    EXPECT_GT(s.meaning.size(), 20u) << s.key;
    EXPECT_EQ(s.value, s.default_value) << s.key;
    EXPECT_NE(s.key.find('.'), std::string::npos);
    // Every default is a value that the setting takes.
    Settings again;
    EXPECT_NO_THROW(again.set(s.key, s.value)) << s.key;
  }
  EXPECT_GT(keys.size(), 30u);
}

TEST(Settings, WrongKeysAndValuesAreExplained) {
  Settings settings;
  const auto expect = [&](const std::string& key, const std::string& value, const std::string& words) {
    try {
      settings.set(key, value);
      FAIL() << key;
    } catch (const Error& e) {
      EXPECT_EQ(e.kind(), ErrorKind::usage);
      EXPECT_NE(std::string(e.what()).find(words), std::string::npos) << e.what();
    }
  };
  expect("match.max_ration", "0.7", "match.max_ratio");
  expect("match.max_ratio", "much", "number from 0.1 to 1");
  expect("match.max_ratio", "3", "number from 0.1 to 1");
  expect("dense.shrink", "2.5", "whole number");
  expect("match.mutual", "yes", "true or false");
}

TEST(Settings, EffortSetsSeveralAndOnlySectionsAskedForAreInTheText) {
  EXPECT_EQ(Settings(Effort::draft).dense.shrink, 4);
  EXPECT_EQ(Settings(Effort::fine).dense.shrink, 1);
  Settings a, b;
  b.set("dense.min_shared_points", "30");
  EXPECT_EQ(a.text({"match", "feature"}), b.text({"match", "feature"}));
  EXPECT_NE(a.text({"dense"}), b.text({"dense"}));
}

TEST(SurveyFile, WhatIsWrittenIsReadBack) {
  const std::string text =
      "# mine\neffort = \"standard\"\n\n[match]\nmax_ratio = 0.7  # careful\n\n[photos]\nsources = []\n";
  const auto file = test::scratch_folder() / "survey.toml";
  std::string changed = with_entry(text, {"dense", "shrink"}, "1", "survey.toml");
  changed = with_entry(changed, {"match", "mutual"}, "false", "survey.toml");
  write_file(file, with_entry(changed, {"effort"}, "\"draft\"", "survey.toml"));
  const SurveyFile read = read_survey_file(file);
  EXPECT_EQ(read.settings.dense.shrink, 1);
  EXPECT_FALSE(read.settings.descriptor.mutual);
  EXPECT_FLOAT_EQ(read.settings.descriptor.max_ratio, 0.7f);
  EXPECT_EQ(read.settings.effort, Effort::draft);
  EXPECT_NE(read_file(file).find("# mine"), std::string::npos);
  EXPECT_NE(read_file(file).find("# careful"), std::string::npos);
}

TEST(SurveyFile, StepsMayHaveAnEffortOfTheirOwn) {
  const SurveyFile read =
      survey_file_of("effort = \"draft\"\n[step_effort]\ndensify = \"fine\"\n[dense]\nshrink = 2\n", "survey.toml");
  EXPECT_EQ(read.settings.effort_of("match"), Effort::draft);
  EXPECT_EQ(read.settings.effort_of("densify"), Effort::fine);
  EXPECT_EQ(read.settings.feature.max_features, Settings(Effort::draft).feature.max_features);
  EXPECT_EQ(read.settings.dense.max_neighbours, Settings(Effort::fine).dense.max_neighbours);
  EXPECT_EQ(read.settings.dense.shrink, 2);  // by hand wins
  for (const SettingInfo& info : read.settings.list())
    EXPECT_EQ(info.value != info.default_value, info.key == "dense.shrink") << info.key;
}

TEST(SurveyFile, CamerasAreGivenByModelFocalLengthAndParameters) {
  const auto file = test::scratch_folder() / "cameras.toml";
  write_file(file,
             "[cameras.\"A 20 mm\"]\nmodel = \"fisheye\"\nangular_2 = -0.01\n[cameras.B]\nfocal_px = "
             "800\nuncertainty_percent = 0.5\nradial_1 = 0.02\n");
  const SurveyFile read = read_survey_file(file);
  ASSERT_EQ(read.cameras.size(), 2u);
  const GivenCamera &a = read.cameras.at("A 20 mm"), &b = read.cameras.at("B");
  EXPECT_EQ(a.model, CameraModel::fisheye);
  EXPECT_EQ(a.focal_px, 0);
  EXPECT_EQ(a.parameters.at("angular_2"), -0.01);
  EXPECT_FALSE(b.model);
  EXPECT_EQ(b.focal_px, 800);
  EXPECT_EQ(b.uncertainty_percent, 0.5);
  EXPECT_EQ(b.parameters.at("radial_1"), 0.02);
}

TEST(SurveyFile, FaultsNameTheFile) {
  const auto file = test::scratch_folder() / "bad.toml";
  for (const char* text :
       {"effort = ", "effort = \"great\"", "effort = 3", "efort = \"fine\"", "[step_effort]\nmatch = \"great\"",
        "[step_effort]\nfly = \"fine\"", "[match]\nmax_ratio = \"x\"", "[mach]\nmax_ratio = 0.7",
        "[photos]\nsources = \"here\"", "[cameras.\"A\"]\nuncertainty_percent = 3", "[cameras]\nA = 3",
        "[cameras.\"A\"]\nmodel = \"flat\"", "[cameras.\"A\"]\nfocal_px = -3",
        "[cameras.\"A\"]\nmodel = \"radial\"\nangular_1 = 0.1", "[cameras.\"A\"]\nradial_1 = \"x\"",
        "[bounds]\ncentre = [0, 0, 0]", "[bounds]\noutline = [[0, 0], [1, 1]]",
        "[bounds]\noutline = [[0, 0], [1, 1], [2]]", "[bounds]\noutline = [[0, 0], [1, 1], [2, \"x\"]]"}) {
    write_file(file, text);
    try {
      read_survey_file(file);
      FAIL() << text;
    } catch (const Error& e) {
      EXPECT_EQ(e.kind(), ErrorKind::input) << text;
      EXPECT_NE(e.subject().find("bad.toml"), std::string::npos) << e.what();
    }
  }
}

TEST(Outlines, AreTextAndBack) {
  const std::vector<std::vector<Eigen::Vector2d>> outlines = {
      {{612000.25, 5194000}, {612010, 5194000}, {612010, 5194007.5}}, {{0, 0}, {1, 0}, {1, 1}, {0, 1}}};
  EXPECT_EQ(outlines_of_text(text_of_outlines(outlines), "x"), outlines);
  EXPECT_TRUE(outlines_of_text("", "x").empty());
  for (const char* bad : {"1 2, 3 4", "1 2, 3 4, 5", "1 2, 3 4, 5 6 7", "1 2, 3 4, five 6", "0 0, 1 0, 1 1; 2 2", ";"})
    EXPECT_THROW(outlines_of_text(bad, "x"), Error) << bad;
  Settings settings;
  settings.set("terrain.ground_within", "0 0, 1 0, 1 1");
  EXPECT_EQ(settings.terrain.ground_within, "0 0, 1 0, 1 1");
  EXPECT_THROW(settings.set("terrain.ground_within", "0 0"), Error);
  EXPECT_THROW(settings.set("given.poses", "perhaps"), Error);
  settings.set("given.poses", "start");
  EXPECT_EQ(settings.given.poses, "start");
}

}  // namespace
}  // namespace icefield
