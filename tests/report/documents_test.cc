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

// What is thin, where to stand and which way to look; nothing of that where all is covered.
TEST(OverlapDocument, SaysWhereToTakePhotos) {
  OverlapReport report;
  report.names = {"a.jpg", "b.jpg"};
  report.datum = {"EPSG:25832", "", "m", Axes::east_north_up};
  OverlapSummary& s = report.summary;
  s.outcome = "made", s.cell = 0.5, s.area = 1000, s.wanted = 3, s.wanted_percent = 81.5;
  s.seen_percent = {100, 95, 81.5, 70, 60.5, 40, 20, 10};
  OverlapAdvice advice;
  advice.place = {612010, 5194020}, advice.area = 120;
  advice.towards = {612010, 5194020, 2300}, advice.from = {612010, 5194020, 2360};
  advice.photos = 3, advice.beside = 0, advice.beside_too = 1;
  s.advice = {advice};
  Document document = overlap_document({&report, 1});
  EXPECT_NE(document.text().find("81.5 % is seen by 3 or more, 60.5 % by 5"), std::string::npos) << document.text();
  ASSERT_EQ(document.warnings.size(), 1u);
  EXPECT_NE(
      document.warnings[0].find("take 3 photos from about (612010.00, 5194020.00, 2360.00), looking straight down"),
      std::string::npos)
      << document.warnings[0];
  EXPECT_NE(document.warnings[0].find("where a.jpg and b.jpg look, 120 square m"), std::string::npos);
  EXPECT_EQ(json::parse(document.json)["overlap"][0]["advice"][0]["photos"], 3);
  // To the east, 45 degrees down; without a map no winds are named.
  s.advice[0].from = {611950, 5194020, 2360};
  EXPECT_NE(overlap_document({&report, 1}).warnings[0].find("looking east, 45 degrees down"), std::string::npos);
  report.datum = {};
  EXPECT_NE(overlap_document({&report, 1}).warnings[0].find("looking towards that place"), std::string::npos);
  s.wanted = 7, s.wanted_percent = 20, s.advice.clear();
  document = overlap_document({&report, 1});
  EXPECT_NE(document.text().find("20.0 % is seen by 7 or more;"), std::string::npos) << document.text();
  EXPECT_TRUE(document.warnings.empty());
  // A ring and a facade are not judged in plan.
  s.stand = PhotoStand::around, s.widest_gap_deg = 96;
  s.advice = {advice};
  s.advice[0].reason = OverlapAdvice::Reason::gap_in_ring, s.advice[0].area = 96;
  document = overlap_document({&report, 1});
  EXPECT_NE(document.warnings[0].find("Between a.jpg and b.jpg 96 degrees of the way around are left open"),
            std::string::npos);
  EXPECT_EQ(document.text().find("%"), std::string::npos);
  s.stand = PhotoStand::beside, s.advice.clear();
  EXPECT_NE(overlap_document({&report, 1}).text().find("view coverage"), std::string::npos);
  s.outcome = "the block has too few tie points for a map";
  EXPECT_NE(overlap_document({&report, 1}).text().find("too few tie points"), std::string::npos);
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
