// The whole chain through the command-line tool and the examples, measured against truth.
#include <fmt/format.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <nlohmann/json.hpp>
#include <set>

#include "icefield/block/bounds.h"
#include "icefield/io/camera_file.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/ply_file.h"
#include "icefield/io/text_file.h"
#include "icefield/photo/filter.h"
#include "tests/tools/scenes.h"
#include "tests/tools/tool.h"

namespace icefield {
namespace {
namespace fs = std::filesystem;
using nlohmann::json;
using test::icefield;
using test::icefield_json;

struct Case {
  const char* name;
  simulate::PlanOptions plan;
};

class Chain : public testing::TestWithParam<int> {
 protected:
  static Case chosen(int i) {
    if (i == 0) return {"cairn", test::small_cairn()};
    return {"flight", test::small_flight()};
  }
};
INSTANTIATE_TEST_SUITE_P(Scenes, Chain, testing::Values(0, 1));

TEST_P(Chain, PosesAndCloudAgreeWithTruth) {
  const Case c = chosen(GetParam());
  const fs::path made = test::rendered(c.name, c.plan),
                 folder = test::scratch_folder() / (std::string(c.name) + "-survey");
  const std::string survey = folder.string();
  const auto photos = icefield_json({"begin", survey, (made / "photos").string()});
  ASSERT_EQ(photos["photos"].size(), static_cast<std::size_t>(c.plan.photos));
  EXPECT_EQ(photos["photos"][0]["focal_source"], "metadata and sensor table");
  EXPECT_GT(photos["photos"][0]["focal_uncertainty_percent"], 0);
  icefield_json({"settings", survey, "--set", "dense.shrink=1"});  // the photos are small

  const auto matched = icefield_json({"match", survey});
  EXPECT_GT(matched["verified"], c.plan.photos);
  const auto posed = icefield_json({"pose", survey});
  EXPECT_EQ(posed["posed"], c.plan.photos);
  EXPECT_EQ(posed["blocks"].size(), 1u);
  EXPECT_LT(posed["blocks"][0]["rms_px"], 0.6);
  EXPECT_GT(posed["blocks"][0]["kept_percent"], 85);
  icefield_json({"densify", survey});

  // The surface within the set's own bounds, and the comparison.
  const fs::path surface = test::scratch_folder() / (std::string(c.name) + "-surface.ply");
  ASSERT_EQ(test::run({ICEFIELD_SIMULATE_TOOL, "surface", made.string(), surface.string()}).status, 0);
  const auto compared = icefield_json(
      {"compare", survey, "--cameras", (made / "truth/cameras.json").string(), "--surface", surface.string()});
  EXPECT_EQ(compared["cameras"]["posed"], c.plan.photos);
  EXPECT_EQ(compared["cameras"]["wrong"], 0);
  EXPECT_LT(compared["cameras"]["median_position_gsd"], 0.6);
  EXPECT_LT(compared["cameras"]["median_orientation_deg"], 0.1);
  EXPECT_GT(compared["cloud"]["scores"][2]["accuracy_percent"], 80);
  EXPECT_GT(compared["cloud"]["scores"][2]["f1"], GetParam() == 0 ? 0.60 : 0.70);

  // Status, a second run that finds nothing to do, exports read back.
  const json status = icefield_json({"status", survey});
  for (const auto& step : status["steps"]) EXPECT_EQ(step["state"], "fresh") << step;
  EXPECT_EQ(icefield_json({"run", survey})["blocks"][0]["fresh"], true);
  const fs::path out = folder / "out";
  fs::create_directories(out);
  const auto written =
      icefield_json({"export", survey, "--cloud", (out / "d.las").string(), "--tie-points", (out / "t.xyz").string()});
  EXPECT_EQ(written["written"].size(), 2u);
  EXPECT_EQ(read_file(out / "d.las").substr(0, 4), "LASF");
  EXPECT_GT(fs::file_size(out / "t.xyz"), 1000u);
  EXPECT_EQ(icefield({"export", survey, "--cloud", (out / "d.doc").string()}).status, 2);
  icefield_json({"export", survey, "--cameras", (out / "c.json").string(), "--tie-points", (out / "t.ply").string(),
                 "--cloud", (out / "d.ply").string(), "--undistorted", (out / "u").string(), "--ascii"});
  EXPECT_EQ(read_camera_file(out / "c.json").photos.size(), static_cast<std::size_t>(c.plan.photos));
  EXPECT_EQ(read_ply(out / "t.ply").size(), posed["blocks"][0]["tie_points"].get<std::size_t>());
  EXPECT_EQ(test::content_of(out / "d.ply").substr(0, 20), "ply\nformat ascii 1.0");
  const CameraFile pinhole = read_camera_file(out / "u" / "cameras.json");
  EXPECT_EQ(pinhole.cameras[0].model, CameraModel::pinhole);
  for (const auto& photo : pinhole.photos) EXPECT_TRUE(fs::exists(out / "u" / photo.name)) << photo.name;
  for (const char* what : {"block", "cloud", "depth"}) {
    const fs::path picture = out / (std::string(what) + ".png");
    icefield_json({"view", survey, what, "--output", picture.string()});
    const ImageU8 image = read_photo(picture);
    EXPECT_EQ(image.width(), 1280);
    std::set<std::uint32_t> colours;
    for (int y = 0; y < image.height(); y += 3)
      for (int x = 0; x < image.width(); x += 3)
        colours.insert(image.at(x, y, 0) << 16 | image.at(x, y, 1) << 8 | image.at(x, y, 2));
    EXPECT_GT(colours.size(), 50u) << what;
  }
}

TEST(ChainWithout, MetadataTheFocalLengthIsFound) {
  const fs::path made = test::rendered("flight", test::small_flight()), folder = test::scratch_folder() / "bare";
  fs::create_directories(folder / "photos");
  for (const fs::path& file : find_photo_files({made / "photos"}))
    write_photo(folder / "photos" / file.filename().replace_extension(".png"), read_photo(file));
  CameraFile truth = read_camera_file(made / "truth/cameras.json");
  for (auto& photo : truth.photos) photo.name = fs::path(photo.name).replace_extension(".png").string();
  write_camera_file(folder / "truth.json", truth);
  const auto photos = icefield_json({"begin", (folder / "s").string(), (folder / "photos").string()});
  EXPECT_TRUE(photos["photos"][0]["focal_px"].is_null());
  const auto posed = icefield_json({"pose", (folder / "s").string()});
  EXPECT_EQ(posed["posed"], 15);
  EXPECT_EQ(posed["focal_search"].size(), 6u);
  const auto compared =
      icefield_json({"compare", (folder / "s").string(), "--cameras", (folder / "truth.json").string()});
  EXPECT_NEAR(compared["cameras"]["median_focal_error_percent"].get<double>(), 0, 1.5);
  EXPECT_EQ(compared["cameras"]["wrong"], 0);
}

TEST(ChainWith, PhotosOfTwoSizesAndCameras) {
  // Every second photo at half its size, by a camera that says nothing of itself but its 35 mm equivalent.
  const fs::path made = test::rendered("cairn", test::small_cairn()), folder = test::scratch_folder() / "mixed";
  fs::create_directories(folder / "photos");
  CameraFile truth = read_camera_file(made / "truth/cameras.json");
  Camera half = truth.cameras[0];
  half.width /= 2, half.height /= 2;
  for (int k = 0; k < 3; ++k) half.parameters[static_cast<std::size_t>(k)] /= 2;  // focal length and centre
  truth.cameras.push_back(half);
  truth.camera_names.push_back("half");
  for (std::size_t i = 0; i < truth.photos.size(); ++i) {
    const fs::path from = made / "photos" / truth.photos[i].name;
    if (i % 3 != 1) {
      fs::copy(from, folder / "photos" / from.filename());
      continue;
    }
    PhotoMetadata metadata;
    metadata.model = "Stein 1";
    metadata.focal_35mm = half.focal() * 36.0 / half.width;
    truth.photos[i].name = from.filename().replace_extension(".tif").string();
    truth.photos[i].camera = 1;
    write_photo(folder / "photos" / truth.photos[i].name, shrink(read_photo(from), 2), metadata);
  }
  write_camera_file(folder / "truth.json", truth);
  const std::string survey = (folder / "s").string();
  icefield_json({"begin", survey, (folder / "photos").string()});
  const auto posed = icefield_json({"pose", survey});
  EXPECT_EQ(posed["posed"], 14);
  const auto compared = icefield_json({"compare", survey, "--cameras", (folder / "truth.json").string()});
  EXPECT_EQ(compared["cameras"]["wrong"], 0);
  EXPECT_LT(compared["cameras"]["max_orientation_deg"], 0.5);  // two pixels of the smaller photos
  const CameraFile result = read_camera_file(folder / "s/results/block-1/cameras.json");
  ASSERT_EQ(result.cameras.size(), 2u);
  for (const CameraFile::Photo& photo : result.photos) {
    const Camera& camera = result.cameras[photo.camera];
    EXPECT_NEAR(camera.focal() / (camera.width == half.width ? half.focal() : truth.cameras[0].focal()), 1, 0.01)
        << photo.name;
  }
}

TEST(ChainWith, PhotosOfTwoPlacesGivesTwoBlocks) {
  const fs::path cairn = test::rendered("cairn", test::small_cairn()),
                 flight = test::rendered("flight", test::small_flight());
  const std::string survey = (test::scratch_folder() / "two").string();
  icefield_json({"begin", survey, (cairn / "photos").string(), (flight / "photos").string()});
  const auto posed = icefield_json({"pose", survey});
  ASSERT_EQ(posed["blocks"].size(), 2u);
  EXPECT_EQ(posed["posed"], 29);
  EXPECT_EQ(posed["blocks"][0]["photos"], 15);  // the larger first
  EXPECT_EQ(posed["blocks"][1]["photos"], 14);
  for (const auto& [block, truth] : {std::pair{"1", flight}, std::pair{"2", cairn}}) {
    const auto compared =
        icefield_json({"compare", survey, "--block", block, "--cameras", (truth / "truth/cameras.json").string()});
    EXPECT_EQ(compared["cameras"]["missing"].size(), 0u);
    EXPECT_EQ(compared["cameras"]["wrong"], 0);
  }
  // They have nothing in common, and joining says so and changes nothing.
  const auto refused = icefield({"join", survey, "1", "2"});
  EXPECT_EQ(refused.status, 1);
  EXPECT_THAT(refused.error, testing::HasSubstr("cannot be joined"));
  EXPECT_EQ(icefield_json({"pose", survey})["blocks"].size(), 2u);
  EXPECT_EQ(icefield({"compare", survey, "--block", "3", "--cameras", (flight / "truth/cameras.json").string()}).status,
            2);

  // Bounds that hold tie points of the second block only leave the first out, say so, and are done with it.
  const PointCloud ties[] = {read_ply(fs::path(survey) / "results/block-1/tie_points.ply"),
                             read_ply(fs::path(survey) / "results/block-2/tie_points.ply")};
  const auto at = [&](int block, std::size_t i) -> Eigen::Vector3d {
    return ties[block].origin + ties[block].positions[i].cast<double>();
  };
  // A cairn stands up where seen from the air all is flat: a column around it, above the highest point of the other
  // block. (Blocks have the distance from photo to tie point as their unit.)
  Bounds box;
  std::size_t most = 0;
  for (const double half : {0.05, 0.1, 0.15, 0.2}) {
    const auto inside = [&](const Eigen::Vector3d& p) { return std::abs(p.x()) < half && std::abs(p.y()) < half; };
    double floor = -1e9;
    for (std::size_t k = 0; k < ties[0].size(); ++k)
      if (inside(at(0, k))) floor = std::max(floor, at(0, k).z());
    Bounds tried;
    tried.half_size = {half, half, 1};
    tried.centre = {0, 0, floor + 1e-3 + tried.half_size.z()};
    std::size_t held = 0;
    for (std::size_t k = 0; k < ties[1].size(); ++k) held += tried.contains(at(1, k));
    if (held > most) most = held, box = tried;
  }
  ASSERT_GT(most, 100u);
  std::vector<std::string> words{"densify", survey, "--set", "dense.shrink=2", "--bounds"};
  for (const Eigen::Vector3d& v : {box.centre, Eigen::Vector3d(2 * box.half_size)})
    for (int c = 0; c < 3; ++c) words.push_back(fmt::format("{}", v[c]));
  const auto ran = icefield(words);
  ASSERT_EQ(ran.status, 0) << ran.error;
  EXPECT_FALSE(fs::exists(fs::path(survey) / "results/block-1/dense.ply"));
  EXPECT_TRUE(fs::exists(fs::path(survey) / "results/block-2/dense.ply"));
  EXPECT_THAT(ran.error, testing::HasSubstr("block 1: has no tie point within the bounds and is left out"));
  const auto status = icefield_json({"status", survey});
  EXPECT_EQ(status["steps"].back()["state"], "fresh") << status;
}

TEST(Examples, WholeChain) {
  const fs::path made = test::rendered("cairn", test::small_cairn()), cloud = test::scratch_folder() / "example.ply";
  const auto ran = test::run({ICEFIELD_EXAMPLES_FOLDER "/whole_chain", (made / "photos").string(), cloud.string()});
  EXPECT_EQ(ran.status, 0) << ran.error;
  EXPECT_NE(ran.out.find("14 of 14 photos posed"), std::string::npos) << ran.out;
  EXPECT_GT(read_ply(cloud).size(), 10000u);
  EXPECT_EQ(test::run({ICEFIELD_EXAMPLES_FOLDER "/whole_chain"}).status, 2);
}

TEST(Examples, TwoPhotos) {
  const fs::path made = test::rendered("flight", test::small_flight());
  const auto ran = test::run({ICEFIELD_EXAMPLES_FOLDER "/two_photos", (made / "photos/flight_001.jpg").string(),
                              (made / "photos/flight_002.jpg").string()});
  EXPECT_EQ(ran.status, 0) << ran.error;
  EXPECT_NE(ran.out.find("two places, a subject with depth"), std::string::npos) << ran.out;
  EXPECT_NE(ran.out.find("rays meet at"), std::string::npos) << ran.out;
}

TEST(Examples, OwnPoints) {
  const auto ran = test::run({ICEFIELD_EXAMPLES_FOLDER "/own_points"});
  EXPECT_EQ(ran.status, 0) << ran.error;
  EXPECT_NE(ran.out.find("converged"), std::string::npos) << ran.out;
  EXPECT_NE(ran.out.find("photo 5: place known to"), std::string::npos) << ran.out;
}

TEST(Tool, WrongUsageIsStatusTwo) {
  for (const std::vector<std::string>& words :
       std::vector<std::vector<std::string>>{{}, {"fly"}, {"pose"}, {"begin", "x"}, {"match", "x", "--threads", "-3"}})
    EXPECT_EQ(icefield(words).status, 2);
  EXPECT_EQ(icefield({"--help"}).status, 0);
  EXPECT_EQ(icefield({"--version"}).out.substr(0, 9), "icefield ");
}

// Six photos of the demo's lower ring, 36 degrees apart before a far background: most of what matches by itself is the
// background, and what holds the poses comes from narrowed copies of the photos.
TEST(SparseRing, IsPosedByNarrowedCopies) {
  const fs::path folder = test::scratch_folder() / "sparse", photos = folder / "photos";
  fs::create_directories(photos);
  for (int i = 1; i <= 6; ++i) {
    const std::string name = fmt::format("cairn_{:03}.jpg", i);
    fs::copy_file(fs::path(ICEFIELD_DEMO) / "cairn/photos" / name, photos / name);
  }
  const std::string survey = (folder / "survey").string();
  icefield_json({"begin", survey, photos.string()});
  const auto matched = icefield_json({"match", survey});
  EXPECT_GE(matched["wide"], 4);
  const auto posed = icefield_json({"pose", survey});
  // Photos 2, 3 and 4 have fewer spots in common than a pose asks for, and so have 3, 4 and 5: there it may fall in
  // two.
  EXPECT_EQ(posed["posed"], 6);
  EXPECT_LE(posed["blocks"].size(), 2u);
  const auto compared =
      icefield_json({"compare", survey, "--cameras", (fs::path(ICEFIELD_DEMO) / "cairn/truth/cameras.json").string()});
  EXPECT_EQ(compared["cameras"]["wrong"], 0) << compared.dump(1);
  // What was found shows: the pair by itself, its picture, and nothing is computed twice.
  const auto pair = icefield_json({"pair", survey, "cairn_002.jpg", "cairn_003.jpg"});
  EXPECT_EQ(pair["geometry"], "depth");
  EXPECT_EQ(icefield({"view", survey, "matches", "--photo", "cairn_002.jpg", "--with", "cairn_003.jpg", "--output",
                      (folder / "m.png").string()})
                .status,
            0);
  EXPECT_EQ(icefield({"view", survey, "residuals", "--output", (folder / "r.png").string()}).status, 0);
  const auto again = icefield_json({"match", survey});
  EXPECT_EQ(again["computed_pairs"], 0);
  EXPECT_EQ(again["wide"], matched["wide"]);
}

}  // namespace
}  // namespace icefield
