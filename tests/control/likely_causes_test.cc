#include "icefield/control/likely_causes.h"

#include <gmock/gmock.h>
#include <fmt/format.h>
#include <gtest/gtest.h>

namespace icefield {
namespace {

using Eigen::Vector3d;
using testing::ElementsAre;
using testing::HasSubstr;
using testing::IsEmpty;

const std::vector<GpsPosition> kPhotos = {{46.8, 10.75, 2310}, {46.8005, 10.7507, 2311}, {46.7996, 10.7494, 2309}};

std::vector<NamedPlace> in(const std::string& crs) {
  const CrsTransform way("EPSG:4979", crs);
  std::vector<NamedPlace> places;
  for (int k = 0; k < 5; ++k)
    places.push_back({fmt::format("G{}", k + 1), *way({10.75 + 0.0003 * k, 46.8 - 0.0002 * k * k, 2300.0 + k})});
  return places;
}
std::vector<std::string> causes(const std::vector<NamedPlace>& places, const std::string& crs = "EPSG:25832",
                                const std::vector<GpsPosition>& photos = kPhotos) {
  return likely_causes(places, crs_of(crs), photos);
}

TEST(LikelyCauses, SayNothingOfWhatIsRight) {
  EXPECT_THAT(causes(in("EPSG:25832")), IsEmpty());
  EXPECT_THAT(causes(in("EPSG:25832"), "EPSG:25832", {}), IsEmpty());
  EXPECT_THAT(causes(in("EPSG:31254"), "EPSG:31254"), IsEmpty());
  EXPECT_THAT(causes({}), IsEmpty());
}

TEST(LikelyCauses, AreNamed) {
  auto places = in("EPSG:25832");
  for (NamedPlace& p : places) std::swap(p.place.x(), p.place.y());
  EXPECT_THAT(causes(places), ElementsAre(HasSubstr("All 5 points lie thousands of kilometres from the photos: likely "
                                                    "east and north are exchanged")));
  EXPECT_THAT(causes(places, "EPSG:25832", {}), ElementsAre(HasSubstr("east and north are exchanged")));
  EXPECT_THAT(causes(in("EPSG:25833")), ElementsAre(HasSubstr("EPSG:25833 (ETRS89 / UTM zone 33N)")));
  EXPECT_THAT(causes(in("EPSG:31254")), ElementsAre(HasSubstr("another CRS")));
  places = in("EPSG:25832");
  for (NamedPlace& p : places) p.place /= 0.3048;
  EXPECT_THAT(causes(places), ElementsAre(HasSubstr("they are in feet")));
  places = in("EPSG:25832");
  for (NamedPlace& p : places) p.place.x() += 32e6;
  EXPECT_THAT(causes(places), ElementsAre(HasSubstr("number of the zone")));
  for (const bool latitude_first : {false, true}) {
    places = in("EPSG:25832");
    for (std::size_t k = 0; k < places.size(); ++k) {
      places[k].place = Vector3d(10.75 + 0.0003 * static_cast<double>(k), 46.8, 2300);
      if (latitude_first) std::swap(places[k].place.x(), places[k].place.y());
    }
    EXPECT_THAT(causes(places), ElementsAre(HasSubstr(latitude_first ? "degrees of latitude and longitude"
                                                                     : "degrees of longitude and latitude")));
  }
}

TEST(LikelyCauses, AreToldByPoint) {
  auto places = in("EPSG:25832");
  const auto zone = in("EPSG:25833");
  places[1] = zone[1], places[3] = zone[3];
  EXPECT_THAT(causes(places), ElementsAre(HasSubstr("Points 'G2', 'G4' lie")));
  places = in("EPSG:25832");
  places[2].place.x() += 100000;
  EXPECT_THAT(causes(places),
              ElementsAre(AllOf(HasSubstr("Point 'G3' lies 100 km"), HasSubstr("nothing that usually"))));
}

TEST(LikelyCauses, PositionsThatCannotBe) {
  std::vector<std::optional<GpsPosition>> photos(kPhotos.begin(), kPhotos.end());
  photos.push_back(GpsPosition{0, 0, 0});
  photos.push_back(std::nullopt);
  photos.push_back(GpsPosition{48.2, 16.37, 150});
  const auto faults = faults_of_gps(photos);
  EXPECT_EQ(faults[0], "");
  EXPECT_THAT(faults[3], HasSubstr("0 degrees north"));
  EXPECT_EQ(faults[4], "");
  EXPECT_THAT(faults[5], HasSubstr("km from the others"));
  const std::vector<std::optional<GpsPosition>> alike(4, GpsPosition{46.8, 10.75, 2310});
  EXPECT_THAT(faults_of_gps(alike)[2], HasSubstr("same as"));
}

TEST(LikelyCauses, TheSeaLiesAboveTheEllipsoidInTheAlps) {
  const auto height = geoid_height_m(46.8, 10.75);
  ASSERT_TRUE(height);
  EXPECT_NEAR(*height, 50, 3);
}

}  // namespace
}  // namespace icefield
