#include "icefield/io/pose_table.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <fstream>

#include "icefield/base/error.h"
#include "icefield/base/random.h"
#include "icefield/io/text_file.h"
#include "tests/tools/scenes.h"

namespace icefield {
namespace {
namespace fs = std::filesystem;
using testing::HasSubstr;

PoseTable read(const std::string& text, std::optional<RotationForm> wanted = {}) {
  const fs::path file = test::scratch_folder() / "poses.txt";
  std::ofstream(file) << text;
  return read_pose_table(file, wanted);
}
std::string fault_of(const std::string& text, std::optional<RotationForm> wanted = {}) {
  try {
    read(text, wanted);
  } catch (const Error& error) {
    EXPECT_EQ(error.kind(), ErrorKind::input);
    return error.what();
  }
  return "none";
}

TEST(PoseTable, AllFormsGoThereAndBack) {
  CounterRandom random(21);
  std::vector<std::string> names = {"a.jpg", "roll 2/b, c.jpg", "say \"d\".jpg"};
  std::vector<Pose> poses;
  for (std::size_t k = 0; k < names.size(); ++k) {
    Pose pose;
    pose.centre = {612345.125 + random.uniform(), 5194000 + random.uniform(), 2300 + random.uniform()};
    pose.orientation =
        Eigen::Quaterniond(random.normal(), random.normal(), random.normal(), random.normal()).normalized();
    poses.push_back(pose);
  }
  const fs::path file = test::scratch_folder() / "there.csv";
  for (const RotationForm form :
       {RotationForm::quaternion, RotationForm::quaternion_xyzw, RotationForm::matrix, RotationForm::omega_phi_kappa,
        RotationForm::yaw_pitch_roll, RotationForm::yaw_pitch_roll_down}) {
    const PoseConvention convention = usual_convention(form);
    write_pose_table(file, names, poses, convention);
    EXPECT_THAT(read_file(file), testing::StartsWith("# " + describe(convention)));
    const PoseTable back = read_pose_table(file, form);
    EXPECT_EQ(back.names, names);
    EXPECT_EQ(back.form, form);
    EXPECT_EQ(back.translation, false);
    for (std::size_t k = 0; k < poses.size(); ++k) {
      const auto pose = pose_of(back.poses[k], convention);
      ASSERT_TRUE(pose);
      EXPECT_EQ(pose->centre, poses[k].centre) << "to the last bit";
      EXPECT_LT(rotation_angle(pose->orientation, poses[k].orientation), 1e-9);
    }
  }
}

TEST(PoseTable, IsReadAsOthersWriteIt) {
  // Other words, another order, semicolons and commas in numbers.
  const PoseTable german = read(
      "Kappa;Phi;Omega;Image Name;Easting [m];Northing [m];Altitude [m]\n"
      "90,5;1,25;-2;p1.jpg;612000,5;5194000;2300\n"
      "0;0;0;p2.jpg;612010;5194000;2300\n");
  EXPECT_EQ(german.form, RotationForm::omega_phi_kappa);
  EXPECT_EQ(german.names[0], "p1.jpg");
  EXPECT_EQ(german.poses[0].place, Eigen::Vector3d(612000.5, 5194000, 2300));
  EXPECT_EQ(german.poses[0].rotation[0], -2);
  EXPECT_EQ(german.poses[0].rotation[2], 90.5);
  EXPECT_EQ(german.lines[1], 3);
  // Matrices counted from 0, translations, blanks, remarks.
  const PoseTable matrix = read(
      "# of a tracker\nphoto tx ty tz r00 r01 r02 r10 r11 r12 r20 r21 r22\n"
      "f1 1 2 3 1 0 0 0 0 -1 0 1 0\nf2 1 2 4 1 0 0 0 1 0 0 0 1\n");
  EXPECT_EQ(matrix.form, RotationForm::matrix);
  EXPECT_EQ(matrix.translation, true);
  EXPECT_EQ(matrix.poses[0].rotation[5], -1);
  // Headings of drones.
  EXPECT_EQ(read("file\tx\ty\tz\theading\tpitch\troll\na\t1\t2\t3\t10\t-90\t0\nb\t1\t2\t3\t10\t-90\t0\n").form,
            RotationForm::yaw_pitch_roll);
  // Quaternions in the order that is asked for: the headings say which number is which.
  const std::string quaternions = "photo,x,y,z,qx,qy,qz,qw\na,0,0,0,0,0,0,1\nb,0,0,0,0,0,1,0\n";
  EXPECT_EQ(read(quaternions).poses[0].rotation[0], 1);
  EXPECT_EQ(read(quaternions, RotationForm::quaternion_xyzw).poses[0].rotation[3], 1);
  // Without headings by the count of columns.
  const PoseTable bare = read("a 1 2 3 1 0 0 0\nb 4 5 6 0 1 0 0\n");
  EXPECT_EQ(bare.poses[1].place, Eigen::Vector3d(4, 5, 6));
  EXPECT_FALSE(bare.form.has_value());
  EXPECT_EQ(read("a 1 2 3 10 20 30\nb 4 5 6 0 1 0\n", RotationForm::yaw_pitch_roll).form, RotationForm::yaw_pitch_roll);
}

TEST(PoseTable, FaultsNameTheirLine) {
  EXPECT_THAT(fault_of("photo,x,y,z,omega,phi,kappa\na,1,2,3,0,0,0\nb,1,2,three,0,0,0\n"), HasSubstr("line 3"));
  EXPECT_THAT(fault_of("photo,x,y,z,omega,phi,kappa\na,1,2,3,0,0,0\n,1,2,3,0,0,0\n"), HasSubstr("names no photo"));
  EXPECT_THAT(fault_of("photo,x,y,z,omega,phi,kappa\na,1,2,3,0,0,0\na,1,2,3,0,0,0\n"), HasSubstr("stands in line 2"));
  EXPECT_THAT(fault_of("photo,x,y,omega,phi,kappa\na,1,2,0,0,0\n"), HasSubstr("places"));
  EXPECT_THAT(fault_of("x,y,z,omega,phi,kappa\n1,2,3,0,0,0\n"), HasSubstr("column of photos"));
  EXPECT_THAT(fault_of("photo,x,y,z,omega,phi\na,1,2,3,0,0\n"), HasSubstr("columns of rotations"));
  EXPECT_THAT(fault_of("a 1 2 3 0 0 0\nb 1 2 3 0 0 0\n"), HasSubstr("which with --angles"));
  EXPECT_THAT(fault_of("a 1 2 3 0 0 0\n", RotationForm::matrix), HasSubstr("7 columns"));
  EXPECT_THAT(fault_of(""), HasSubstr("empty"));
}

}  // namespace
}  // namespace icefield
