#include "icefield/io/control_file.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cmath>
#include <limits>

#include "icefield/base/error.h"
#include "icefield/io/text_file.h"
#include "tests/tools/scenes.h"

namespace icefield {
namespace {

using testing::HasSubstr;

class ControlFile : public testing::Test {
 protected:
  std::filesystem::path put(const std::string& text) {
    const std::filesystem::path file = folder_ / "table.csv";
    write_file(file, text);
    return file;
  }
  ControlPointTable points(const std::string& text, const std::vector<std::string>& columns = {}) {
    return read_control_points(put(text), columns);
  }
  std::string fault(const std::string& text, const std::vector<std::string>& columns = {}) {
    try {
      points(text, columns);
    } catch (const Error& e) {
      return e.what();
    }
    return "";
  }
  std::filesystem::path folder_ = test::scratch_folder();
};

TEST_F(ControlFile, ReadsWhatSurveyorsProgramsWrite) {
  // The same two points in ten layouts.
  const char* const layouts[] = {
      "G1,633487.25,5184373.5,2359.125\nG2,633593.5,5184473.25,2366.5\n",
      "name,east,north,height\nG1,633487.25,5184373.5,2359.125\nG2,633593.5,5184473.25,2366.5\n",
      "\xEF\xBB\xBFName;East;North;Height\r\nG1;633487,25;5184373,5;2359,125\r\nG2;633593,5;5184473,25;2366,5\r\n",
      "Punktnummer\tRechtswert [m]\tHochwert [m]\tH\xC3\xB6he "
      "[m]\nG1\t633487.25\t5184373.5\t2359.125\nG2\t633593.5\t5184473.25\t2366.5\n",
      "# a remark\nG1  633487.25  5184373.5   2359.125\n\nG2  633593.5   5184473.25  2366.5\n",
      "id,N,E,H\nG1,5184373.5,633487.25,2359.125\nG2,5184473.25,633593.5,2366.5\n",
      "\"G1\",\"633487.25\",\"5184373.5\",\"2359.125\"\n\"G2\",\"633593.5\",\"5184473.25\",\"2366.5\"\n",
      "Nom;Est;Nord;Cote;remarque\nG1;633487.25;5184373.5;2359.125;borne\nG2;633593.5;5184473.25;2366.5;\n",
      "G1,633487.25,5184373.5,2359.125\rG2,633593.5,5184473.25,2366.5\r",
      "G1,+633487.25,5.1843735e6,2359.125,,\nG2,633593.5,5184473.25,2366.5,,\n",
  };
  for (const char* layout : layouts) {
    const ControlPointTable table = points(layout);
    ASSERT_EQ(table.points.size(), 2u) << layout;
    EXPECT_EQ(table.points[0].name, "G1") << layout;
    EXPECT_EQ(table.points[0].place, Eigen::Vector3d(633487.25, 5184373.5, 2359.125)) << layout;
    EXPECT_EQ(table.points[1].place, Eigen::Vector3d(633593.5, 5184473.25, 2366.5)) << layout;
    EXPECT_TRUE(table.points[0].sigma.isZero()) << layout;
  }
}

TEST_F(ControlFile, TakesAccuraciesAndUses) {
  const auto table =
      points("name,x,y,z,sigma_xy,sigma_z,use\nA,1,2,3,0.01,0.03,check\nB,1,2,3,,,Control\nC,1,2,,0.02,,\n");
  EXPECT_EQ(table.points[0].sigma, Eigen::Vector3d(0.01, 0.01, 0.03));
  EXPECT_EQ(table.points[0].use, ControlUse::check);
  EXPECT_TRUE(table.points[1].sigma.isZero());
  EXPECT_EQ(table.points[1].use, ControlUse::control);
  EXPECT_TRUE(std::isnan(table.points[2].place.z()));
  EXPECT_FALSE(table.points[2].use);
  EXPECT_EQ(points("A;1;2;3;0,5\nB;1;2;3;0,5\n").points[0].sigma, Eigen::Vector3d::Constant(0.5));
  EXPECT_EQ(points("pt,e (ft),n (ft),h (ft)\nA,1,2,3\n").units, "ft");
}

TEST_F(ControlFile, TakesColumnsInAnyOrderWhenTold) {
  const auto table = points("7;x;2359.1;5184373.5;633487.2\n8;x;2366.5;5184473.2;633593.5\n",
                            {"name", "-", "height", "north", "east"});
  EXPECT_EQ(table.points[1].name, "8");
  EXPECT_EQ(table.points[1].place, Eigen::Vector3d(633593.5, 5184473.2, 2366.5));
  EXPECT_THAT(fault("A,1,2,3\n", {"name", "easting", "north", "height"}),
              HasSubstr("'easting': is none that is known"));
  EXPECT_THAT(fault("A,1,2,3\n", {"name", "east", "east", "height"}), HasSubstr("given twice"));
}

TEST_F(ControlFile, NamesTheLineTheFaultAndTheRemedy) {
  EXPECT_THAT(fault(""), HasSubstr("is empty"));
  EXPECT_THAT(fault("# nothing but remarks\n\n"), HasSubstr("is empty"));
  EXPECT_THAT(fault(std::string("\xFF\xFEN\0a\0", 6)), HasSubstr("UTF-8"));
  EXPECT_THAT(fault("name,east,north,height\nG1,1,2,3\nG2,1,oops,3\n"),
              AllOf(HasSubstr("line 3"), HasSubstr("'oops' for north")));
  EXPECT_THAT(fault("name,east,north,height\nG1,1,2,3\nG1,4,5,6\n"), AllOf(HasSubstr("line 3"), HasSubstr("line 2")));
  EXPECT_THAT(fault("G1,1,2,3\nG 2,1,2,3,4,5,6,7,8\n"), AllOf(HasSubstr("line 2"), HasSubstr("9 cells")));
  // A name with a blank where blanks part the cells.
  EXPECT_THAT(fault("G1 1 2 3\nG2 1 2 3\nold G3 1 2 3\n"), AllOf(HasSubstr("line 3"), HasSubstr("double quotes")));
  EXPECT_EQ(points("G1 1 2 3\nG2 1 2 3\n\"old G3\" 1 2 3\n").points[2].name, "old G3");
  // Decimal commas between commas.
  EXPECT_THAT(fault("name,east,north,height\nG1,1,5,2,5,3,5\n"), HasSubstr("semicolons"));
  EXPECT_THAT(fault("jm\xC3\xA9no,smer,druhy,vyska\nG1,1,2,3\n"), AllOf(HasSubstr("--columns"), HasSubstr("smer")));
  EXPECT_THAT(fault("G1,1,2\nG2,1,2\n"), HasSubstr("none for height"));
  EXPECT_THAT(fault("name,east,north,height,sigma\nG1,1,2,3,0\n"), HasSubstr("not above 0"));
  EXPECT_THAT(fault("name,east,north,height,use\nG1,1,2,3,tie\n"), HasSubstr("control, check or spot"));
  EXPECT_THAT(fault("name,east,north,height\nG1,,,\nG2,1,2,3\n"), HasSubstr("no coordinates"));
  EXPECT_THAT(fault("name,east,north,height\nG1,4,,5\nG2,1,2,3\n"), HasSubstr("one of east and north alone"));
  EXPECT_THAT(fault("name,east,north,height\n,4,3,5\nG2,1,2,3\n"), HasSubstr("has no name"));
  EXPECT_THAT(fault("name,east,north,height\nG1,1,2,inf\n"), HasSubstr("no number"));
  EXPECT_THROW(read_control_points(folder_ / "none.csv"), Error);
}

TEST_F(ControlFile, ReadsMarksLengthsAndPositions) {
  const auto marks = read_marks(put("image,point,u,v\nflight_001.jpg,G1,431.4,451.1\n\"two words.jpg\",G1,1,2\n"));
  ASSERT_EQ(marks.size(), 2u);
  EXPECT_EQ(marks[0].pixel, Eigen::Vector2d(431.4, 451.1));
  EXPECT_EQ(marks[1].photo, "two words.jpg");
  EXPECT_THROW(read_marks(put("a.jpg,G1,1,2\na.jpg,G1,3,4\n")), Error);
  const auto lengths = read_lengths(put("from;to;length;sigma;use\nA;B;1,2345;0,0005;check\n"));
  EXPECT_EQ(lengths[0].length, 1.2345);
  EXPECT_EQ(lengths[0].use, ControlUse::check);
  EXPECT_THROW(read_lengths(put("from,to,length\nA,B,0\n")), Error);
  EXPECT_THROW(read_lengths(put("from,to,length\nA,A,2\n")), Error);
  const auto positions = read_positions(put("name,easting,northing,altitude,sigma\na.jpg,1,2,3,0.02\n"));
  EXPECT_EQ(positions[0].photo, "a.jpg");
  EXPECT_EQ(positions[0].sigma, Eigen::Vector3d::Constant(0.02));
  EXPECT_THROW(read_positions(put("photo,e,n,h\na.jpg,1,2,\nb.jpg,1,2,3\n")), Error);
}

TEST_F(ControlFile, WritesWhatItReads) {
  std::vector<ControlPointRow> rows = {
      {0, "plain", {633487.123456789, 5184373.1, 0.1}, {0.01, 0.02, 0.03}, ControlUse::check},
      {0, "with, \"odd\" name", {1e-7, -5, std::nan("")}, {0, 0, 0}, std::nullopt}};
  const auto back = points(text_of_control_points(rows)).points;
  ASSERT_EQ(back.size(), 2u);
  EXPECT_EQ(back[0].place, rows[0].place);
  EXPECT_EQ(back[0].sigma, rows[0].sigma);
  EXPECT_EQ(back[0].use, rows[0].use);
  EXPECT_EQ(back[1].name, rows[1].name);
  EXPECT_EQ(back[1].place.x(), 1e-7);
  EXPECT_TRUE(std::isnan(back[1].place.z()));
  const auto marks = read_marks(put(text_of_marks({{0, "a b.jpg", "G1", {1.25, 1.0 / 3}, 0.3}})));
  EXPECT_EQ(marks[0].pixel.y(), 1.0 / 3);
  EXPECT_EQ(marks[0].photo, "a b.jpg");
  EXPECT_EQ(read_lengths(put(text_of_lengths({{0, "A", "B", 2.5, 0, ControlUse::check}})))[0].length, 2.5);
  EXPECT_EQ(read_positions(put(text_of_positions({{0, "a.jpg", {1, 2, 3}, {0, 0, 0}}})))[0].place.z(), 3);
}

// A table of spots alone has no number in it.
TEST(SpotFile, SpotsAloneAreReadAsTheyWereWritten) {
  std::vector<ControlPointRow> rows(2);
  rows[0].name = "A", rows[1].name = "B";
  for (ControlPointRow& row : rows) {
    row.place.setConstant(std::numeric_limits<double>::quiet_NaN());
    row.use = ControlUse::spot;
  }
  const auto file = test::scratch_folder() / "spots.csv";
  write_file(file, text_of_control_points(rows));
  const std::vector<ControlPointRow> again = read_control_points(file).points;
  ASSERT_EQ(again.size(), 2u);
  EXPECT_EQ(again[1].name, "B");
  EXPECT_EQ(again[1].use, ControlUse::spot);
  EXPECT_FALSE(again[1].place.allFinite());
}

}  // namespace
}  // namespace icefield
