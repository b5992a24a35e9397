#include "icefield/io/camera_file.h"

#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

#include "icefield/base/error.h"
#include "icefield/io/overlap_file.h"
#include "icefield/io/text_file.h"
#include "tests/tools/scenes.h"

namespace icefield {
namespace {

CameraFile some_cameras() {
  CameraFile file;
  file.datum = {"EPSG:32632", "EPSG:5773", "m", Axes::east_north_up};
  file.camera_names = {"wide", "long"};
  file.cameras = {make_camera(CameraModel::radial, 1200, 800, 1000), make_camera(CameraModel::pinhole, 800, 600, 1500)};
  file.cameras[0].parameters[3] = -0.1;
  file.photos = {{"a.jpg", 0, look_at({1, 2, 3}, {0, 0, 0}, {0, 0, 1}), 0.002},
                 {"b.jpg", 1, look_at({4, 2, 3}, {0, 0, 0}, {0, 0, 1}), 0}};
  file.bounds = Bounds{{1, 2, 3}, {4, 5, 6}, rotation_from_vector({0, 0, 0.5})};
  file.bounds->outline = {{0.5, 1}, {2, 1.25}, {1, 3}};
  return file;
}

TEST(CameraFile, RoundTrip) {
  const auto path = test::scratch_folder() / "cameras.json";
  const CameraFile file = some_cameras();
  write_camera_file(path, file);
  const CameraFile back = read_camera_file(path);
  EXPECT_EQ(back.datum, file.datum);
  EXPECT_EQ(back.cameras, file.cameras);
  ASSERT_EQ(back.photos.size(), 2u);
  EXPECT_EQ(back.photos[1].camera, 1u);
  EXPECT_EQ(back.photos[0].pose.centre, file.photos[0].pose.centre);
  EXPECT_LT(rotation_angle(back.photos[0].pose.orientation, file.photos[0].pose.orientation), 1e-12);
  EXPECT_EQ(back.photos[0].gsd, 0.002);
  ASSERT_TRUE(back.bounds);
  EXPECT_EQ(back.bounds->half_size, Eigen::Vector3d(4, 5, 6));
  EXPECT_EQ(back.bounds->outline, file.bounds->outline);
}

// National coordinates: what is near the origin comes back to a nanometre, and the file shows them whole.
TEST(CameraFile, KeepsLargeCoordinates) {
  const auto path = test::scratch_folder() / "cameras.json";
  CameraFile file = some_cameras();
  file.origin = {463210, 5201987, 2145};
  file.photos[0].pose.centre = {0.123456789, -12.5, 3.000000321};
  write_camera_file(path, file);
  const CameraFile back = read_camera_file(path);
  EXPECT_EQ(back.origin, file.origin);
  EXPECT_LT((back.photos[0].pose.centre - file.photos[0].pose.centre).cwiseAbs().maxCoeff(), 1e-9);
  EXPECT_LT((back.bounds->centre - file.bounds->centre).cwiseAbs().maxCoeff(), 1e-9);
  const auto written = nlohmann::json::parse(read_file(path));
  EXPECT_NEAR(written["photos"][0]["position"][1].get<double>(), 5201974.5, 1e-9);
  EXPECT_NEAR(written["bounds"]["outline"][0][0].get<double>(), 463210.5, 1e-9);
}

// The keys that the schema in docs/ demands and allows are those that are written.
TEST(CameraFile, FollowsItsSchema) {
  const auto path = test::scratch_folder() / "cameras.json";
  write_camera_file(path, some_cameras());
  const auto written = nlohmann::json::parse(read_file(path));
  const auto schema = nlohmann::json::parse(read_file(ICEFIELD_SOURCE_FOLDER "/docs/cameras.schema.json"));
  const auto check = [&](const nlohmann::json& value, const nlohmann::json& rules, const std::string& where) {
    for (const auto& key : rules.at("required")) EXPECT_TRUE(value.contains(key.get<std::string>())) << where << key;
    for (const auto& [key, unused] : value.items()) EXPECT_TRUE(rules.at("properties").contains(key)) << where << key;
  };
  check(written, schema, "file: ");
  check(written["photos"][0], schema["properties"]["photos"]["items"], "photo: ");
  check(written["cameras"]["wide"], schema["properties"]["cameras"]["additionalProperties"], "camera: ");
  check(written["bounds"], schema["properties"]["bounds"], "bounds: ");
}

TEST(CameraFile, FaultsAreNamedWithTheirPlace) {
  const auto path = test::scratch_folder() / "broken.json";
  write_camera_file(path, some_cameras());
  const auto good = nlohmann::json::parse(read_file(path));
  const auto expect_fault = [&](const std::string& text, const std::string& fault) {
    write_file(path, text);
    try {
      read_camera_file(path);
      FAIL() << fault;
    } catch (const Error& e) {
      EXPECT_EQ(e.kind(), ErrorKind::input);
      EXPECT_EQ(e.subject(), path.string());
      EXPECT_NE(e.fault().find(fault), std::string::npos) << e.what();
    }
  };
  expect_fault("{", "no JSON");
  expect_fault("[]", "format");
  auto wrong = good;
  wrong["version"] = 99;
  expect_fault(wrong.dump(), "newer");
  wrong = good;
  wrong["photos"][1]["camera"] = "none";
  expect_fault(wrong.dump(), "photos[1]");
  wrong = good;
  wrong["photos"][0]["orientation"] = {1, 1, 1, 1};
  expect_fault(wrong.dump(), "photos[0].orientation");
  wrong = good;
  wrong["photos"][0]["position"] = {1, 2};
  expect_fault(wrong.dump(), "3 numbers");
  wrong = good;
  wrong["cameras"]["wide"].erase("width");
  expect_fault(wrong.dump(), "'width' is missing");
  wrong = good;
  wrong["cameras"]["wide"]["parameters"]["focal"]["value"] = -5;
  expect_fault(wrong.dump(), "focal length");
}

TEST(TextRows, CellsCommentsAndLineNumbers) {
  const auto file = test::scratch_folder() / "rows.txt";
  write_file(file, "# pairs\n a.jpg |  b c.jpg \r\n\nd.jpg|e.jpg # why\nlone");
  const std::vector<TextRow> rows = read_rows(file);
  ASSERT_EQ(rows.size(), 3u);
  EXPECT_EQ(rows[0].line, 2);
  EXPECT_EQ(rows[0].cells, (std::vector<std::string>{"a.jpg", "b c.jpg"}));
  EXPECT_EQ(rows[1].line, 4);
  EXPECT_EQ(rows[1].cells, (std::vector<std::string>{"d.jpg", "e.jpg"}));
  EXPECT_EQ(rows[2].cells, std::vector<std::string>{"lone"});
}

TEST(OverlapFile, RoundTripAndErrors) {
  const auto file = test::scratch_folder() / "overlap.txt";
  write_overlap_file(file, {{"a.jpg", "b.jpg", 0.25, 12.5}, {"a.jpg", "c.jpg", 1, 0}});
  const std::vector<PhotoOverlap> back = read_overlap_file(file);
  ASSERT_EQ(back.size(), 2u);
  EXPECT_EQ(back[0].second, "b.jpg");
  EXPECT_NEAR(back[0].share, 0.25, 1e-9);
  EXPECT_NEAR(back[0].angle_deg, 12.5, 1e-9);
  for (const char* wrong :
       {"a | b | 10", "a | b | ten | 5", "a | b | 120 | 5", "a | b | 10 | -5", "a | b | 10 | 5 | 6"}) {
    write_file(file, std::string("a | b | 1 | 2\n") + wrong + "\n");
    try {
      read_overlap_file(file);
      ADD_FAILURE() << wrong;
    } catch (const Error& e) {
      EXPECT_NE(std::string(e.what()).find("line 2"), std::string::npos) << e.what();
    }
  }
}

}  // namespace
}  // namespace icefield
