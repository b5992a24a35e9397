#include "icefield/report/documents.h"

#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

#include "icefield/judge/photo_quality.h"

namespace icefield {
namespace {

using nlohmann::json;

PhotoList three_photos() {
  PhotoList list;
  for (const char* name : {"ice_1.jpg", "ice_2.jpg", "ice_3.jpg"}) {
    SurveyPhoto photo;
    photo.name = name;
    photo.camera = CameraIndex(0);
    list.photos.push_back(photo);
  }
  list.used = 3;
  list.cameras.push_back({"Firnlicht", {make_camera(CameraModel::radial, 1200, 800, 1000), 2}, FocalSource::given, 3});
  return list;
}

TEST(Document, TablesStandApartAndEmptyOnesNotAtAll) {
  Document document;
  document.say("One sentence.");
  document.show(Table({"photo ", "matches"}), "Nothing in it");
  Table table({"photo ", "matches"});
  table.add({"ice_1.jpg", "12"});
  document.show(std::move(table), "Matches");
  document.say("Another.");
  document.show(ImageU8(4, 4, 3), "A figure");
  EXPECT_EQ(document.text(), "One sentence.\n\nMatches:\nphoto      matches\nice_1.jpg       12\nAnother.\n");
  EXPECT_EQ(document.parts.size(), 4u);
}

TEST(PhotosDocument, NamesPositionsThatCannotBe) {
  PhotoList list = three_photos();
  EXPECT_EQ(photos_document(list).text().find("have a position"), std::string::npos);
  list.photos[0].metadata.gps = {46.79, 10.76, 2310};
  list.photos[1].metadata.gps = {0, 0, 0};
  const Document document = photos_document(list);
  EXPECT_NE(document.text().find("2 of 3 photos have a position, 1 of them one that cannot be; none: ice_3.jpg"),
            std::string::npos)
      << document.text();
  ASSERT_EQ(document.warnings.size(), 1u);
  EXPECT_EQ(document.warnings[0], "the position of ice_2.jpg is 0 degrees north, 0 degrees east: it takes no part");
  const json told = json::parse(document.json);
  EXPECT_TRUE(told["photos"][0]["position"]["fault"].is_null());
  EXPECT_EQ(told["photos"][1]["position"]["fault"], "is 0 degrees north, 0 degrees east");
}

TEST(MatchDocument, WarnsOfPhotosWithoutAPair) {
  MatchReport report;
  report.photos = 3, report.pairs = 3, report.verified = 1, report.matches = 40;
  report.photo_features = {100, 90, 5}, report.photo_pairs = {1, 1, 0}, report.photo_matches = {40, 40, 0};
  report.weak = {"", "", "dark (mean brightness 0.03)"};
  const Document document = match_document(three_photos(), report);
  ASSERT_EQ(document.warnings.size(), 1u);
  EXPECT_EQ(document.warnings[0], "ice_3.jpg: no verified pair (5 features): dark (mean brightness 0.03)");
  const json told = json::parse(document.json);
  EXPECT_EQ(told["by_photo"][2]["few_because"], "dark (mean brightness 0.03)");
  EXPECT_TRUE(told["by_photo"][0]["few_because"].is_null());
  EXPECT_NE(document.text().find("Photos with few matches"), std::string::npos);
  report.weak = {"", "", ""}, report.photo_pairs = {1, 1, 1};
  EXPECT_TRUE(match_document(three_photos(), report).warnings.empty());
  EXPECT_EQ(match_document(three_photos(), report).text().find("Photos with few matches"), std::string::npos);
}

TEST(PoseDocument, NamesWhatHangsByOneThreadTogether) {
  OrientResult result;
  result.summary.outcome = "3 of 5 photos posed";
  for (std::size_t i = 0; i < 3; ++i)
    result.doubtful.push_back({PhotoIndex(i), i == 1 ? "far out" : "hangs on one pair"});
  const Document document = pose_document(three_photos(), result);
  const json told = json::parse(document.json);
  EXPECT_EQ(told["doubtful"].size(), 3u);
  EXPECT_NE(document.text().find("ice_1.jpg, ice_3.jpg  hangs on one pair"), std::string::npos) << document.text();
}

TEST(PhotosByQuality, PutsTheWorstFirstByResidualsOrPlace) {
  BlockStatistics statistics;
  statistics.photos = 3;
  statistics.photo_rms_px = {0.3, 0.9, 0.3};
  statistics.photo_gsd = {0.01, 0.01, 0.01};
  EXPECT_EQ(photos_by_quality(statistics, {}).front().photo, 1u);
  BlockPrecision precision;
  precision.known = true;
  precision.place_sigma = {0.001, 0.001, 0.01}, precision.turn_sigma = {1e-4, 1e-4, 1e-4};
  const std::vector<PhotoQuality> order = photos_by_quality(statistics, precision);
  EXPECT_EQ(order.front().photo, 2u);
  EXPECT_DOUBLE_EQ(order.front().place_gsd, 1.0);
  EXPECT_EQ(order.back().photo, 0u);
}

}  // namespace
}  // namespace icefield
