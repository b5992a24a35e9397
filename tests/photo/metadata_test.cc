#include "icefield/photo/metadata.h"

#include <gtest/gtest.h>

#include <cmath>

#include "icefield/base/error.h"

namespace icefield {
namespace {

PhotoMetadata photo(const char* make, const char* model, double focal_mm, double focal_35mm) {
  PhotoMetadata m;
  m.width = 6000, m.height = 4000;
  m.make = make, m.model = model;
  m.focal_mm = focal_mm, m.focal_35mm = focal_35mm;
  return m;
}

TEST(SensorTable, UsersExtendIt) {
  SensorTable table = SensorTable::built_in();
  EXPECT_EQ(table.find("Gratcam", "G1"), nullptr);
  table.add("# mine\nGratcam | G1 | 36.0 | 24.0\n", "sensors.txt");
  ASSERT_NE(table.find("GRATCAM", "g1 "), nullptr);
  EXPECT_DOUBLE_EQ(table.find("Gratcam", "Gratcam G1")->width_mm, 36.0);
  table.add("Gratcam | G1 | 35.9 | 23.9", "sensors.txt");  // later lines win
  EXPECT_DOUBLE_EQ(table.find("Gratcam", "G1")->width_mm, 35.9);
}

TEST(SensorTable, ABadLineIsNamed) {
  SensorTable table;
  for (const char* text : {"one | two | three", "a | b | wide | 3", "a | b | -4 | 3", "a | b | 4 | 3 | 2"}) {
    try {
      table.add(std::string("# fine\n") + text, "sensors.txt");
      FAIL() << text;
    } catch (const Error& e) {
      EXPECT_EQ(e.kind(), ErrorKind::input);
      EXPECT_NE(std::string(e.what()).find("sensors.txt, line 2"), std::string::npos) << e.what();
    }
  }
}

TEST(GuessFocal, SensorTableFirst) {
  const auto guess = guess_focal(photo("Firnlicht", "FL-2 Hand", 23.5, 99), SensorTable::built_in());
  EXPECT_EQ(guess.source, FocalSource::sensor_table);
  EXPECT_NEAR(guess.focal_px, 6000, 10);
  EXPECT_GT(guess.uncertainty_percent, 0);
}

TEST(GuessFocal, PortraitPhotosUseTheSameSensor) {
  PhotoMetadata m = photo("Firnlicht", "FL-2 Hand", 23.5, 0);
  std::swap(m.width, m.height);
  EXPECT_NEAR(guess_focal(m, SensorTable::built_in()).focal_px, 6000, 10);
}

TEST(GuessFocal, EquivalentComparesDiagonals) {
  const auto guess = guess_focal(photo("Nobody", "Knows", 5.0, 27), SensorTable::built_in());
  EXPECT_EQ(guess.source, FocalSource::equivalent_35mm);
  EXPECT_NEAR(guess.focal_px, 27 * std::hypot(6000, 4000) / std::hypot(36, 24), 1e-9);
  EXPECT_GT(guess.uncertainty_percent, 5);
}

TEST(SensorTable, FormatsByTheirTradeNames) {
  SensorTable table;
  table.add("Stein | Kompakt 3 | 1/2.3\nStein | Gross | 44x33\n", "own");
  ASSERT_TRUE(table.find("STEIN", "kompakt 3"));
  EXPECT_EQ(table.find("stein", "Stein Kompakt 3")->width_mm, 6.17);
  EXPECT_EQ(table.find("stein", "gross")->height_mm, 32.90);
  try {
    table.add("Stein | Kompakt 4 | 1/9\n", "own");
    FAIL();
  } catch (const Error& e) {
    EXPECT_NE(e.remedy().find("1/2.3"), std::string::npos) << e.remedy();
  }
}

TEST(GuessFocal, ByTheFocalPlaneUnlessItContradicts) {
  PhotoMetadata m = photo("Nobody", "Knows", 20.0, 0);
  m.pixel_mm = 0.004;
  EXPECT_EQ(guess_focal(m, SensorTable::built_in()).source, FocalSource::focal_plane);
  EXPECT_NEAR(guess_focal(m, SensorTable::built_in()).focal_px, 5000, 1e-9);
  m.focal_35mm = 30;  // 5000 px of a diagonal of 7211 are 30 mm
  EXPECT_EQ(guess_focal(m, SensorTable::built_in()).source, FocalSource::focal_plane);
  m.focal_35mm = 60;
  EXPECT_EQ(guess_focal(m, SensorTable::built_in()).source, FocalSource::equivalent_35mm);
  m.focal_35mm = 0, m.pixel_mm = 0.00001;  // a sensor of 60 micrometres
  EXPECT_EQ(guess_focal(m, SensorTable::built_in()).source, FocalSource::unknown);
}

TEST(GuessFocal, NothingIsKnown) {
  const auto guess = guess_focal(photo("", "", 0, 0), SensorTable::built_in());
  EXPECT_EQ(guess.source, FocalSource::unknown);
  EXPECT_EQ(guess.focal_px, 0);
}

}  // namespace
}  // namespace icefield
