// Poses from elsewhere, through the command-line tool.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <fstream>
#include <nlohmann/json.hpp>

#include "icefield/io/camera_file.h"
#include "icefield/io/cloud_reader.h"
#include "icefield/io/pose_table.h"
#include "icefield/io/text_file.h"
#include "tests/tools/scenes.h"
#include "tests/tools/tool.h"

namespace icefield {
namespace {
namespace fs = std::filesystem;
using testing::HasSubstr;
using namespace test;

fs::path made() {
  return test::rendered("cairn", test::small_cairn());
}
CameraFile truth() {
  return read_camera_file(made() / "truth" / "cameras.json");
}
// With matches; shared by all cases.
const fs::path& matched() {
  static const fs::path survey = [] {
    const fs::path at = test::scratch_folder() / "given";
    icefield_json({"begin", at.string(), (made() / "photos").string(), "--effort", "draft"});
    icefield_json({"match", at.string()});
    return at;
  }();
  return survey;
}
// Places far from zero, as a grid has them, as a table of the true poses.
const Eigen::Vector3d kGrid(612345.678, 5194321.125, 2345.5);
fs::path table_of(const PoseConvention& convention, const char* name) {
  const CameraFile cameras = truth();
  std::vector<std::string> names;
  std::vector<Pose> poses;
  for (const CameraFile::Photo& photo : cameras.photos) {
    names.push_back(photo.name), poses.push_back(photo.pose);
    poses.back().centre += cameras.origin + kGrid;
  }
  const fs::path file = test::scratch_folder() / name;
  write_pose_table(file, names, poses, convention);
  return file;
}

TEST(GivenPoses, StayAsTheyAreToTheLastBit) {
  const std::string survey = matched().string();
  const auto report = icefield_json({"given", survey, (made() / "truth/cameras.json").string()});
  EXPECT_EQ(report["given"], truth().photos.size());
  EXPECT_LT(report["distance_px"].get<double>(), 0.6);
  EXPECT_GT(report["front_percent"].get<double>(), 95);
  const auto posed = icefield_json({"pose", survey});
  EXPECT_EQ(posed["posed"], truth().photos.size());
  const CameraFile kept = read_camera_file(matched() / "results/block-1/cameras.json");
  ASSERT_EQ(kept.photos.size(), truth().photos.size());
  for (const CameraFile::Photo& photo : kept.photos)
    for (const CameraFile::Photo& given : truth().photos) {
      if (given.name != photo.name) continue;
      EXPECT_EQ(kept.origin + photo.pose.centre, truth().origin + given.pose.centre);
      EXPECT_LT(rotation_angle(photo.pose.orientation, given.pose.orientation), 1e-12);
      EXPECT_EQ(kept.cameras[photo.camera].parameters, truth().cameras[given.camera].parameters);
    }
  // The dense step takes them, and the cloud lies in their frame.
  icefield_json({"densify", survey});
  const auto compared = icefield_json({"compare", survey, "--cameras", (made() / "truth/cameras.json").string()});
  EXPECT_LT(compared["cameras"]["median_position"].get<double>(), 1e-9) << compared["cameras"].dump(1);
  // Forgotten, they are found anew, and the other way round the old ones come back.
  EXPECT_EQ(icefield_json({"status", survey})["steps"][1]["state"], "fresh");
  icefield_json({"given", survey, "--forget"});
  const auto status = icefield_json({"status", survey})["steps"][1];
  EXPECT_NE(status["state"], "fresh");
  EXPECT_THAT(status.dump(), HasSubstr("forgotten"));
  EXPECT_FALSE(fs::exists(matched() / "given_poses.json"));
}

TEST(GivenPoses, OfATableInAnyConventionComeBack) {
  const std::string survey = matched().string();
  for (const char* form : {"opk", "ypr", "matrix", "quaternion-xyzw"}) {
    PoseConvention convention = usual_convention(*rotation_form_by_name(form));
    const fs::path file = table_of(convention, "poses.csv");
    std::vector<std::string> arguments{"given", survey, file.string(), "--as", "fixed", "--units", "m"};
    if (std::string(form) == "quaternion-xyzw") arguments.insert(arguments.end(), {"--angles", form});
    const auto report = icefield_json(arguments);
    EXPECT_EQ(report["given"], truth().photos.size()) << form;
    icefield_json({"pose", survey});
    // And out again, in another one.
    const fs::path out = test::scratch_folder() / "out.csv";
    icefield_json(
        {"export", survey, "--poses", out.string(), "--angles", "opk", "--radians", "--place", "translation"});
    const PoseTable back = read_pose_table(out);
    ASSERT_EQ(back.names.size(), truth().photos.size());
    EXPECT_EQ(back.form, RotationForm::omega_phi_kappa);
    EXPECT_EQ(back.translation, true);
    PoseConvention other = usual_convention(RotationForm::omega_phi_kappa);
    other.radians = other.translation = true;
    for (std::size_t i = 0; i < back.names.size(); ++i)
      for (const CameraFile::Photo& given : truth().photos) {
        if (given.name != back.names[i]) continue;
        const auto pose = pose_of(back.poses[i], other);
        ASSERT_TRUE(pose);
        // Translations of five million metres have been turned there and back.
        EXPECT_LT((pose->centre - (given.pose.centre + truth().origin + kGrid)).norm(), 3e-8);
        EXPECT_LT(rotation_angle(pose->orientation, given.pose.orientation), 1e-9);
      }
  }
}

TEST(GivenPoses, InAnotherConventionAreNamed) {
  const std::string survey = matched().string();
  PoseConvention other = usual_convention(RotationForm::omega_phi_kappa);
  other.y_up = false, other.to_world = false;
  const fs::path file = table_of(other, "other.csv");
  const std::string before =
      fs::exists(matched() / "given_poses.json") ? read_file(matched() / "given_poses.json") : "";
  const auto refused = icefield({"given", survey, file.string()});
  EXPECT_EQ(refused.status, 3);
  EXPECT_THAT(refused.error, HasSubstr("--angles opk --rotation to-camera --camera-axes y-down --place centre"));
  EXPECT_EQ(fs::exists(matched() / "given_poses.json") ? read_file(matched() / "given_poses.json") : "", before);
  const auto as_told =
      icefield_json({"given", survey, file.string(), "--rotation", "to-camera", "--camera-axes", "y-down"});
  EXPECT_LT(as_told["distance_px"].get<double>(), 0.6);
  // Believed all the same, nothing fits and that is said.
  icefield_json({"given", survey, file.string(), "--believe"});
  const auto posed = icefield({"pose", survey});
  EXPECT_THAT(posed.out + posed.error, HasSubstr("fit"));
}

TEST(GivenPoses, ToStartFromAreAdjusted) {
  const std::string survey = matched().string();
  // Shaken by a few pixels.
  CameraFile cameras = truth();
  for (std::size_t i = 0; i < cameras.photos.size(); ++i) {
    Pose& pose = cameras.photos[i].pose;
    pose.orientation =
        rotation_from_vector(0.004 * Eigen::Vector3d(i % 3 - 1.0, (i / 3) % 3 - 1.0, (i / 2) % 2 - 0.5)) *
        pose.orientation;
  }
  const fs::path file = test::scratch_folder() / "shaken.json";
  write_camera_file(file, cameras);
  const auto report = icefield_json({"given", survey, file.string(), "--as", "start"});
  EXPECT_GT(report["distance_px"].get<double>(), 0.8);
  icefield_json({"pose", survey});
  const auto compared = icefield_json({"compare", survey, "--cameras", (made() / "truth/cameras.json").string()});
  EXPECT_LT(compared["cameras"]["median_position_gsd"].get<double>(), 0.5);
  EXPECT_LT(compared["cameras"]["median_orientation_deg"].get<double>(), 0.1);
  // In the frame of the given ones.
  const CameraFile posed = read_camera_file(matched() / "results/block-1/cameras.json");
  double worst = 0;
  for (const CameraFile::Photo& photo : posed.photos)
    for (const CameraFile::Photo& given : cameras.photos)
      if (given.name == photo.name)
        worst = std::max(worst, (posed.origin + photo.pose.centre - given.pose.centre - cameras.origin).norm());
  EXPECT_LT(worst, 0.05);
}

// What a program that learns from posed photos gets, read as its author would read it.
TEST(Scenes, CanBeProvenByTheirReader) {
  const std::string survey = matched().string();
  icefield_json({"given", survey, (made() / "truth/cameras.json").string()});
  icefield_json({"pose", survey});
  for (const bool fit : {false, true}) {
    const fs::path scene = test::scratch_folder() / (fit ? "scene_fit" : "scene");
    std::vector<std::string> arguments{"export",   survey,   "--scene",    scene.string(), "--points",      "5000",
                                       "--angles", "matrix", "--rotation", "to-world",     "--camera-axes", "y-up"};
    if (fit) arguments.push_back("--fit");
    icefield_json(arguments);
    const auto cameras = nlohmann::json::parse(read_file(scene / "cameras.json")),
               check = nlohmann::json::parse(read_file(scene / "check.json")),
               frame = nlohmann::json::parse(read_file(scene / "frame.json"));
    ASSERT_EQ(check["points"].size(), 10u);
    const CameraFile read = read_camera_file(scene / "cameras.json");
    const PoseTable table = read_pose_table(scene / "poses.csv");
    std::size_t projected = 0;
    double worst = 0, measured = 0;
    for (const auto& point : check["points"]) {
      const Eigen::Vector3d place(point["position"][0], point["position"][1], point["position"][2]);
      for (const auto& seen : point["seen"])
        for (std::size_t i = 0; i < table.names.size(); ++i) {
          if (table.names[i] != seen["photo"]) continue;
          // By the matrix of poses.csv alone: camera to world, y up, looking backwards.
          const auto& m = table.poses[i].rotation;
          Eigen::Matrix3d to_world;
          to_world << m[0], m[1], m[2], m[3], m[4], m[5], m[6], m[7], m[8];
          const Eigen::Vector3d p = to_world.transpose() * (place - table.poses[i].place);
          const Camera& camera = read.cameras[read.photos[i].camera];
          EXPECT_EQ(camera.model, CameraModel::pinhole);
          const double x = camera.focal() * p.x() / -p.z() + camera.principal_point().x(),
                       y = camera.focal() * p.y() / p.z() + camera.principal_point().y();
          worst = std::max(worst, std::hypot(x - seen["pixel"][0].get<double>(), y - seen["pixel"][1].get<double>()));
          measured = std::max(measured,
                              std::hypot(x - seen["measured"][0].get<double>(), y - seen["measured"][1].get<double>()));
          ++projected;
        }
    }
    EXPECT_GE(projected, 30u);
    EXPECT_LT(worst, 1e-6);
    EXPECT_LT(measured, 5.1);
    // The way back: poses of the scene are those of the survey.
    const double scale = frame["scale"];
    const Eigen::Vector3d centre(frame["centre"][0], frame["centre"][1], frame["centre"][2]);
    EXPECT_EQ(scale == 1, !fit);
    for (std::size_t i = 0; i < table.names.size(); ++i)
      for (const CameraFile::Photo& given : truth().photos) {
        if (fs::path(given.name).stem() != fs::path(table.names[i]).stem()) continue;
        EXPECT_LT((table.poses[i].place / scale + centre - given.pose.centre - truth().origin).norm(), 1e-9);
      }
    const PointCloud seeds = read_cloud(scene / "points.ply");
    EXPECT_GT(seeds.size(), 100u);
    EXPECT_LE(seeds.size(), 5000u);
    const auto drawn = run({std::string(ICEFIELD_EXAMPLES_FOLDER) + "/seed_points", scene.string(), table.names[0],
                            (scene / "drawn.png").string()});
    EXPECT_EQ(drawn.status, 0) << drawn.error;
    EXPECT_TRUE(fs::exists(scene / "drawn.png"));
    // Nothing is written over.
    EXPECT_EQ(icefield(arguments).status, 2);
  }
  const fs::path map = test::scratch_folder() / "map.gpkg";
  EXPECT_EQ(icefield_json({"export", survey, "--photo-map", map.string()})["written"].size(), 3u);
  EXPECT_TRUE(fs::exists(test::scratch_folder() / "map_footprints.gpkg"));
}

TEST(GivenPoses, BadOnesAreRefused) {
  const std::string survey = matched().string();
  const fs::path file = test::scratch_folder() / "bad.csv";
  const auto refused = [&](const std::string& text, int status, const char* why) {
    std::ofstream(file) << text;
    const auto ran = icefield({"given", survey, file.string()});
    EXPECT_EQ(ran.status, status) << text;
    EXPECT_THAT(ran.error, HasSubstr(why)) << text;
  };
  const std::string a = truth().photos[0].name, b = truth().photos[1].name;
  refused("photo,x,y,z,omega,phi,kappa\n" + a + ",1,2,3,0,0,0\n", 3, "names 1 photos");
  refused("photo,x,y,z,omega,phi,kappa\n" + a + ",1,2,3,0,0,0\n" + a + ",1,2,3,0,0,0\n", 3, "again");
  refused("photo,x,y,z,omega,phi,kappa\nnone.jpg,1,2,3,0,0,0\nnor.jpg,1,2,3,0,0,0\n", 3, "names 0 photos");
  refused("photo,x,y,z,omega,phi,kappa\n" + a + ",1,2,3,0,0,\n" + b + ",1,2,3,0,0,0\n", 3, "rotation");
  refused("photo,x,y,z\n" + a + ",1,2,3\n", 3, "rotations");
  refused("photo,x,y,z,qw,qx,qy,qz\n" + a + ",1,2,3,1,1,0,0\n" + b + ",1,2,3,1,0,0,0\n", 3, "length is 1.414");
  refused("photo,x,y,z,r11,r12,r13,r21,r22,r23,r31,r32,r33\n" + a + ",1,2,3,1,0,0,0,1,0,0,0,-1\n" + b +
              ",1,2,3,1,0,0,0,1,0,0,0,1\n",
          3, "mirrored");
  refused(a + ",1,2,3,0,0,0\n" + b + ",1,2,3,0,0,0\n", 3, "--angles");
  refused("", 3, "empty");
  EXPECT_EQ(icefield({"given", survey}).status, 2);
  EXPECT_EQ(icefield({"given", survey, (test::scratch_folder() / "not_there.csv").string()}).status, 3);
}

}  // namespace
}  // namespace icefield
