// Surveys of photos as they come from the field: names, masks, cameras.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include "icefield/io/photo_file.h"
#include "icefield/io/text_file.h"
#include "icefield/survey/survey.h"
#include "src/survey/survey_state.h"
#include "src/survey/toml_edit.h"
#include "tests/tools/monitors.h"
#include "tests/tools/scenes.h"

namespace icefield {
namespace {
namespace fs = std::filesystem;

using test::Remembering;

// Each of its own content.
void photo(const fs::path& file, const PhotoMetadata& metadata = {}, int width = 96, int height = 64) {
  static int count = 0;
  ++count;
  fs::create_directories(file.parent_path());
  ImageU8 image(width, height, 3);
  for (int y = 0; y < height; ++y)
    for (int x = 0; x < width; ++x)
      for (int c = 0; c < 3; ++c)
        image.at(x, y, c) = static_cast<std::uint8_t>((x * x + 3 * y * (x + count) + 50 * c) & 255);
  write_photo(file, image, metadata);
}

fs::path new_survey(const std::string& name, const std::vector<fs::path>& sources) {
  const fs::path folder = test::scratch_folder() / name;
  Survey::begin(folder, sources);
  return folder;
}

std::vector<std::string> names_of(const PhotoList& list) {
  std::vector<std::string> names;
  for (const SurveyPhoto& p : list.photos) names.push_back(p.name);
  return names;
}

TEST(FieldSurvey, NamesAreTheShortestEndsThatTellApart) {
  EXPECT_EQ(shortest_names({"/d/f1/100/X.JPG", "/d/f2/100/X.JPG", "/d/f2/100/Y.JPG", "/d/f2/101/X.JPG"}),
            (std::vector<std::string>{"f1/100/X.JPG", "f2/100/X.JPG", "Y.JPG", "101/X.JPG"}));
  EXPECT_EQ(shortest_names({"/X.JPG", "/a/X.JPG"}), (std::vector<std::string>{"X.JPG", "a/X.JPG"}));
  EXPECT_TRUE(shortest_names({}).empty());
}

TEST(FieldSurvey, PhotosOfOneNameAreToldApartEverywhere) {
  const fs::path card = test::scratch_folder() / "cards";
  for (const char* name : {"flight1/100MEDIA/X.jpg", "flight2/100MEDIA/X.jpg", "flight2/100MEDIA/Y.jpg"})
    photo(card / name);
  const fs::path folder = new_survey("two-cards", {card});
  Remembering monitor;
  Survey survey(folder, Executor(1), monitor);
  EXPECT_EQ(names_of(survey.photos()),
            (std::vector<std::string>{"flight1/100MEDIA/X.jpg", "flight2/100MEDIA/X.jpg", "Y.jpg"}));
  // By any end of the path that one photo alone has.
  EXPECT_EQ(survey.photo("100MEDIA/Y.jpg").name, "Y.jpg");
  try {
    survey.photo("X.jpg");
    FAIL();
  } catch (const Error& e) {
    EXPECT_NE(e.fault().find("flight2/100MEDIA/X.jpg"), std::string::npos) << e.fault();
    EXPECT_NE(e.remedy().find("more of the path"), std::string::npos);
  }
  // A name of the time when it was alone switches nothing off unseen.
  write_file(folder / "survey.toml", "[photos]\nsources = [" + quoted(card.string()) + "]\noff = [\"X.jpg\"]\n");
  Survey again(folder, Executor(1), monitor);
  EXPECT_EQ(again.photos().used, 3u);
  ASSERT_EQ(monitor.warnings.size(), 1u);
  EXPECT_NE(monitor.warnings[0].find("fits 2 photos"), std::string::npos) << monitor.warnings[0];
  again.switch_photos({"flight2/100MEDIA/X.jpg"}, false);
  EXPECT_EQ(again.photos().used, 2u);

  // Masks in a tree of the same shape; one that could be of either photo hides nothing by chance.
  again.switch_photos({"flight2/100MEDIA/X.jpg"}, true);
  const fs::path masks = test::scratch_folder() / "masks";
  ImageU8 mask(96, 64);
  fs::create_directories(masks / "flight2/100MEDIA");
  write_photo(masks / "flight2/100MEDIA/X.png", mask);
  write_photo(masks / "Y.png", mask);
  again.set_masks(masks);
  EXPECT_TRUE(again.photo("flight1/100MEDIA/X.jpg").mask.empty());
  EXPECT_EQ(again.photo("flight2/100MEDIA/X.jpg").mask, masks / "flight2/100MEDIA/X.png");
  EXPECT_EQ(again.photo("Y.jpg").mask, masks / "Y.png");
  write_photo(masks / "X.png", mask);
  Survey third(folder, Executor(1), monitor);
  EXPECT_NE(third.photo("flight1/100MEDIA/X.jpg").left_out.find("could be that of another photo"), std::string::npos);
  EXPECT_EQ(third.photo("flight2/100MEDIA/X.jpg").left_out, "");
}

TEST(FieldSurvey, BodiesAndZoomedLensesAreCamerasOfTheirOwn) {
  const fs::path card = test::scratch_folder() / "zoomed";
  PhotoMetadata m;
  m.make = "Firnlicht", m.model = "FL-2 Hand", m.body = "1";
  int number = 0;
  const auto add = [&](double focal_mm, const char* body) {
    m.focal_mm = focal_mm, m.body = body;
    photo(card / fmt::format("p{}.jpg", ++number), m);
  };
  for (const double mm : {24.0, 24.1, 24.2}) add(mm, "1");  // jitter of one length
  add(24.5, "1");                                           // two percent on
  add(35, "1");
  add(24, "2");
  const fs::path folder = new_survey("zoom", {card});
  Monitor monitor;
  Survey survey(folder, Executor(1), monitor);
  const PhotoList& list = survey.photos();
  std::vector<std::uint32_t> cameras;
  for (const SurveyPhoto& p : list.photos) cameras.push_back(p.camera.value);
  EXPECT_EQ(cameras, (std::vector<std::uint32_t>{0, 0, 0, 1, 2, 3}));
  EXPECT_EQ(list.cameras[3].name, "Firnlicht FL-2 Hand 24 mm 96x64, body 2");
  // A row of the user's own table names a format.
  m.model = "Kompakt 5", m.focal_mm = 5, m.body = "";
  photo(card / "p7.jpg", m);
  write_file(folder / "sensors.txt", "Firnlicht | Kompakt 5 | 1/2.3\n");
  Survey again(folder, Executor(1), monitor);
  EXPECT_EQ(again.photos().cameras.back().source, FocalSource::sensor_table);
  EXPECT_NEAR(again.photos().cameras.back().prior.camera.focal(), 5 / (6.17 / 96), 0.01);
}

TEST(FieldSurvey, PhotosTurnedInTheirExifShareTheirCamera) {
  const fs::path card = test::scratch_folder() / "turned";
  PhotoMetadata m;
  m.make = "Firnlicht", m.model = "FL-2 Hand", m.focal_mm = 24;
  for (const int rotation : {1, 6, 3, 8}) {
    m.display_rotation = rotation;
    photo(card / fmt::format("r{}.jpg", rotation), m);
  }
  Monitor monitor;
  Survey survey(new_survey("rotations", {card}), Executor(1), monitor);
  ASSERT_EQ(survey.photos().cameras.size(), 1u);
  EXPECT_EQ(survey.photo("r6.jpg").metadata.display_rotation, 6);
  EXPECT_EQ(survey.photo("r6.jpg").metadata.width, 96);
}

TEST(FieldSurvey, ARawBesideItsPhotoIsTheSameShot) {
  const fs::path card = test::scratch_folder() / "both";
  for (const char* name : {"IMG_1.jpg", "IMG_2.jpg"}) photo(card / name);
  // The preview of the RAW is another picture here, so that only the name tells.
  photo(card / "other.jpg");
  fs::rename(card / "other.jpg", card / "img_1.NEF");
  Remembering monitor;
  Survey survey(new_survey("raw-and-jpeg", {card}), Executor(1), monitor);
  EXPECT_EQ(survey.photos().used, 2u);
  EXPECT_NE(survey.photo("img_1.NEF").left_out.find("same shot as IMG_1.jpg"), std::string::npos);
  EXPECT_TRUE(monitor.warnings.empty()) << monitor.warnings[0];
  survey.switch_photos({"IMG_1.jpg"}, false);
  EXPECT_EQ(survey.photos().used, 2u);
  EXPECT_EQ(survey.photo("img_1.NEF").left_out, "");
}

}  // namespace
}  // namespace icefield
