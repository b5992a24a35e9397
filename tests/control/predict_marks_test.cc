#include "icefield/control/predict_marks.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "tests/tools/made_up.h"

namespace icefield {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;
using testing::HasSubstr;

std::vector<SpotMark> marks_of(const Block& block, const Vector3d& spot, std::initializer_list<std::uint32_t> photos) {
  std::vector<SpotMark> marks;
  for (const std::uint32_t i : photos)
    marks.push_back({PosedIndex(i), *project(block.cameras[0], block.photos[i].pose.to_camera(spot)), 0.5});
  return marks;
}

TEST(LocateSpot, ComesFromMostOfItsMarks) {
  const Block block = test::ring_block(8, 60, 0);
  const Vector3d spot(0.3, -0.2, 0.4);
  auto marks = marks_of(block, spot, {0, 2, 3, 5});
  LocatedSpot found = locate_spot(block, marks);
  ASSERT_TRUE(found.known);
  EXPECT_LT((found.position - spot).norm(), 1e-9);
  EXPECT_GT(found.covariance.trace(), 0);
  marks[1].pixel += Vector2d(30, -12);
  found = locate_spot(block, marks);
  ASSERT_TRUE(found.known);
  EXPECT_LT((found.position - spot).norm(), 1e-9);
  EXPECT_EQ(found.agrees, (std::vector<bool>{true, false, true, true}));
  EXPECT_EQ(found.outcome, "from 3 of 4 marks");
  const auto two = marks_of(block, spot, {0, 2});
  auto apart = two;
  apart[1].pixel += Vector2d(0, 60);
  EXPECT_FALSE(locate_spot(block, apart).known);
  EXPECT_THAT(locate_spot(block, apart).outcome, HasSubstr("do not meet"));
  EXPECT_THAT(locate_spot(block, std::span(two).first(1)).outcome, HasSubstr("two are needed"));
}

TEST(LocateSpot, OneMarkAloneTakesItsDistanceFromTiePoints) {
  const Block block = test::ring_block(8, 400, 0);
  const auto marks = marks_of(block, block.points[7], {1});
  const LocatedSpot spot = locate_by_tie_points(block, marks[0]);
  ASSERT_TRUE(spot.known) << spot.outcome;
  const Vector3d ray = (spot.position - block.photos[1].pose.centre).normalized(),
                 off = spot.position - block.points[7];
  EXPECT_LT((off - ray * ray.dot(off)).norm(), 1e-6);  // on the ray
  EXPECT_LT(off.norm(), 1.5);
  EXPECT_GT(ray.dot(spot.covariance * ray), 100 * (spot.covariance.trace() - ray.dot(spot.covariance * ray)));
}

TEST(PredictMarks, SaysWhereAndHowUseful) {
  const Block block = test::ring_block(8, 60, 0);
  const Vector3d spot(0.1, 0.2, -0.3);
  auto marks = marks_of(block, spot, {0, 1});
  const LocatedSpot found = locate_spot(block, marks);
  const auto guesses = predict_marks(block, found, marks);
  ASSERT_EQ(guesses.size(), 6u);  // all photos of the ring see it, and two are marked
  for (const PredictedMark& guess : guesses) {
    EXPECT_LT((guess.pixel - *project(block.cameras[0], block.photos[guess.photo].pose.to_camera(spot))).norm(), 1e-6);
    EXPECT_GT(guess.covariance.determinant(), 0);
  }
  for (std::size_t k = 1; k < guesses.size(); ++k) EXPECT_LE(guesses[k].gain, guesses[k - 1].gain);
  // The first takes away about what it says.
  marks.push_back(marks_of(block, spot, {guesses[0].photo})[0]);
  const double after = locate_spot(block, marks).covariance.trace();
  EXPECT_NEAR(1 - after / found.covariance.trace(), guesses[0].gain, 0.2);
  EXPECT_GT(guesses[0].gain, 0.3);
  EXPECT_TRUE(predict_marks(block, LocatedSpot(), {}).empty());
}

TEST(PredictMarks, EllipsesHaveTheirAxes) {
  Eigen::Matrix2d c;
  c << 4, 0, 0, 1;
  const Ellipse e = ellipse_of(c);
  EXPECT_NEAR(e.longer, 2 * 1.5096, 1e-3);
  EXPECT_NEAR(e.shorter, 1.5096, 1e-3);
  EXPECT_NEAR(e.turn, 0, 1e-9);
}

}  // namespace
}  // namespace icefield
