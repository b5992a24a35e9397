// Terrain and what is read off it, by the tool.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cmath>
#include <fstream>
#include <nlohmann/json.hpp>
#include <set>

#include "icefield/base/random.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/ply_file.h"
#include "icefield/io/raster_file.h"
#include "icefield/io/tiled_cloud.h"
#include "icefield/io/vector_file.h"
#include "tests/tools/scenes.h"
#include "tests/tools/tool.h"

namespace icefield {
namespace {
namespace fs = std::filesystem;
using test::colours_in;
using test::icefield;
using test::icefield_json;
using testing::HasSubstr;

// A forefield from elsewhere, in a projected system: a slope with a heap of 100 cubic metres and a hut.
constexpr double kEast = 612000, kNorth = 5195000, kUp = 2100;
double ground_at(double x, double y) {
  return 0.15 * x + 0.6 * std::sin(0.2 * y);
}
bool in_hut(double x, double y) {
  return std::abs(x - 32) < 4 && std::abs(y - 28) < 3;
}
PointCloud elsewhere(double dug = 0) {
  PointCloud cloud;
  cloud.origin = {kEast, kNorth, kUp};
  cloud.datum.crs = "EPSG:25832", cloud.datum.units = "m", cloud.datum.axes = Axes::east_north_up;
  CounterRandom random(5);
  constexpr double kSpacing = 0.2;
  for (double y = 0; y < 40; y += kSpacing)
    for (double x = 0; x < 45; x += kSpacing) {
      const double px = x + random.uniform(0, kSpacing), py = y + random.uniform(0, kSpacing);
      double z = ground_at(px, py);
      if (in_hut(px, py)) z = ground_at(32, 28) + 4;
      if (std::abs(px - 20) < 3 && std::abs(py - 10) < 2) z -= dug;
      cloud.positions.emplace_back(static_cast<float>(px), static_cast<float>(py),
                                   static_cast<float>(z + 0.02 * random.normal()));
      cloud.errors.push_back(0.02f);
      cloud.colours.push_back({120, 118, 110});
    }
  return cloud;
}

const fs::path& folder() {
  static const fs::path made = [] {
    const fs::path at = test::scratch_folder() / "terrain";
    fs::create_directories(at);
    write_cloud(at / "cloud.ply", CloudFormat::ply, elsewhere(), 0.2);
    icefield_json(
        {"terrain", (at / "cloud.ply").string(), "--output", (at / "first").string(), "--set", "terrain.cell=0.25"});
    return at;
  }();
  return made;
}

TEST(Terrain, OfACloudFromElsewhere) {
  const fs::path first = folder() / "first";
  const RasterReader dsm(first / "dsm.tif"), dtm(first / "dtm.tif"), quality(first / "dsm_quality.tif");
  EXPECT_EQ(dsm.content().datum.crs, "EPSG:25832");
  EXPECT_EQ(dsm.content().frame.cell, 0.25);
  EXPECT_THAT(test::run({"/usr/bin/gdalinfo", (first / "dsm.tif").string()}).out,
              testing::AllOf(HasSubstr("ICEFIELD_EXPECTED_ERROR="), HasSubstr("ICEFIELD_POINT_SPACING=")));
  const ImageF surface = dsm.read(), ground = dtm.read(), sigma = quality.read(0), points = quality.read(1);
  const auto cell_at = [&](double x, double y) {
    const Eigen::Vector2d at = dsm.content().frame.at({kEast + x, kNorth + y});
    return std::pair(static_cast<int>(at.x()), static_cast<int>(at.y()));
  };
  const auto [hx, hy] = cell_at(32.1, 28.1);
  EXPECT_NEAR(surface.at(hx, hy), kUp + ground_at(32, 28) + 4, 0.05);
  EXPECT_NEAR(ground.at(hx, hy), kUp + ground_at(32.1, 28.1), 0.5) << "no roof in the DTM";
  for (const auto& [x, y] : {std::pair(5.0, 5.0), {20.0, 10.0}, {40.0, 35.0}}) {
    const auto [u, v] = cell_at(x + 0.1, y + 0.1);
    EXPECT_NEAR(surface.at(u, v), kUp + ground_at(x + 0.1, y + 0.1), 0.15);
    EXPECT_NEAR(ground.at(u, v), surface.at(u, v), 0.05);
    EXPECT_GT(sigma.at(u, v), 0);
    EXPECT_LT(sigma.at(u, v), 0.1);
    EXPECT_GT(points.at(u, v), 0);
  }
  const PointCloud classes = read_ply(first / "classes.ply");
  ASSERT_EQ(classes.size(), elsewhere().size()) << "nothing is deleted";
  std::size_t wrong = 0;
  for (std::size_t i = 0; i < classes.size(); ++i) {
    const Eigen::Vector3d p = classes.position(i) - Eigen::Vector3d(kEast, kNorth, kUp);
    wrong += (classes.classes[i] == static_cast<std::uint8_t>(PointClass::ground)) == in_hut(p.x(), p.y());
  }
  EXPECT_LT(wrong, classes.size() / 100);
  EXPECT_GT(TiledCloud(first / "classes.ply").points(), 0u);
}

TEST(Terrain, IsTheSameForAnyThreadsAndMemory) {
  for (const auto& [threads, memory] : {std::pair("1", "8G"), {"7", "64M"}}) {
    const fs::path other = folder() / (std::string("other") + threads);
    icefield_json({"terrain", (folder() / "cloud.ply").string(), "--output", other.string(), "--threads", threads,
                   "--memory", memory, "--set", "terrain.cell=0.25"});
    for (const char* name : {"dsm.tif", "dsm_quality.tif", "dtm.tif", "dtm_quality.tif", "classes.ply"})
      EXPECT_EQ(test::content_of(other / name), test::content_of(folder() / "first" / name)) << name << " " << threads;
  }
}

TEST(Terrain, OfALasWithHints) {
  PointCloud cloud = elsewhere();
  write_cloud(folder() / "cloud.las", CloudFormat::las, cloud, 0.2);
  // Ground is said to be on the roof.
  std::ofstream(folder() / "roof.txt") << fmt::format("{} {}\n{} {}\n{} {}\n{} {}\n", kEast + 30.5, kNorth + 26.5,
                                                      kEast + 33.5, kNorth + 26.5, kEast + 33.5, kNorth + 29.5,
                                                      kEast + 30.5, kNorth + 29.5);
  const fs::path out = folder() / "hinted";
  icefield_json({"terrain", (folder() / "cloud.las").string(), "--output", out.string(), "--set", "terrain.cell=0.25",
                 "--ground-within", (folder() / "roof.txt").string()});
  const auto ground_share = [&](const fs::path& of, double x0, double y0, double x1, double y1) {
    const PointCloud classes = read_cloud(of);
    std::size_t all = 0, ground = 0;
    for (std::size_t i = 0; i < classes.size(); ++i) {
      const Eigen::Vector3d p = classes.position(i) - Eigen::Vector3d(kEast, kNorth, kUp);
      if (p.x() < x0 || p.x() > x1 || p.y() < y0 || p.y() > y1) continue;
      ++all, ground += classes.classes[i] == static_cast<std::uint8_t>(PointClass::ground);
    }
    EXPECT_GT(all, 20u);
    return static_cast<double>(ground) / static_cast<double>(all);
  };
  EXPECT_EQ(RasterReader(out / "dtm.tif").content().datum.crs, "EPSG:25832");
  EXPECT_GT(ground_share(out / "classes.ply", 31, 27, 33, 29), 0.9);
  EXPECT_EQ(ground_share(folder() / "first" / "classes.ply", 31, 27, 33, 29), 0);
  const auto crossed = icefield({"terrain", (folder() / "cloud.las").string(), "--output", out.string(), "--set",
                                 "terrain.other_within=1 2, 3 4"});
  EXPECT_EQ(crossed.status, 2);
  EXPECT_THAT(crossed.error, HasSubstr("corners"));
  // Outlines that cannot be meant.
  std::ofstream(folder() / "bow_hint.txt")
      << fmt::format("{} {}\n{} {}\n{} {}\n{} {}\n", kEast + 2, kNorth + 2, kEast + 8, kNorth + 8, kEast + 8,
                     kNorth + 2, kEast + 2, kNorth + 8);
  std::ofstream(folder() / "away_hint.txt") << "1 1\n2 1\n2 2\n";
  for (const auto& [file, why] :
       {std::pair("bow_hint.txt", "crosses itself"), {"away_hint.txt", "outside of the cloud"}}) {
    const auto ran = icefield({"terrain", (folder() / "cloud.las").string(), "--output", out.string(), "--other-within",
                               (folder() / file).string()});
    EXPECT_EQ(ran.status, 2) << file;
    EXPECT_THAT(ran.error, HasSubstr(why));
  }
  EXPECT_EQ(icefield({"terrain", (folder() / "cloud.las").string(), "--output", out.string(), "--ground-within",
                      (folder() / "none.txt").string()})
                .status,
            3);
}

TEST(Terrain, RefusesWhatItCannotDo) {
  const std::string cloud = (folder() / "cloud.ply").string(), out = (folder() / "bad").string();
  EXPECT_EQ(icefield({"terrain", cloud}).status, 2);
  const auto small = icefield({"terrain", cloud, "--output", out, "--set", "terrain.cell=0.000001"});
  EXPECT_EQ(small.status, 2);
  EXPECT_THAT(small.error, HasSubstr("cells"));
  EXPECT_EQ(icefield({"terrain", cloud, "--output", out, "--set", "terrain.cell=-1"}).status, 2);
  EXPECT_EQ(icefield({"terrain", cloud, "--output", out, "--set", "dense.shrink=2"}).status, 2);
  PointCloud one;
  one.positions.emplace_back(1, 2, 3);
  write_cloud(folder() / "one.ply", CloudFormat::ply, one, 1);
  EXPECT_EQ(icefield({"terrain", (folder() / "one.ply").string(), "--output", out}).status, 1);
  PointCloud degrees = elsewhere();
  degrees.datum.crs = "EPSG:4326", degrees.datum.units = "degree";
  write_cloud(folder() / "degrees.ply", CloudFormat::ply, degrees, 0.2);
  const auto geographic = icefield({"terrain", (folder() / "degrees.ply").string(), "--output", out});
  EXPECT_NE(geographic.status, 0);
  EXPECT_THAT(geographic.error, HasSubstr("degrees"));
  // A wall has no ground; strays far below are none.
  PointCloud odd = elsewhere();
  for (int i = 0; i < 30; ++i) {
    odd.positions.emplace_back(1 + 1.3f * static_cast<float>(i), 20 + 0.4f * static_cast<float>(i % 5), -400.0f);
    odd.errors.push_back(0.02f), odd.colours.push_back({0, 0, 0});
  }
  write_cloud(folder() / "odd.ply", CloudFormat::ply, odd, 0.2);
  const auto strays = icefield_json(
      {"terrain", (folder() / "odd.ply").string(), "--output", out, "--set", "terrain.cell=0.5"})["blocks"][0];
  EXPECT_GT(strays["dtm"]["low"].get<double>(), kUp - 5);
  EXPECT_EQ(strays["classes"]["noise"], 30);
}

TEST(Heights, GiveWhatAGisAsksFor) {
  const fs::path dsm = folder() / "first/dsm.tif", out = folder() / "read";
  fs::create_directories(out);
  std::ofstream(out / "line.txt") << std::fixed << kEast + 5 << " " << kNorth + 5 << "\n"
                                  << std::fixed << kEast + 25 << " " << kNorth + 5 << "\n";
  const auto json =
      icefield_json({"heights", dsm.string(), "--hillshade", (out / "light.tif").string(), "--slope",
                     (out / "slope.tif").string(), "--contours", (out / "lines.gpkg").string(), "--every", "0.5",
                     "--profile", (out / "line.txt").string(), "--profile-output", (out / "profile.csv").string(),
                     "--picture", (out / "map.png").string(), "--by", "contours"});
  EXPECT_EQ(json["raster"]["with_errors"], true);
  EXPECT_GT(colours_in(out / "map.png"), 200u);
  const RasterReader light(out / "light.tif"), slope(out / "slope.tif");
  EXPECT_EQ(light.content().frame.corner, RasterReader(dsm).content().frame.corner);
  EXPECT_EQ(light.content().datum.crs, "EPSG:25832");
  const ImageF s = slope.read();
  EXPECT_NEAR(s.at(20, 20), std::atan(std::hypot(0.15, 0.12 * std::cos(0.2 * 34.9))) * 180 / M_PI, 4);
  const ShapeLayer lines = read_shapes(out / "lines.gpkg", RasterReader(dsm).content().datum);
  EXPECT_EQ(lines.shapes.size(), json["contours"]["lines"].get<std::size_t>());
  std::set<double> levels;
  for (const Shape& line : lines.shapes) levels.insert(line.numbers.at("height"));
  for (const double level : levels) EXPECT_EQ(std::fmod(level, 0.5), 0);
  EXPECT_GT(levels.size(), 8u);
  const std::string table = test::content_of(out / "profile.csv");
  EXPECT_EQ(std::count(table.begin(), table.end(), '\n'), 82);  // a heading, 81 places
  EXPECT_EQ(icefield({"heights", dsm.string(), "--profile", (out / "line.txt").string()}).status, 2);
  EXPECT_EQ(icefield({"heights", (out / "none.tif").string()}).status, 3);
  EXPECT_EQ(icefield({"heights", (folder() / "cloud.ply").string()}).status, 3);
}

TEST(Heights, MeasureVolumesAndChanges) {
  write_cloud(folder() / "later.ply", CloudFormat::ply, elsewhere(0.5), 0.2);
  icefield_json({"terrain", (folder() / "later.ply").string(), "--output", (folder() / "second").string(), "--set",
                 "terrain.cell=0.25"});
  const fs::path before = folder() / "first/dtm.tif", after = folder() / "second/dtm.tif",
                 outline = folder() / "pit.txt";
  std::ofstream(outline) << std::fixed << kEast + 16 << " " << kNorth + 7 << "\n"
                         << kEast + 24 << " " << kNorth + 7 << "\n"
                         << kEast + 24 << " " << kNorth + 13 << "\n"
                         << kEast + 16 << " " << kNorth + 13 << "\n";
  const auto volume =
      icefield_json({"heights", after.string(), "--volume", outline.string(), "--base", "rim"})["volumes"][0];
  EXPECT_NEAR(volume["net"].get<double>(), -12, 1.2);
  EXPECT_GT(volume["sigma"].get<double>(), 0);
  EXPECT_NEAR(volume["area"].get<double>(), 48, 1e-3);
  const auto json = icefield_json({"heights", before.string(), "--later", after.string(), "--difference",
                                   (folder() / "change.tif").string(), "--picture", (folder() / "change.png").string(),
                                   "--by", "change"});
  EXPECT_NEAR(json["change"]["lost_surely"].get<double>(), 12, 1);
  EXPECT_LT(json["change"]["gained_surely"].get<double>(), 1);
  const RasterReader change(folder() / "change.tif");
  ASSERT_EQ(change.content().bands.size(), 2u);
  const Eigen::Vector2d at = change.content().frame.at({kEast + 20, kNorth + 10});
  EXPECT_NEAR(change.read(0).at(static_cast<int>(at.x()), static_cast<int>(at.y())), -0.5, 0.06);
  EXPECT_GT(change.read(1).at(static_cast<int>(at.x()), static_cast<int>(at.y())), 1.96f);
  EXPECT_GT(colours_in(folder() / "change.png"), 50u);
  // Outlines that are none.
  std::ofstream(folder() / "bow.txt") << "612016 5195007\n612024 5195013\n612024 5195007\n612016 5195013\n";
  const auto bow = icefield({"heights", after.string(), "--volume", (folder() / "bow.txt").string()});
  EXPECT_EQ(bow.status, 2);
  EXPECT_THAT(bow.error, HasSubstr("crosses itself"));
  std::ofstream(folder() / "away.txt") << "1 1\n2 1\n2 2\n";
  EXPECT_EQ(icefield({"heights", after.string(), "--volume", (folder() / "away.txt").string()}).status, 2);
}

// A cairn stands in for a flight: the step in a survey.
TEST(Terrain, OfASurveyIsFreshStaleAndShown) {
  const fs::path made = test::rendered("cairn", test::small_cairn()),
                 survey = test::scratch_folder() / "terrain-survey";
  icefield_json({"begin", survey.string(), (made / "photos").string(), "--effort", "draft"});
  icefield_json({"run", survey.string()});
  EXPECT_EQ(icefield_json({"status", survey.string()})["steps"].size(), 3u);
  // Before anything dense: is it covered?
  const fs::path cover = folder() / "overlap.tif";
  const auto overlap = icefield_json({"overlap", survey.string(), "--output", cover.string()})["overlap"][0];
  EXPECT_EQ(overlap["outcome"], "made");
  EXPECT_EQ(overlap["photos_stand"], "beside");  // a part of a ring
  EXPECT_EQ(icefield_json({"pose", survey.string()})["overlap"][0], overlap);
  const RasterReader covered(cover);
  EXPECT_EQ(covered.content().bands.size(), 4u);
  const ImageF views = covered.read(0);
  EXPECT_GE(*std::max_element(views.data().begin(), views.data().end()), 3);
  EXPECT_EQ(
      icefield({"view", survey.string(), "overlap", "--by", "angle", "--output", (folder() / "o.png").string()}).status,
      0);
  EXPECT_GT(colours_in(folder() / "o.png"), 50u);
  EXPECT_EQ(icefield({"view", survey.string(), "overlap", "--by", "slope"}).status, 2);
  EXPECT_EQ(icefield({"overlap", survey.string(), "--block", "7"}).status, 2);
  EXPECT_THAT(icefield({"view", survey.string(), "terrain"}).error, HasSubstr("icefield terrain"));
  const auto block = icefield_json({"terrain", survey.string(), "--set", "terrain.widest=1"})["blocks"][0];
  EXPECT_EQ(block["outcome"], "made");
  EXPECT_GT(block["dsm"]["measured"].get<int>(), 1000);
  // Cells as the photos' pixels on the subject, whatever lies far behind it; the draft's points lie some pixels apart.
  EXPECT_LT(block["cell"].get<double>(), block["spacing"].get<double>());
  EXPECT_GT(block["cell"].get<double>(), 0.1 * block["spacing"].get<double>());
  const fs::path results = survey / "results/block-1";
  for (const char* name : {"dsm.tif", "dsm_quality.tif", "dtm.tif", "dtm_quality.tif", "classes.ply"})
    EXPECT_TRUE(fs::exists(results / name)) << name;
  EXPECT_EQ(icefield_json({"terrain", survey.string()})["blocks"][0]["fresh"], true);
  // Outlines of a survey without a datum are kept, and make it stale.
  std::ofstream(folder() / "bare_hint.txt") << "0.3 0.3\n0.5 0.3\n0.5 0.5\n0.3 0.5\n";
  EXPECT_EQ(icefield_json({"terrain", survey.string(), "--other-within",
                           (folder() / "bare_hint.txt").string()})["blocks"][0]["fresh"],
            false);
  EXPECT_THAT(test::content_of(survey / "survey.toml"), HasSubstr("0.3 0.3, 0.5 0.3"));
  icefield_json({"terrain", survey.string(), "--set", "terrain.other_within="});
  for (const auto& step : icefield_json({"status", survey.string()})["steps"])
    EXPECT_EQ(step["state"], "fresh") << step;
  for (const char* by : {"height", "slope", "error", "distance", "classes", "contours"}) {
    const fs::path picture = survey / (std::string(by) + ".png");
    icefield_json({"view", survey.string(), "terrain", "--by", by, "--output", picture.string()});
    EXPECT_GT(colours_in(picture), 20u) << by;
  }
  EXPECT_EQ(icefield({"view", survey.string(), "terrain", "--by", "support"}).status, 2);
  // The orthomosaic over it, its photos and seams; one photo alone; and the same from files as from elsewhere.
  const auto mosaic = icefield_json({"orthomosaic", survey.string()})["blocks"][0];
  EXPECT_EQ(mosaic["outcome"], "made");
  EXPECT_EQ(mosaic["over"], "dsm");
  EXPECT_GT(mosaic["seen_cells"].get<int>(), 1000);
  EXPECT_GT(mosaic["photos"].get<int>(), 2);
  EXPECT_EQ(icefield_json({"orthomosaic", survey.string()})["blocks"][0]["fresh"], true);
  EXPECT_EQ(icefield_json({"run", survey.string(), "--to", "orthomosaic"})["blocks"][0]["fresh"], true);
  const RasterReader picture(results / "orthomosaic.tif"), surface(results / "dsm.tif");
  EXPECT_EQ(picture.content().values, RasterValues::picture);
  EXPECT_EQ(picture.content().frame.columns, surface.content().frame.columns);
  EXPECT_EQ(picture.content().frame.corner, surface.content().frame.corner);
  const RasterReader of_cell(results / "photo_of_cell.tif");
  EXPECT_EQ(of_cell.content().notes.at("ICEFIELD_PHOTO_1").substr(0, 5), "cairn");
  const ShapeLayer seams = read_shapes(results / "seams.gpkg");
  ASSERT_FALSE(seams.shapes.empty());
  EXPECT_NE(seams.shapes[0].texts.at("left"), seams.shapes[0].texts.at("right"));
  EXPECT_FALSE(shapes_fingerprint(results / "seams.gpkg").empty());
  for (const char* by : {"orthomosaic", "photos"}) {
    const fs::path map = survey / (std::string(by) + ".png");
    icefield_json({"view", survey.string(), "terrain", "--by", by, "--output", map.string()});
    EXPECT_GT(colours_in(map), 50u) << by;
  }
  const std::string some_photo = seams.shapes[0].texts.at("left");
  const auto one = icefield_json(
      {"orthomosaic", survey.string(), "--photo", some_photo, "--output", (survey / "one.tif").string()})["blocks"][0];
  EXPECT_EQ(one["photos"], 1);
  EXPECT_LT(one["seen_cells"].get<int>(), mosaic["seen_cells"].get<int>());
  EXPECT_GT(one["seen_cells"].get<int>(), 100);
  EXPECT_EQ(icefield({"orthomosaic", survey.string(), "--photo", some_photo}).status, 2);
  EXPECT_EQ(icefield({"orthomosaic", survey.string(), "--photo", "none.jpg", "--output", "x.tif"}).status, 2);
  EXPECT_EQ(icefield({"orthomosaic", survey.string(), "--output", "x.tif"}).status, 2);
  icefield_json({"orthomosaic", (results / "dsm.tif").string(), "--ground", (results / "dtm.tif").string(), "--cameras",
                 (results / "cameras.json").string(), "--photos", (made / "photos").string(), "--output",
                 (survey / "else.tif").string(), "--threads", "1"});
  const int columns = picture.content().frame.columns, rows = picture.content().frame.rows;
  const ImageU8 ours = picture.read_picture(0, 0, columns, rows),
                theirs = RasterReader(survey / "else.tif").read_picture(0, 0, columns, rows);
  std::size_t unlike = 0;
  for (std::size_t i = 0; i < ours.data().size(); ++i) unlike += std::abs(ours.data()[i] - theirs.data()[i]) > 8;
  EXPECT_LT(unlike, ours.data().size() / 100) << "poses as a file has them, rounded";
  // The same bytes for other threads and memory, seams included.
  icefield_json({"orthomosaic", (results / "dsm.tif").string(), "--ground", (results / "dtm.tif").string(), "--cameras",
                 (results / "cameras.json").string(), "--photos", (made / "photos").string(), "--output",
                 (survey / "again.tif").string(), "--threads", "7", "--memory", "64M"});
  for (const char* part : {".tif", "_photo_of_cell.tif", "_seams.gpkg"})
    EXPECT_EQ(test::content_of(survey / (std::string("else") + part)),
              test::content_of(survey / (std::string("again") + part)))
        << part;
  // Killed in the middle: what was there stays whole or is made anew, and is the same.
  const std::string before_kills = test::content_of(results / "orthomosaic.tif");
  fs::remove(results / "orthomosaic.tif");
  bool made_it = false;
  for (int k = 1; k < 12 && !made_it; ++k)
    made_it = test::run_and_kill({ICEFIELD_TOOL, "orthomosaic", survey.string()}, 60 * k);
  icefield_json({"orthomosaic", survey.string()});
  EXPECT_EQ(test::content_of(results / "orthomosaic.tif"), before_kills);
  // For other programs.
  const auto written = icefield_json({"export", survey.string(), "--orthomosaic", (folder() / "o.jpg").string(),
                                      "--tiles", (folder() / "tiles").string()})["written"];
  EXPECT_EQ(written.size(), 3u);
  EXPECT_TRUE(fs::exists(folder() / "o.jgw"));
  EXPECT_TRUE(fs::exists(folder() / "tiles/index.html"));
  // A drawing of a side.
  std::ofstream(folder() / "side.txt") << "# X Y Z\n0.2 -0.2 0\n0.2, 0.2, 0\n0.15 0.1 0.4\n";
  const auto side = icefield_json({"facade", survey.string(), "--corners", (folder() / "side.txt").string(), "--output",
                                   (folder() / "side.png").string(), "--relief", (folder() / "side.tif").string()});
  EXPECT_EQ(side["outcome"], "made");
  EXPECT_EQ(side["files"].size(), 3u);
  EXPECT_GT(side["surface_percent"].get<double>(), 1);
  EXPECT_GT(fs::file_size(folder() / "side.png"), 5000u);
  EXPECT_EQ(icefield({"facade", survey.string(), "--output", (folder() / "x.tif").string()}).status, 2);
  std::ofstream(folder() / "line.txt") << "0 0 0\n1 1 1\n2 2 2\n";
  EXPECT_EQ(icefield({"facade", survey.string(), "--corners", (folder() / "line.txt").string(), "--output",
                      (folder() / "x.tif").string()})
                .status,
            2);
  std::ofstream(folder() / "odd.txt") << "0 0 0\n1 one 1\n";
  const auto odd = icefield({"facade", survey.string(), "--corners", (folder() / "odd.txt").string(), "--output",
                             (folder() / "x.tif").string()});
  EXPECT_EQ(odd.status, 3);
  EXPECT_THAT(odd.error, HasSubstr("line 2"));
  EXPECT_EQ(icefield({"orthomosaic", (results / "dsm.tif").string(), "--output", "x.tif"}).status, 2);
  EXPECT_EQ(
      icefield({"orthomosaic", (results / "orthomosaic.tif").string(), "--cameras", (results / "cameras.json").string(),
                "--photos", (made / "photos").string(), "--output", (survey / "bad.tif").string()})
          .status,
      3);
  const auto leaning = icefield({"orthomosaic", survey.string(), "--set", "orthomosaic.over_ground=true"});
  EXPECT_EQ(leaning.status, 0);
  EXPECT_THAT(leaning.error + leaning.out, HasSubstr("lean"));
  const auto whole_size = fs::file_size(results / "orthomosaic.tif");
  icefield_json(
      {"orthomosaic", survey.string(), "--set", "orthomosaic.over_ground=false", "--set", "orthomosaic.lossy=true"});
  EXPECT_LT(fs::file_size(results / "orthomosaic.tif"), whole_size / 2);
  icefield_json({"settings", survey.string(), "--set", "orthomosaic.lossy=false"});
  // Asked for once, it is made again by `run`, and named as its end.
  EXPECT_EQ(icefield_json({"run", survey.string()})["blocks"][0]["seen_cells"], mosaic["seen_cells"]);
  EXPECT_EQ(icefield_json({"run", survey.string(), "--to", "terrain"})["blocks"][0]["fresh"], true);
  EXPECT_EQ(icefield({"terrain", survey.string(), "--output", "x"}).status, 2);
  // Another setting makes it stale; back again it is fresh without work, and an edited file is put aside.
  icefield_json({"settings", survey.string(), "--set", "terrain.widest=2"});
  EXPECT_EQ(icefield_json({"status", survey.string()})["steps"].back()["state"], "stale");
  EXPECT_EQ(icefield({"view", survey.string(), "terrain"}).status, 2);
  EXPECT_EQ(icefield({"view", survey.string(), "terrain", "--by", "orthomosaic"}).status, 2);
  icefield_json({"settings", survey.string(), "--set", "terrain.widest=1"});
  EXPECT_EQ(icefield_json({"terrain", survey.string()})["blocks"][0]["fresh"], true);
  const std::string whole = test::content_of(results / "dtm.tif");
  std::ofstream(results / "dtm.tif", std::ios::app) << "more";
  const auto again = icefield_json({"terrain", survey.string()})["blocks"][0];
  EXPECT_EQ(again["fresh"], false);
  EXPECT_EQ(test::content_of(results / "dtm.tif"), whole);
  EXPECT_TRUE(fs::exists(results / "dtm.changed.tif"));
  // Killed in the middle it loses nothing and leaves nothing half.
  icefield_json({"settings", survey.string(), "--set", "terrain.cell=0.01"});
  bool ended = false;
  for (int k = 0; k < 12 && !ended; ++k)
    ended = test::run_and_kill({ICEFIELD_TOOL, "terrain", survey.string()}, 40 * k);
  icefield_json({"terrain", survey.string()});
  const std::string after = test::content_of(results / "dsm.tif");
  fs::remove(results / "dsm.tif");
  icefield_json({"terrain", survey.string()});
  EXPECT_EQ(test::content_of(results / "dsm.tif"), after);
  for (const auto& entry : fs::directory_iterator(results)) {
    EXPECT_NE(entry.path().extension(), ".part");
    EXPECT_NE(entry.path().extension(), ".work");
  }
}

}  // namespace
}  // namespace icefield
