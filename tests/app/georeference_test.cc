// A flight brought into a national grid by the tool: control and check points, positions of photos, known lengths, and
// what is wrong with them.
#include <fmt/format.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cstring>
#include <map>
#include <nlohmann/json.hpp>
#include <set>

#include "icefield/io/camera_file.h"
#include "icefield/io/control_file.h"
#include "icefield/io/photo_file.h"
#include "icefield/base/statistics.h"
#include "icefield/io/mesh_file.h"
#include "icefield/io/ply_file.h"
#include "icefield/io/raster_file.h"
#include "icefield/surface/sample_mesh.h"
#include "icefield/terrain/relief.h"
#include "icefield/io/text_file.h"
#include "simulate/survey_control.h"
#include "simulate/target_photo.h"
#include "tests/tools/scenes.h"
#include "tests/tools/tool.h"

namespace icefield {
namespace {
namespace fs = std::filesystem;
using test::icefield;
using test::icefield_json;
using testing::HasSubstr;
using testing::Not;

const fs::path& posed_flight() {
  static const fs::path folder = [] {
    const fs::path survey = test::scratch_folder() / "flight-posed";
    const fs::path photos = test::rendered("flight", test::small_flight()) / "photos";
    EXPECT_EQ(icefield({"begin", survey.string(), photos.string(), "--effort", "draft"}).status, 0);
    EXPECT_EQ(icefield({"pose", survey.string()}).status, 0);
    return survey;
  }();
  return folder;
}

fs::path copy_of_flight(const std::string& name) {
  const fs::path folder = test::scratch_folder() / name;
  fs::remove_all(folder);
  fs::copy(posed_flight(), folder, fs::copy_options::recursive);
  return folder;
}

fs::path control(const std::string& fault = "none", const std::string& crs = "EPSG:25832+7837",
                 bool positions = false) {
  const fs::path folder = test::scratch_folder() / fmt::format("control-{}-{}-{}", fault, crs.substr(5), positions);
  if (fs::exists(folder)) return folder;
  simulate::SurveyControlOptions options;
  options.crs = crs;
  options.fault = fault;
  options.plan.point_sigma_m = 0.02;
  options.plan.fixes = positions;
  options.plan.fix_sigma_m = options.plan.fix_height_sigma_m = 0.05;
  simulate::write_survey_control(test::rendered("flight", test::small_flight()), folder, options);
  return folder;
}

test::Ran place(const fs::path& survey, const fs::path& tables, std::vector<std::string> more = {}) {
  std::vector<std::string> words = {"georeference", survey.string(),
                                    "--crs",        "EPSG:25832+7837",
                                    "--control",    (tables / "points.csv").string(),
                                    "--marks",      (tables / "marks.csv").string()};
  words.insert(words.end(), more.begin(), more.end());
  return icefield(words);
}

std::string file_of(const fs::path& survey, const char* name) {
  return test::content_of(survey / "results/block-1" / name);
}

TEST(Georeference, BringsAFlightIntoItsGridAndEveryFileWithIt) {
  const fs::path survey = copy_of_flight("whole");
  const std::string free_cameras = file_of(survey, "cameras.json");
  const fs::path tables = control();
  const test::Ran placed = place(survey, tables);
  ASSERT_EQ(placed.status, 0) << placed.error;
  EXPECT_THAT(placed.out, HasSubstr("placed by 5 control points"));
  EXPECT_THAT(placed.out, HasSubstr("check points, plan"));
  const auto json = icefield_json({"georeference", survey.string()});  // fresh: nothing is computed
  std::map<std::string, Eigen::Vector3d> truth;
  for (const ControlPointRow& row : read_control_points(tables / "truth.csv").points) truth[row.name] = row.place;
  double squares = 0, pixels = 0;
  int checked = 0;
  const nlohmann::json points = json["blocks"][0]["points"];
  for (const auto& point : points) {
    if (point["use"] != "check") continue;
    EXPECT_FALSE(point["used"].get<bool>());
    const auto p = point["position"].get<std::vector<double>>();
    squares += (Eigen::Vector3d(p[0], p[1], p[2]) - truth.at(point["name"])).squaredNorm();
    pixels = std::max(pixels, point["error_px"].get<double>());
    ++checked;
  }
  ASSERT_EQ(checked, 4);
  EXPECT_LT(std::sqrt(squares / checked), 0.15);  // pixels of these small photos are 0.11 m on the ground
  EXPECT_LT(pixels, 1.5);

  const CameraFile cameras = read_camera_file(survey / "results/block-1/cameras.json");
  EXPECT_EQ(cameras.datum.crs, "EPSG:25832+7837");
  EXPECT_EQ(cameras.datum.units, "m");
  EXPECT_EQ(cameras.origin, Eigen::Vector3d(633540, 5184430, 2310));
  const simulate::ScenePlaces places("EPSG:25832+7837");
  const auto planned = simulate::plan_photos(test::small_flight());
  for (std::size_t i = 0; i < cameras.photos.size(); ++i)
    for (const simulate::PlannedPhoto& photo : planned)
      if (photo.name == cameras.photos[i].name) {
        EXPECT_LT((cameras.origin + cameras.photos[i].pose.centre - places(photo.shot.pose.centre)).norm(), 0.5)
            << photo.name;
      }
  // `compare` with truth in the same CRS says how far off all is, without any fit.
  CameraFile in_grid = read_camera_file(test::rendered("flight", test::small_flight()) / "truth/cameras.json");
  in_grid.datum = cameras.datum, in_grid.origin = cameras.origin, in_grid.bounds.reset();
  for (CameraFile::Photo& photo : in_grid.photos) photo.pose.centre = places(photo.pose.centre) - cameras.origin;
  write_camera_file(survey / "grid.json", in_grid);
  const auto compared = icefield_json({"compare", survey.string(), "--cameras", (survey / "grid.json").string()});
  EXPECT_EQ(compared["places"]["photos"], cameras.photos.size());
  EXPECT_LT(compared["places"]["largest"].get<double>(), 0.5);
  in_grid.origin.z() += 10;
  write_camera_file(survey / "grid.json", in_grid);
  const auto moved = icefield_json({"compare", survey.string(), "--cameras", (survey / "grid.json").string()});
  EXPECT_NEAR(moved["places"]["mean"][2].get<double>(), compared["places"]["mean"][2].get<double>() - 10, 1e-3);

  const PointCloud tie_points = read_ply(survey / "results/block-1/tie_points.ply");
  EXPECT_EQ(tie_points.datum.crs, "EPSG:25832+7837");
  EXPECT_NEAR(tie_points.position(0).y(), 5184430, 500);

  // The cloud after it, in the same grid, and other programs' files.
  ASSERT_EQ(icefield({"densify", survey.string(), "--set", "dense.coarse_iterations=2"}).status, 0);
  const PointCloud cloud = read_ply(survey / "results/block-1/dense.ply");
  EXPECT_EQ(cloud.datum.crs, "EPSG:25832+7837");
  const Bounds& box = *cameras.bounds;
  std::size_t inside = 0;
  for (std::size_t i = 0; i < cloud.size(); ++i)
    inside +=
        ((cloud.position(i) - cameras.origin - box.centre).cwiseAbs().array() < 1.1 * box.half_size.array()).all();
  EXPECT_GT(cloud.size(), 1000u);
  EXPECT_EQ(inside, cloud.size());
  const fs::path las = survey / "c.las", old = survey / "old.las";
  ASSERT_EQ(icefield({"export", survey.string(), "--cloud", las.string()}).status, 0);
  ASSERT_EQ(icefield({"export", survey.string(), "--cloud", old.string(), "--las", "1.2"}).status, 0);
  const std::string head = test::content_of(las), old_head = test::content_of(old);
  const auto byte = [](const std::string& file, std::size_t at) {
    return static_cast<int>(static_cast<unsigned char>(file[at]));
  };
  EXPECT_EQ(byte(head, 6), 16);  // there is a WKT, and the head says so
  EXPECT_EQ(byte(head, 25), 4);
  EXPECT_THAT(head.substr(0, 4000), HasSubstr("COMPD_CS[\"ETRS89 / UTM zone 32N"));
  EXPECT_EQ(byte(old_head, 6), 0);
  EXPECT_EQ(byte(old_head, 25), 2);
  EXPECT_EQ(byte(old_head, 104), 2);
  std::uint32_t count = 0;
  std::memcpy(&count, old_head.data() + 107, 4);
  EXPECT_EQ(count, cloud.size());
  EXPECT_EQ((old_head.size() - 227 - 54) % 26, (8u * 4) % 26);  // a record of three keys and their number, then points
  double highest_x = 0;
  std::memcpy(&highest_x, old_head.data() + 179, 8);
  EXPECT_NEAR(highest_x, 633540, 300);
  ASSERT_EQ(icefield({"view", survey.string(), "control", "--output", (survey / "control.png").string()}).status, 0);
  ASSERT_EQ(icefield({"view", survey.string(), "cloud", "--output", (survey / "cloud.png").string()}).status, 0);

  // Mesh and texture lie on the cloud and look like it, in the same grid.
  ASSERT_EQ(icefield({"run", survey.string(), "--to", "texture", "--set", "mesh.sharpen=2", "--set",
                      "dense.coarse_iterations=2", "--set", "texture.page_size=1024"})
                .status,
            0);
  const Mesh mesh = read_mesh(survey / "results/block-1/mesh.ply");
  EXPECT_EQ(mesh.datum.crs, "EPSG:25832+7837");
  PointCloud corners = sample_mesh(mesh, 1.0);
  const auto nearest = [&](const PointCloud& of) {
    PointCloud beside = of;
    for (std::size_t i = 0; i < of.size(); ++i) beside.positions[i] = (of.position(i) - cloud.origin).cast<float>();
    beside.origin = cloud.origin;
    return median(distances(beside, cloud, Executor(2)));
  };
  const double apart = typical_spacing(cloud);  // of the draft's points, some eight pixels of 0.11 m
  EXPECT_LT(nearest(corners), 0.6 * apart);
  const TexturedMesh painted = read_textured_mesh(survey / "results/block-1/textured.glb");
  ASSERT_FALSE(painted.texture.empty());
  EXPECT_LT(nearest(sample_mesh(painted.mesh, 1.0)), 0.6 * apart);
  // And so do the rasters: where the cloud has a point, the surface has its height.
  icefield_json({"terrain", survey.string()});
  const RasterReader surface(survey / "results/block-1/dsm.tif");
  EXPECT_EQ(surface.content().datum.crs, "EPSG:25832");
  EXPECT_EQ(surface.content().datum.vertical_crs, "EPSG:7837");
  const ImageF heights = surface.read();
  std::vector<double> rise;
  const PointCloud classed = read_ply(survey / "results/block-1/classes.ply");
  for (std::size_t i = 0; i < classed.size(); i += 7) {
    const double z = height_at(heights, surface.content().frame, classed.position(i).head<2>());
    if (std::isfinite(z)) rise.push_back(classed.position(i).z() - z);
  }
  ASSERT_GT(rise.size(), classed.size() / 10);
  EXPECT_NEAR(median(rise), 0, 0.3 * apart);
  // The orthomosaic has the colours of the cloud where its points lie.
  icefield_json({"orthomosaic", survey.string()});
  const RasterReader mosaic(survey / "results/block-1/orthomosaic.tif");
  EXPECT_EQ(mosaic.content().datum.crs, "EPSG:25832");
  const GridFrame& cells = mosaic.content().frame;
  const ImageU8 picture = mosaic.read_picture(0, 0, cells.columns, cells.rows);
  double same = 0, beside = 0, looked = 0;
  for (std::size_t i = 0; i < classed.size(); i += 3) {
    const Eigen::Vector2d at = cells.at(classed.position(i).head<2>());
    const int x = static_cast<int>(at.x()), y = static_cast<int>(at.y()),
              far = x + static_cast<int>(4 * apart / cells.cell);
    if (x < 0 || y < 0 || far >= cells.columns || y >= cells.rows) continue;
    if (picture.at(x, y, 3) == 0 || picture.at(far, y, 3) == 0) continue;
    ++looked;
    same += std::abs(picture.at(x, y, 1) - classed.colours[i][1]);
    beside += std::abs(picture.at(far, y, 1) - classed.colours[i][1]);
  }
  ASSERT_GT(looked, 500);
  EXPECT_LT(same, 0.8 * beside) << "in place it is more alike than a few points beside";
  const auto textured = icefield_json({"texture", survey.string()});
  EXPECT_LT(textured["blocks"][0]["filled_percent"].get<double>(), 20);

  // Giving it up brings back the blocks as they were, byte for byte, and back again.
  const std::string placed_cameras = file_of(survey, "cameras.json");
  ASSERT_EQ(icefield({"georeference", survey.string(), "--off"}).status, 0);
  EXPECT_EQ(file_of(survey, "cameras.json"), free_cameras);
  ASSERT_EQ(icefield({"georeference", survey.string()}).status, 0);
  EXPECT_EQ(file_of(survey, "cameras.json"), placed_cameras);
}

TEST(Georeference, GoesStaleWithWhatItRestsOn) {
  const fs::path survey = copy_of_flight("stale");
  ASSERT_EQ(place(survey, control()).status, 0);
  const std::string first = file_of(survey, "cameras.json");
  const auto state = [&] {
    const nlohmann::json steps = icefield_json({"status", survey.string()})["steps"];
    for (const auto& step : steps)
      if (step["step"] == "georeference") return step;
    return nlohmann::json();
  };
  EXPECT_EQ(state()["state"], "fresh");
  ASSERT_EQ(icefield({"adjust", survey.string(), "--fix", "focal"}).status, 0);
  EXPECT_EQ(state()["state"], "stale");
  EXPECT_THAT(state()["reasons"].dump(), HasSubstr("adjusted"));
  const test::Ran refused = icefield({"export", survey.string(), "--cameras", (survey / "c.json").string()});
  EXPECT_EQ(refused.status, 2);
  EXPECT_THAT(refused.error, HasSubstr("run `icefield georeference"));
  ASSERT_EQ(icefield({"run", survey.string(), "--to", "georeference"}).status, 0);
  EXPECT_NE(file_of(survey, "cameras.json"), first);
  ASSERT_EQ(icefield({"adjust", survey.string(), "--undo"}).status, 0);
  ASSERT_EQ(icefield({"georeference", survey.string()}).status, 0);
  EXPECT_EQ(file_of(survey, "cameras.json"), first);
  // An edit by hand of a table.
  const fs::path table = survey / "control/points.csv";
  std::string text = read_file(table);
  text.replace(text.find("check"), 5, "control");
  write_file(table, text);
  EXPECT_THAT(state()["reasons"].dump(), HasSubstr("known points have changed"));
  const auto again = icefield_json({"georeference", survey.string()});
  EXPECT_THAT(again["blocks"][0]["outcome"].get<std::string>(), HasSubstr("6 control points"));
}

TEST(Georeference, GivesTheSameBytesWithAnyNumberOfThreads) {
  std::vector<std::string> files;
  for (const char* threads : {"1", "5"}) {
    const fs::path survey = copy_of_flight(std::string("threads-") + threads);
    ASSERT_EQ(place(survey, control("none", "EPSG:25832+7837", true),
                    {"--positions", (control("none", "EPSG:25832+7837", true) / "positions.csv").string(), "--threads",
                     threads})
                  .status,
              0);
    files.push_back(file_of(survey, "cameras.json") + file_of(survey, "tie_points.ply"));
  }
  EXPECT_EQ(files[0], files[1]);
}

TEST(Georeference, NamesWhatIsWrong) {
  const fs::path survey = copy_of_flight("faults");
  const std::map<std::string, std::string> refused = {{"axes", "east and north are exchanged"},
                                                      {"zone", "EPSG:25833"},
                                                      {"degrees", "degrees of longitude"},
                                                      {"feet", "they are in feet"},
                                                      {"two-crs", "'G2', 'G4' lie"},
                                                      {"far", "Point 'G4' lies 100 km"}};
  for (const auto& [fault, words] : refused) {
    const test::Ran ran = place(survey, control(fault));
    EXPECT_EQ(ran.status, 3) << fault;
    EXPECT_THAT(ran.error, HasSubstr(words)) << fault;
    EXPECT_THAT(ran.error, HasSubstr("points.csv")) << fault;
  }
  const std::map<std::string, std::string> left_out = {
      {"gross", "point 'G2': "}, {"exchanged", "exchanged"}, {"mark", "mark of '"}};
  for (const auto& [fault, words] : left_out) {
    const test::Ran ran = place(survey, control(fault));
    EXPECT_EQ(ran.status, 0) << fault << ran.error;
    EXPECT_THAT(ran.error, HasSubstr(words)) << fault;
  }
  // Heights over the ellipsoid beside receivers that count from the sea.
  const fs::path high = control("none", "EPSG:25832");
  const test::Ran ran = icefield({"georeference", survey.string(), "--crs", "EPSG:25832", "--control",
                                  (high / "points.csv").string(), "--marks", (high / "marks.csv").string()});
  EXPECT_EQ(ran.status, 0) << ran.error;
  EXPECT_THAT(ran.out, HasSubstr("about as much as the sea lies above the ellipsoid"));
}

TEST(Georeference, PhotosAloneGiveTheirZone) {
  const fs::path survey = copy_of_flight("photos-alone");
  const auto json = icefield_json({"georeference", survey.string()});
  EXPECT_EQ(json["crs"], "EPSG:32632");
  EXPECT_THAT(json["remarks"].dump(), HasSubstr("No CRS was given"));
  EXPECT_THAT(json["blocks"][0]["outcome"].get<std::string>(), HasSubstr("15 photo positions"));
  const test::Ran found = icefield({"georeference", survey.string(), "--find", "ETRS89 UTM"});
  EXPECT_THAT(found.out, HasSubstr("EPSG:25832"));
  EXPECT_THAT(found.out, Not(HasSubstr("EPSG:25835")));
}

TEST(Georeference, AKnownLengthGivesTheScale) {
  const fs::path survey = copy_of_flight("lengths"), tables = control();
  const auto truth = read_control_points(tables / "truth.csv").points;
  const auto length = [&](int a, int b) {
    return (truth[static_cast<std::size_t>(a)].place - truth[static_cast<std::size_t>(b)].place).norm();
  };
  write_file(survey / "bars.csv", fmt::format("from,to,length,sigma,use\nG1,G2,{},0.01,control\nG3,G4,{},0.01,check\n",
                                              length(0, 1), length(2, 3)));
  std::vector<MarkRow> marks;
  for (const MarkRow& mark : read_marks(tables / "marks.csv"))
    if (mark.point == "G1" || mark.point == "G2" || mark.point == "G3" || mark.point == "G4") marks.push_back(mark);
  write_file(survey / "m.csv", text_of_marks(marks));
  const auto json =
      icefield_json({"georeference", survey.string(), "--lengths", (survey / "bars.csv").string(), "--marks",
                     (survey / "m.csv").string(), "--set", "georeference.photo_positions=false"});
  EXPECT_TRUE(json["crs"].is_null());
  EXPECT_EQ(json["units"], "m");
  const nlohmann::json check = json["blocks"][0]["lengths"][1];
  EXPECT_FALSE(check["used"].get<bool>());
  EXPECT_NEAR(check["error"].get<double>(), 0, 0.4);
  // Its photos say how they were held, and nothing else says what is up.
  EXPECT_THAT(nlohmann::json(json["blocks"][0]["remarks"]).dump(), HasSubstr("say of their own tilt"));

  // As if G2 hung over G1: points say how it stands.
  const auto stands =
      icefield_json({"georeference", survey.string(), "--up", "G1,G2", "--axis", "G3,G4", "--zero", "G1"});
  std::map<std::string, Eigen::Vector3d> at;
  for (const auto& point : stands["blocks"][0]["points"]) {
    const auto p = point["position"].get<std::vector<double>>();
    at[point["name"]] = Eigen::Vector3d(p[0], p[1], p[2]);
  }
  EXPECT_LT(at.at("G1").norm(), 0.002);
  EXPECT_GT(at.at("G2").z(), 0.9999 * at.at("G2").norm());
  EXPECT_NEAR(at.at("G2").norm(), length(0, 1), 0.1);
  const Eigen::Vector3d axis = at.at("G4") - at.at("G3");
  EXPECT_GT(axis.x(), 0);
  EXPECT_NEAR(axis.y() / axis.norm(), 0, 1e-3);
  EXPECT_EQ(icefield({"georeference", survey.string(), "--up", "G1"}).status, 2);
  EXPECT_EQ(icefield({"georeference", survey.string(), "--zero", "nowhere"}).status, 2);
}

TEST(Georeference, ASpotIsMarkedPredictedAndMeasured) {
  const fs::path survey = copy_of_flight("marks"), tables = control();
  ASSERT_EQ(place(survey, tables).status, 0);
  std::vector<MarkRow> marks;
  for (const MarkRow& mark : read_marks(tables / "marks.csv"))
    if (mark.point == "C1") marks.push_back(mark);
  ASSERT_GE(marks.size(), 3u);
  const auto at = [](const MarkRow& mark) { return fmt::format("{:.3f},{:.3f}", mark.pixel.x(), mark.pixel.y()); };
  const auto mark = [&](const MarkRow& row) {
    return icefield_json({"mark", survey.string(), "cairn", "--photo", row.photo, "--at", at(row), "--raw"});
  };
  EXPECT_THAT(mark(marks[0])["outcome"].get<std::string>(), HasSubstr("from one mark"));
  auto json = mark(marks[1]);
  EXPECT_EQ(json["marks"].size(), 2u);
  bool predicted = false;
  for (const auto& guess : json["predicted"])
    if (guess["photo"] == marks[2].photo) {
      predicted = true;
      EXPECT_LT((Eigen::Vector2d(guess["x"], guess["y"]) - marks[2].pixel).norm(), 4);
    }
  EXPECT_TRUE(predicted);
  mark(marks[2]);
  ASSERT_EQ(
      icefield({"view", survey.string(), "mark", "--point", "cairn", "--output", (survey / "m.png").string()}).status,
      0);
  json = icefield_json({"georeference", survey.string()});
  Eigen::Vector3d truth;
  for (const ControlPointRow& row : read_control_points(tables / "truth.csv").points)
    if (row.name == "C1") truth = row.place;
  bool found = false;
  for (const auto& point : json["blocks"][0]["points"])
    if (point["name"] == "cairn") {
      found = true;
      EXPECT_EQ(point["use"], "spot");
      const auto p = point["position"].get<std::vector<double>>();
      EXPECT_LT((Eigen::Vector3d(p[0], p[1], p[2]) - truth).norm(), 0.3);
      EXPECT_GT(point["sigma"][2].get<double>(), 0);
    }
  EXPECT_TRUE(found);
  // From there to a control point, as the truth has it.
  json = icefield_json({"measure", survey.string(), "cairn", "C2", "C3"});
  Eigen::Vector3d other;
  for (const ControlPointRow& row : read_control_points(tables / "truth.csv").points)
    if (row.name == "C2") other = row.place;
  ASSERT_EQ(json["distances"].size(), 3u);
  EXPECT_NEAR(json["distances"][0]["grid"].get<double>(), (other - truth).head<2>().norm(), 0.3);
  EXPECT_NEAR(json["distances"][0]["plan"]["value"].get<double>(), (other - truth).head<2>().norm(), 0.3);
  EXPECT_GT(json["distances"][0]["length"]["sigma"].get<double>(), 0);
  EXPECT_GT(json["angle"]["degrees"]["value"].get<double>(), 1);
  EXPECT_EQ(icefield({"measure", survey.string(), "cairn"}).status, 2);
  EXPECT_THAT(icefield({"measure", survey.string(), "cairn", "nowhere"}).error, HasSubstr("has no mark"));
  json = icefield_json({"mark", survey.string(), "cairn", "--photo", marks[2].photo, "--remove"});
  EXPECT_EQ(json["marks"].size(), 2u);
  EXPECT_EQ(icefield({"mark", survey.string(), "cairn", "--photo", marks[2].photo, "--remove"}).status, 2);
  EXPECT_EQ(icefield({"mark", survey.string(), "cairn", "--photo", marks[0].photo, "--at", "12"}).status, 2);
  EXPECT_EQ(icefield({"mark", survey.string(), "cairn", "--at", "12,13"}).status, 2);
  EXPECT_EQ(icefield({"mark", survey.string(), "cairn", "--photo", "none.jpg", "--at", "12,13"}).status, 2);
  EXPECT_EQ(icefield({"mark", survey.string(), "cairn", "--photo", marks[0].photo, "--at", "-5,13"}).status, 3);
}

// Two halves of a flight between which no pair was matched, as if a winter lay between them.
TEST(Georeference, TwoHalvesAreTiedByMarks) {
  const fs::path made = test::rendered("flight", test::small_flight()), tables = control(),
                 survey = test::scratch_folder() / "halves";
  ASSERT_EQ(icefield({"begin", survey.string(), (made / "photos").string(), "--effort", "draft"}).status, 0);
  const CameraFile truth = read_camera_file(made / "truth/cameras.json");
  std::string pairs;
  for (std::size_t a = 0; a < truth.photos.size(); ++a)
    for (std::size_t b = a + 1; b < truth.photos.size(); ++b)
      if ((a < 8) == (b < 8)) pairs += truth.photos[a].name + " | " + truth.photos[b].name + "\n";
  write_file(survey / "halves.txt", pairs);
  std::vector<std::string> words = {"match", survey.string(), "--pairs", (survey / "halves.txt").string()};
  for (const char* setting : {"all_up_to=2", "near_photos=0", "alike_photos=0", "next_photos=0", "via_rounds=0"})
    words.insert(words.end(), {"--set", std::string("pairs.") + setting});
  ASSERT_EQ(icefield(words).status, 0);
  ASSERT_EQ(icefield_json({"pose", survey.string()})["blocks"].size(), 2u);
  const test::Ran alone = icefield({"join", survey.string(), "1", "2"});
  EXPECT_EQ(alone.status, 1);
  EXPECT_THAT(alone.error, HasSubstr("--by-marks"));
  const test::Ran unmarked = icefield({"join", survey.string(), "1", "2", "--by-marks"});
  EXPECT_EQ(unmarked.status, 1);
  EXPECT_THAT(unmarked.error, HasSubstr("three needed"));
  fs::create_directories(survey / "control");
  for (const char* table : {"points.csv", "marks.csv"}) fs::copy(tables / table, survey / "control" / table);
  const test::Ran joined = icefield({"join", survey.string(), "1", "2", "--by-marks"});
  ASSERT_EQ(joined.status, 0) << joined.error;
  EXPECT_THAT(joined.out, HasSubstr("marked points"));
  EXPECT_THAT(joined.out, HasSubstr("Spots marked in both"));
  EXPECT_EQ(icefield_json({"pose", survey.string()})["blocks"].size(), 1u);
  const auto compared =
      icefield_json({"compare", survey.string(), "--cameras", (made / "truth/cameras.json").string()});
  EXPECT_EQ(compared["cameras"]["missing"].size(), 0u);
  EXPECT_EQ(compared["cameras"]["wrong"], 0);
  EXPECT_EQ(icefield({"adjust", survey.string(), "--undo"}).status, 0);
  EXPECT_EQ(icefield_json({"pose", survey.string()})["blocks"].size(), 2u);
}

TEST(Georeference, CodedTargetsAreFoundAndPlaceAnObject) {
  simulate::PlanOptions plan = test::small_cairn();
  plan.width = 600, plan.height = 400;
  plan.scene.targets = 9, plan.scene.target_size = 0.25;
  const fs::path made = test::rendered("cairn-targets", plan, 4), survey = test::scratch_folder() / "targets";
  ASSERT_EQ(icefield({"begin", survey.string(), (made / "photos").string(), "--effort", "draft"}).status, 0);
  ASSERT_EQ(icefield({"pose", survey.string()}).status, 0);
  const auto found = icefield_json({"targets", survey.string()});
  EXPECT_EQ(found["computed"], plan.photos);
  // Each where the true camera sees it, in all photos; and none where there is none.
  const CameraFile truth = read_camera_file(made / "truth/cameras.json");
  std::map<std::string, Eigen::Vector3d> places;
  for (const ControlPointRow& row : read_control_points(made / "truth/targets.csv").points)
    places[row.name] = row.place;
  ASSERT_EQ(places.size(), 9u);
  double squares = 0;
  std::set<int> numbers;
  const nlohmann::json list = found["found"];
  for (const auto& target : list) {
    for (const auto& photo : truth.photos) {
      if (photo.name != target["photo"]) continue;
      const auto seen =
          project(truth.cameras[0], photo.pose.to_camera(places.at(fmt::format("T{}", target["number"].get<int>()))));
      ASSERT_TRUE(seen);
      squares += (*seen - Eigen::Vector2d(target["x"], target["y"])).squaredNorm() / 2;
    }
    numbers.insert(target["number"].get<int>());
  }
  ASSERT_GE(list.size(), 24u);
  EXPECT_GE(numbers.size(), 5u);
  EXPECT_LT(std::sqrt(squares / static_cast<double>(list.size())), 0.1);
  EXPECT_EQ(found["marks"], list.size());
  EXPECT_EQ(icefield_json({"targets", survey.string()})["computed"], 0);  // kept

  // Every second of those that many photos see checks the others.
  std::map<int, int> seen_by;
  for (const auto& target : list) ++seen_by[target["number"].get<int>()];
  std::string check;
  int k = 0;
  for (const auto& [number, photos] : seen_by)
    if (photos >= 3 && k++ % 3 == 2) check += fmt::format("{}T{}", check.empty() ? "" : ",", number);
  ASSERT_FALSE(check.empty());
  const auto json = icefield_json({"georeference", survey.string(), "--control", (made / "truth/targets.csv").string(),
                                   "--check", check, "--set", "georeference.point_sigma_m=0.002"});
  int checked = 0;
  const nlohmann::json points = json["blocks"][0]["points"];
  for (const auto& point : points) {
    if (point["use"] != "check" || point["position"].is_null()) continue;
    const auto p = point["position"].get<std::vector<double>>();
    EXPECT_LT((Eigen::Vector3d(p[0], p[1], p[2]) - places.at(point["name"])).norm(), 0.01) << point["name"];
    ++checked;
  }
  EXPECT_GE(checked, 1);
}

TEST(Georeference, TargetsArePrintedAndThoseSeenTwiceAreNotMarked) {
  const fs::path folder = test::scratch_folder() / "sheets";
  fs::create_directories(folder / "photos");
  const test::Ran printed = icefield({"targets", "--sheet", (folder / "sheet.pdf").string(), "--numbers", "5-12",
                                      "--size", "40", "--lengths", (folder / "bars.csv").string()});
  ASSERT_EQ(printed.status, 0) << printed.error;
  EXPECT_THAT(printed.out, HasSubstr("8 targets of 40 mm on 1 page"));
  EXPECT_FALSE(read_lengths(folder / "bars.csv").empty());
  const auto refuse = [](std::vector<std::string> words, const char* says) {
    words.insert(words.begin(), "targets");
    const test::Ran ran = icefield(words);
    EXPECT_EQ(ran.status, 2) << says;
    EXPECT_THAT(ran.error, HasSubstr(says));
  };
  refuse({}, "neither a survey nor --sheet");
  refuse({"--sheet", "x.pdf", "--numbers", "9-4"}, "no range of targets");
  refuse({"--sheet", "x.pdf", "--paper", "foolscap"}, "no size that is known");
  refuse({"--sheet", "x.tif"}, "neither .pdf nor .svg");
  refuse({"--lengths", "x.csv"}, "goes with --sheet");
  refuse({"--sheet", (folder / "one.pdf").string(), "--numbers", "1-1", "--lengths", "x.csv"}, "would be empty");
  EXPECT_FALSE(fs::exists(folder / "one.pdf"));  // nothing is written by a command that fails

  // So many at random from 180 numbers that some come twice.
  simulate::TargetPhotoPlan plan;
  plan.diameter_px = 30, plan.targets = 60;
  std::size_t placed = 0, twice = 0;
  for (int k = 0; k < 2; ++k) {
    plan.seed = 5 + static_cast<std::uint64_t>(k);
    const simulate::TargetPhoto made = simulate::make_target_photo(plan);
    write_photo(folder / "photos" / fmt::format("wall_{}.jpg", k), made.photo, {}, 90);
    std::map<int, int> times;
    for (const simulate::PlacedTarget& target : made.targets) ++times[target.number];
    for (const auto& [number, count] : times) ++(count == 1 ? placed : twice);
  }
  ASSERT_GT(twice, 0u);
  const fs::path survey = folder / "survey";
  ASSERT_EQ(icefield({"begin", survey.string(), (folder / "photos").string()}).status, 0);
  const test::Ran ran = icefield({"targets", survey.string(), "--json"});
  ASSERT_EQ(ran.status, 0) << ran.error;
  EXPECT_EQ(nlohmann::json::parse(ran.out)["marks"], placed);
  EXPECT_THAT(ran.error, HasSubstr("in more than one place"));
  EXPECT_EQ(read_marks(survey / "control/marks.csv").size(), placed);
}

TEST(Georeference, BadInputIsNamedAndChangesNothing) {
  const fs::path survey = copy_of_flight("bad"), tables = control();
  const auto refuse = [&](const std::vector<std::string>& more, int status, const std::string& words) {
    std::vector<std::string> all = {"georeference", survey.string()};
    all.insert(all.end(), more.begin(), more.end());
    const test::Ran ran = icefield(all);
    EXPECT_EQ(ran.status, status) << words;
    EXPECT_THAT(ran.error, HasSubstr(words));
    EXPECT_FALSE(fs::exists(survey / "control")) << words;
  };
  refuse({"--crs", "EPSG:99999"}, 2, "EPSG:99999");
  refuse({"--crs", "EPSG:4326"}, 2, "UTM zone 32N");
  refuse({"--find", "x", "--nosuch"}, 2, "--nosuch");
  write_file(survey / "m.csv", "photo,point,x,y\nflight_001.jpg,G1,10,10\n");
  refuse({"--marks", (survey / "m.csv").string()}, 3, "line 2: marks a point that is not known: 'G1'");
  const std::string points = (tables / "points.csv").string();
  write_file(survey / "m.csv", "photo,point,x,y\nflight_001.jpg,G1,10,10\nnone.jpg,G1,10,10\n");
  refuse({"--control", points, "--marks", (survey / "m.csv").string()}, 3,
         "line 3: names a photo that the survey does not have");
  write_file(survey / "m.csv", "photo,point,x,y\nflight_001.jpg,G1,10000,10\n");
  refuse({"--control", points, "--marks", (survey / "m.csv").string()}, 3, "lies outside of flight_001.jpg");
  refuse({"--columns", "name"}, 2, "is of no table");
  refuse({"--control", (survey / "none.csv").string()}, 3, "does not exist");
  refuse({"--check", "G77"}, 2, "'G77'");
  // A first try that fails does not stand in the way of later steps.
  refuse({"--set", "georeference.photo_positions=false"}, 2, "knows no control point");
  EXPECT_EQ(icefield({"export", survey.string(), "--cameras", (survey / "c.json").string()}).status, 0);
  // What was there before stays.
  ASSERT_EQ(place(survey, tables).status, 0);
  const std::string kept = read_file(survey / "control/points.csv");
  write_file(survey / "p.csv", "name,east,north,height\nG1,1,2,3\nG1,1,2,3\n");
  EXPECT_EQ(icefield({"georeference", survey.string(), "--control", (survey / "p.csv").string()}).status, 3);
  EXPECT_EQ(read_file(survey / "control/points.csv"), kept);
}

}  // namespace
}  // namespace icefield
