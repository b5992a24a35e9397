#include "icefield/survey/survey.h"

#include <gtest/gtest.h>

#include <sqlite3.h>

#include <algorithm>
#include <fstream>
#include <functional>
#include <map>
#include <set>

#include "icefield/io/photo_file.h"
#include "icefield/io/text_file.h"
#include "icefield/base/instructions.h"
#include "src/survey/records.h"
#include "src/survey/store.h"
#include "src/survey/survey_state.h"
#include "tests/tools/monitors.h"
#include "tests/tools/scenes.h"

namespace icefield {
namespace {
namespace fs = std::filesystem;

using test::Remembering;

Fingerprint key(int n) {
  return Fingerprinter().add(n).result();
}
Bytes bytes(const std::string& text) {
  const auto* p = reinterpret_cast<const std::byte*>(text.data());
  return {p, p + text.size()};
}

TEST(Store, KeepsAcrossRuns) {
  const fs::path file = test::scratch_folder() / "keeps.sqlite";
  Remembering monitor;
  {
    Store store(file, monitor);
    store.put("a", key(1), bytes("one"));
    store.put("b", key(1), bytes(""));
    store.put("a", key(1), bytes("uno"));
  }
  Store store(file, monitor);
  EXPECT_EQ(store.get("a", key(1)), bytes("uno"));
  EXPECT_EQ(store.get("b", key(1)), bytes(""));
  EXPECT_FALSE(store.get("a", key(2)));
  store.remove("a", key(1));
  EXPECT_FALSE(store.has("a", key(1)));
  EXPECT_TRUE(monitor.warnings.empty());
}

TEST(Store, ADamagedFileIsPutAsideAndSaidSo) {
  const fs::path file = test::scratch_folder() / "damaged.sqlite";
  std::ofstream(file) << std::string(5000, 'x');
  Remembering monitor;
  Store store(file, monitor);
  store.put("a", key(1), bytes("one"));
  EXPECT_EQ(store.get("a", key(1)), bytes("one"));
  ASSERT_EQ(monitor.warnings.size(), 1u);
  EXPECT_NE(monitor.warnings[0].find("damaged"), std::string::npos);
  EXPECT_TRUE(fs::exists(file.string() + ".aside"));
}

TEST(Store, ADamagedRecordIsDropped) {
  const fs::path file = test::scratch_folder() / "record.sqlite";
  Remembering monitor;
  {
    Store store(file, monitor);
    store.put("a", key(1), bytes("one"));
  }
  sqlite3* db = nullptr;
  ASSERT_EQ(sqlite3_open(file.c_str(), &db), SQLITE_OK);
  ASSERT_EQ(sqlite3_exec(db, "UPDATE records SET value = x'00'", nullptr, nullptr, nullptr), SQLITE_OK);
  sqlite3_close(db);
  Store store(file, monitor);
  EXPECT_FALSE(store.get("a", key(1)));
  EXPECT_FALSE(store.has("a", key(1)));
  EXPECT_EQ(monitor.warnings.size(), 1u);
}

TEST(Store, ANewerVersionIsPutAside) {
  const fs::path file = test::scratch_folder() / "newer.sqlite";
  sqlite3* db = nullptr;
  ASSERT_EQ(sqlite3_open(file.c_str(), &db), SQLITE_OK);
  ASSERT_EQ(
      sqlite3_exec(db, "CREATE TABLE records (strange INTEGER); PRAGMA user_version = 77;", nullptr, nullptr, nullptr),
      SQLITE_OK);
  sqlite3_close(db);
  Remembering monitor;
  Store store(file, monitor);
  store.put("a", key(1), bytes("one"));
  EXPECT_TRUE(store.has("a", key(1)));
  ASSERT_EQ(monitor.warnings.size(), 1u);
  EXPECT_NE(monitor.warnings[0].find("newer"), std::string::npos);
}

// A survey of the first five photos of the small cairn.
fs::path survey_of_five(const std::string& name) {
  const fs::path source = test::rendered("cairn", test::small_cairn()) / "photos",
                 folder = test::scratch_folder() / name;
  fs::remove_all(folder);
  fs::create_directories(folder / "photos");
  for (int i = 6; i <= 10; ++i) {
    const std::string file = "cairn_0" + std::string(i < 10 ? "0" : "") + std::to_string(i) + ".jpg";
    fs::copy(source / file, folder / "photos" / file);
  }
  Survey::begin(folder, {folder / "photos"});
  return folder;
}

StepState state_of(Survey& survey, const std::string& step) {
  for (const StepStatus& s : survey.status())
    if (s.step == step) return s.state;
  return StepState::missing;
}

TEST(Survey, AChangedSettingMakesStaleWhatDependsOnIt) {
  const fs::path folder = survey_of_five("stale");
  Monitor monitor;
  Survey survey(folder, Executor(2), monitor);
  EXPECT_EQ(state_of(survey, "match"), StepState::missing);
  EXPECT_EQ(survey.match().computed_photos, 5u);
  EXPECT_EQ(survey.match().computed_photos, 0u);
  survey.pose();
  EXPECT_EQ(state_of(survey, "match"), StepState::fresh);
  EXPECT_EQ(state_of(survey, "pose"), StepState::fresh);
  survey.set("dense.min_shared_points", "9");  // nothing before densify reads it
  EXPECT_EQ(state_of(survey, "pose"), StepState::fresh);
  survey.set("match.max_ratio", "0.75");
  EXPECT_EQ(state_of(survey, "match"), StepState::stale);
  EXPECT_EQ(state_of(survey, "pose"), StepState::stale);
  const MatchReport again = survey.match();
  EXPECT_EQ(again.computed_photos, 0u);  // features do not read it
  EXPECT_EQ(again.computed_pairs, 10u);
  survey.set("match.max_ratio", "0.8");  // back: everything is still there
  EXPECT_EQ(survey.match().computed_pairs, 0u);
  EXPECT_EQ(state_of(survey, "pose"), StepState::fresh);
}

TEST(Survey, AddedAndMovedPhotosKeepWhatIsComputed) {
  const fs::path folder = survey_of_five("moved");
  Monitor monitor;
  {
    Survey survey(folder, Executor(2), monitor);
    survey.match();
  }
  fs::rename(folder / "photos", folder / "elsewhere");
  fs::copy(test::rendered("cairn", test::small_cairn()) / "photos" / "cairn_011.jpg",
           folder / "elsewhere" / "cairn_011.jpg");
  const std::string text = read_file(folder / "survey.toml");
  std::string moved = text;
  moved.replace(moved.find("\"photos\""), 8, "\"elsewhere\"");
  write_file(folder / "survey.toml", moved);
  Survey survey(folder, Executor(2), monitor);
  const MatchReport report = survey.match();
  EXPECT_EQ(report.photos, 6u);
  EXPECT_EQ(report.computed_photos, 1u);
  EXPECT_EQ(report.computed_pairs, 5u);
}

TEST(Survey, PhotosOfOneLensShareACameraAndOthersDoNot) {
  const fs::path folder = survey_of_five("cameras");
  const ImageU8 image = read_photo(folder / "photos" / "cairn_006.jpg");
  write_photo(folder / "photos" / "plain.png", image);            // no metadata at all
  write_photo(folder / "photos" / "grey.tif", shrink(image, 2));  // another size
  fs::copy(folder / "photos" / "cairn_007.jpg", folder / "photos" / "copy.jpg");
  write_file(folder / "survey.toml",
             read_file(folder / "survey.toml") +
                 "\n[cameras.\"unknown camera 240x160\"]\nfocal_px = 222\nuncertainty_percent = 4\n");
  Remembering monitor;
  Survey survey(folder, Executor(2), monitor);
  const PhotoList& list = survey.photos();
  EXPECT_EQ(list.used, 7u);
  ASSERT_EQ(list.cameras.size(), 3u);
  const auto source_of = [&](const std::string& name) {
    for (const SurveyPhoto& p : list.photos)
      if (p.name == name) return list.cameras[p.camera.value].source;
    return FocalSource::unknown;
  };
  EXPECT_EQ(source_of("cairn_006.jpg"), FocalSource::sensor_table);
  EXPECT_EQ(source_of("plain.png"), FocalSource::unknown);
  EXPECT_EQ(source_of("grey.tif"), FocalSource::given);
  EXPECT_EQ(list.photos.back().name, "copy.jpg");
  EXPECT_NE(list.photos.back().left_out.find("cairn_007.jpg"), std::string::npos);
  EXPECT_EQ(monitor.warnings.size(), 1u);
}

TEST(Survey, SwitchedOffPhotosTakeNoPart) {
  const fs::path folder = survey_of_five("off");
  Monitor monitor;
  Survey survey(folder, Executor(2), monitor);
  survey.switch_photos({"cairn_008.jpg"}, false);
  EXPECT_EQ(survey.photos().used, 4u);
  EXPECT_THROW(survey.switch_photos({"none.jpg"}, false), Error);
  survey.switch_photos({"cairn_008.jpg"}, true);
  EXPECT_EQ(survey.photos().used, 5u);
}

TEST(Records, KeepWhatIsKnownOfAPhoto) {
  PhotoMetadata full;
  full.width = 1200, full.height = 800, full.display_rotation = 6;
  full.make = "Made up", full.time = "2026:07:01 10:00:00", full.focal_mm = 24, full.focal_35mm = 36;
  full.gps = {46.5, 8.01, 2400.5};
  full.view_azimuth_deg = 312.5, full.view_elevation_deg = -88;
  PhotoMetadata bare;
  bare.width = 640;
  PhotoMetadata half = full;
  half.gps.reset(), half.view_azimuth_deg.reset();
  for (const PhotoMetadata& given : {full, bare, half}) {
    const auto [read, scores, fault] = read_photo_record(photo_record(given, {0.5f, 0.4f, 0.1f, 0.2f}, "blurred"));
    EXPECT_EQ(photo_record(read, scores, fault), photo_record(given, {0.5f, 0.4f, 0.1f, 0.2f}, "blurred"));
    EXPECT_EQ(read.view_azimuth_deg, given.view_azimuth_deg);
    EXPECT_EQ(read.view_elevation_deg, given.view_elevation_deg);
    ASSERT_EQ(read.gps.has_value(), given.gps.has_value());
    if (given.gps) {
      EXPECT_EQ(read.gps->altitude_m, 2400.5);
    }
    EXPECT_EQ(read.make, given.make);
    EXPECT_EQ(scores.bright_share, 0.2f);
    EXPECT_EQ(fault, "blurred");
  }
}

// What a step makes of a small input, at one instruction level, by digest. When one of these changes, raise the step's
// version in src/survey/versions.h, so that results made before become stale, and store version and digest here.
TEST(Survey, ChangedOutputNeedsANewVersion) {
  struct Stored {
    const char* step;
    int version;
    const char* digest;
  };
  static constexpr Stored kStored[] = {
      {"photo", 4, "30a2db91841ab9c13b1b416078e77f04"},
      {"feature", 6, "cc4d82ccba7935bda2508dd265992b72"},
      {"choice", 4, "f875ffd9042702df20628af059501f08"},
      {"pair", 4, "ec45ea5371fb3df4d55316247a1ee655"},
      {"wide", 1, "f83b1aabcbe7aa64aa117f82c102bdc2"},
      {"pose", 14, "bca45b3ee9184568b81fd9d263c82e80"},
      {"depth and fuse", 9 + 100 * 10, "c50f7f10580cab9e39e19cea00b5affd"},
  };
  const std::string before = instruction_level();
  pin_instruction_level("avx2");
  const fs::path folder = survey_of_five("versions");
  Monitor monitor;
  Survey survey(folder, Executor(2), monitor);
  survey.set("effort", "draft");
  std::map<std::string, std::pair<int, std::string>> now;
  Fingerprinter photo, feature, pair;
  for (const SurveyPhoto& p : survey.photos().photos)
    photo.add(fingerprint_bytes(photo_record(p.metadata, p.scores, p.left_out)));
  now["photo"] = {kPhotoVersion, photo.result().hex()};
  // Keypoints and descriptors, of both kinds of features.
  survey.set("feature.nonlinear", "true");
  const MatchedPhotos both = survey.matched();
  for (std::size_t i = 0; i < both.keypoints.size(); ++i)
    feature.add(fingerprint_bytes(features_to_bytes(survey.features(PhotoIndex(i)))));
  now["feature"] = {kFeatureVersion, feature.result().hex()};
  survey.set("feature.nonlinear", "false");
  // States, geometries with their matrices, matches; and the tracks that they give.
  const TrackedPhotos tracked = survey.tracks();
  for (const PairMatches& p : survey.matched().pairs) pair.add(fingerprint_bytes(pair_to_bytes(p)));
  pair.add(fingerprint_bytes(ByteWriter().put(tracked.tracks.elements).put(tracked.tracks.starts).take()));
  now["pair"] = {kPairVersion, pair.result().hex()};
  // Narrowed copies and what they match.
  const auto wide_of = [&](std::size_t i) {
    return WideFeatures{survey.features(PhotoIndex(i)),
                        found_in_narrowed(*survey.source(), PhotoIndex(i), survey.settings().feature)};
  };
  const WideFeatures first = wide_of(0), second = wide_of(1);
  const CameraPrior& prior = survey.photos().cameras[0].prior;
  const PairMatches matched =
      verify_wide_pair(first, second, survey.matched().pairs.at(0), {}, prior, prior, survey.settings().verify, 1);
  EXPECT_GT(matched.matches.size(), survey.matched().pairs[0].matches.size());
  now["wide"] = {kWideVersion, Fingerprinter()
                                   .add(fingerprint_bytes(narrowed_record(first.narrowed)))
                                   .add(fingerprint_bytes(pair_to_bytes(matched)))
                                   .result()
                                   .hex()};
  // Which pairs are tried, and where each comes from.
  survey.set("pairs.all_up_to", "2");
  survey.set("pairs.alike_photos", "2");
  PairChoice choice;
  choice.pairs = survey.matched().tried;
  now["choice"] = {kChoiceVersion, fingerprint_bytes(pairs_record(choice)).hex()};
  survey.set("pairs.all_up_to", "40");
  now["pose"] = {kPoseVersion, fingerprint_bytes(block_to_bytes(survey.pose().blocks.at(0))).hex()};
  survey.densify();
  // Without the line of its fingerprint, which a new setting changes too.
  std::string dense = read_file(survey.block_folder(0) / "dense.ply", 1u << 30);
  const std::size_t line = dense.find("comment fingerprint ");
  ASSERT_NE(line, std::string::npos);
  dense.erase(line, dense.find('\n', line) - line);
  now["depth and fuse"] = {kDepthVersion + 100 * kFuseVersion, fingerprint_bytes(bytes(dense)).hex()};
  pin_instruction_level(before);
  for (const Stored& stored : kStored) {
    const auto& [version, digest] = now.at(stored.step);
    EXPECT_EQ(version, stored.version) << stored.step << ": store the new version and its digest " << digest;
    EXPECT_EQ(digest, stored.digest) << stored.step << ": its output has changed; raise its version, then store both";
  }
}

// What a build with other layouts under the same versions leaves, or a hand in the file: whole, with the right sum, and
// of the wrong length.
TEST(Survey, RecordsThatCannotBeReadCountAsMissing) {
  const fs::path folder = survey_of_five("layouts");
  const fs::path cloud = folder / "results/block-1/dense.ply";
  Remembering monitor;
  const auto survey = [&] { return Survey(folder, Executor(2), monitor); };
  survey().set("effort", "draft");
  survey().densify();
  const std::string before = read_file(cloud, 1u << 30);
  std::set<std::string> kinds;
  const auto change = [&](bool longer, const std::string& only) {
    Store store(folder / "work/records.sqlite", monitor);
    for (const Store::Record& record : store.records()) {
      if (!only.empty() && record.kind != only) continue;
      kinds.insert(record.kind);
      const Fingerprint key{std::stoull(record.key.substr(0, 16), nullptr, 16),
                            std::stoull(record.key.substr(16), nullptr, 16)};
      Bytes value = *store.get(record.kind, key);
      value.resize(longer ? value.size() + 3 : value.size() - 1);
      store.put(record.kind, key, value);
    }
  };
  for (const bool longer : {false, true}) {
    change(longer, "dense");
    EXPECT_EQ(survey().status_of("densify").state, StepState::stale);
    EXPECT_EQ(survey().status_of("pose").state, StepState::fresh);
    EXPECT_FALSE(survey().densify().at(0).fresh);
    EXPECT_TRUE(read_file(cloud, 1u << 30) == before);
  }
  monitor.warnings.clear();
  change(false, "");
  EXPECT_GE(kinds.size(), 12u);
  EXPECT_NO_THROW(survey().status());
  EXPECT_NO_THROW(survey().disk_use());
  survey().densify();
  EXPECT_TRUE(read_file(cloud, 1u << 30) == before);
  for (const StepStatus& step : survey().status()) EXPECT_EQ(step.state, StepState::fresh) << step.step;
  EXPECT_TRUE(std::any_of(monitor.warnings.begin(), monitor.warnings.end(), [](const std::string& w) {
    return w.find("a record of features is damaged; it is computed again") != std::string::npos;
  }));
}

TEST(Survey, OnlyWhatWritesResultsLocks) {
  const fs::path folder = survey_of_five("locked");
  Monitor monitor;
  Survey first(folder, Executor(1), monitor);
  EXPECT_FALSE(first.is_in_use());
  first.pose();  // holds the lock from here on
  Survey second(folder, Executor(1), monitor);
  EXPECT_TRUE(second.is_in_use());
  EXPECT_EQ(state_of(second, "pose"), StepState::fresh);
  EXPECT_EQ(second.cameras(0).photos.size(), first.posed()->blocks[0].photos.size());
  EXPECT_EQ(second.tie_points(0).size(), first.tie_points(0).size());
  EXPECT_EQ(second.matched().pairs.size(), first.matched().pairs.size());
  EXPECT_EQ(second.pose().blocks.size(), 1u) << "nothing to compute, nothing to lock";
  second.set("fuse.min_views", "2");  // for the next run
  EXPECT_EQ(second.settings().dense.min_views, 2);
  for (const std::function<void()>& write :
       std::vector<std::function<void()>>{[&] { second.densify(); }, [&] { second.adjust({}); },
                                          [&] { second.undo_adjust(); }, [&] { second.tidy(); }}) {
    try {
      write();
      ADD_FAILURE();
    } catch (const Error& e) {
      EXPECT_EQ(e.kind(), ErrorKind::resource);
      EXPECT_NE(e.fault().find("in use"), std::string::npos);
    }
  }
}

// Looking reads the photos whole the first time; what was learned is kept, and a run may begin meanwhile.
TEST(Survey, PhotosAreReadOnceAndLookingNeverLocks) {
  const fs::path folder = survey_of_five("looked");
  fs::remove_all(folder / "work");
  Monitor monitor;
  Survey looking(folder, Executor(2), monitor);
  looking.photos();
  EXPECT_FALSE(FolderLock::is_held(folder));
  ASSERT_TRUE(fs::exists(folder / "work" / "records.sqlite"));
  const std::string first = looking.photos().photos[0].file.string();
  // Now a file that cannot be decoded, of the same size and time: nobody looks into it again.
  const auto time = fs::last_write_time(first);
  const std::string content = read_file(first, 100u << 20);
  write_file(first, std::string(content.size(), 'x'));
  fs::last_write_time(first, time);
  Survey again(folder, Executor(2), monitor);
  EXPECT_EQ(again.photos().used, looking.photos().used);
  EXPECT_EQ(again.photos().photos[0].content, looking.photos().photos[0].content);
  write_file(first, content);
  fs::last_write_time(first, time);
}

TEST(Survey, WhatIsTriedOutChangesNothing) {
  const fs::path folder = survey_of_five("tried");
  Monitor monitor;
  const std::string before = read_file(folder / "survey.toml");
  Survey survey(folder, Executor(1), monitor);
  survey.try_out();
  survey.set_effort("fine", "densify");
  survey.set("match.max_ratio", "0.7");
  survey.set_bounds(Bounds{{0, 0, 0}, {1, 1, 1}, Eigen::Quaterniond::Identity()});
  EXPECT_EQ(survey.settings().dense.shrink, 1);
  EXPECT_EQ(survey.settings().descriptor.max_ratio, 0.7f);
  EXPECT_THROW(survey.estimate_densify(), Error);
  EXPECT_THROW(survey.match(), Error);
  EXPECT_EQ(read_file(folder / "survey.toml"), before);
  EXPECT_FALSE(fs::exists(folder / "work/records.sqlite"));
}

}  // namespace
}  // namespace icefield
