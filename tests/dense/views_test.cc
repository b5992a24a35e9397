// Which photos are matched with which, and patches where texture is weak; on made-up blocks and views.
#include <gtest/gtest.h>

#include <algorithm>
#include <cmath>
#include <functional>
#include <numbers>

#include "icefield/base/random.h"
#include "icefield/dense/coverage.h"
#include "icefield/dense/dense.h"
#include "simulate/noise.h"
#include "src/dense/local_planes.h"
#include "tests/tools/made_up.h"

namespace icefield {
namespace {

Bounds all_of(const Block& block) {
  Bounds bounds = automatic_bounds(block);
  bounds.half_size *= 10;
  return bounds;
}

// Photos on an arc around a cloud of points, at these angles from the first; all see all of it from as far.
Block arc_block(const std::vector<double>& angles_deg) {
  Block block;
  block.cameras = {make_camera(CameraModel::radial, 1000, 800, 900)};
  for (std::size_t i = 0; i < angles_deg.size(); ++i) {
    const double angle = angles_deg[i] * std::numbers::pi / 180;
    block.photos.push_back(
        {PhotoIndex(i), CameraIndex(0),
         look_at({8 * std::cos(angle), 8 * std::sin(angle), 0}, Eigen::Vector3d::Zero(), Eigen::Vector3d::UnitZ())});
  }
  CounterRandom random(5);
  for (int k = 0; k < 200; ++k) {
    const Eigen::Vector3d p(random.uniform(-0.3, 0.3), random.uniform(-0.3, 0.3), random.uniform(-0.3, 0.3));
    std::vector<Observation> seen;
    for (std::uint32_t i = 0; i < block.photos.size(); ++i)
      seen.push_back({PosedIndex(i), FeatureIndex(), *project(block.cameras[0], block.photos[i].pose.to_camera(p))});
    block.add_point(p, seen);
  }
  return block;
}

TEST(ChooseViews, PrefersModerateAngles) {
  const Block block = arc_block({0, 1, 4, 11, -17, 38, 48, 70});
  DenseOptions options;
  const auto of_first = [&](int count) {
    options.max_neighbours = count;
    return choose_views(block, all_of(block), options)[0].photos;
  };
  // Those at 11 and 17 degrees before those at 4 and 38; one degree shows no depth, 70 another side.
  EXPECT_EQ(of_first(2), (std::vector<std::uint32_t>{3, 4}));
  std::vector<std::uint32_t> all = of_first(8);
  EXPECT_EQ(std::vector<std::uint32_t>(all.begin(), all.begin() + 2), (std::vector<std::uint32_t>{3, 4}));
  std::sort(all.begin(), all.end());
  EXPECT_EQ(all, (std::vector<std::uint32_t>{2, 3, 4, 5, 6}));
  options.min_angle_deg = 30, options.max_angle_deg = 60;
  all = of_first(8);
  EXPECT_EQ(all, (std::vector<std::uint32_t>{5, 6}));
  options.min_shared_points = 201;
  EXPECT_TRUE(of_first(8).empty());
}

TEST(ChooseViews, ABlurredPhotoComesBehindASharpOne) {
  const Block block = test::ring_block(24, 300, 0.3);
  DenseOptions options;
  options.max_neighbours = 2;
  const Bounds bounds = all_of(block);
  const auto lists = [&](std::span<const double> sharpness) {
    std::vector<std::vector<std::uint32_t>> photos;
    for (const MatchViews& views : choose_views(block, bounds, options, sharpness)) photos.push_back(views.photos);
    return photos;
  };
  const auto alike = lists({});
  ASSERT_EQ(alike[0].size(), 2u);
  std::vector<double> sharpness(24, 1.0);
  EXPECT_EQ(lists(sharpness), alike) << "all as sharp";
  // Its first choice is blurred: another takes its place. As a photo with a map of its own it keeps its neighbours.
  sharpness[alike[0][0]] = 0.2;
  const auto changed = lists(sharpness);
  EXPECT_EQ(std::count(changed[0].begin(), changed[0].end(), alike[0][0]), 0);
  EXPECT_EQ(changed[alike[0][0]], alike[alike[0][0]]);
  // Not known is no blur.
  sharpness[alike[0][0]] = 0;
  EXPECT_EQ(lists(sharpness)[0], alike[0]);
}

// Photos in strips above flat ground, four in five of which the next along the strip shows as well, and two in three
// the next strip.
Block strips(int rows, int columns) {
  Block block;
  block.cameras = {make_camera(CameraModel::radial, 1200, 800, 1000)};
  for (int row = 0; row < rows; ++row)
    for (int column = 0; column < columns; ++column) {
      PosedPhoto photo{PhotoIndex(block.photos.size()), CameraIndex(0), {}};
      photo.pose.centre = {2.0 * column, 3.0 * row, 10};
      photo.pose.orientation = Eigen::Quaterniond(0, 1, 0, 0);
      block.photos.push_back(photo);
    }
  CounterRandom random(8);
  for (int k = 0; k < 120 * rows * columns; ++k) {
    const Eigen::Vector3d p(random.uniform(-6, 2 * columns + 4), random.uniform(-4, 3 * rows + 1), 0);
    std::vector<Observation> seen;
    for (std::uint32_t i = 0; i < block.photos.size(); ++i)
      if (const auto pixel = project(block.cameras[0], block.photos[i].pose.to_camera(p));
          pixel && pixel->x() > 0 && pixel->y() > 0 && pixel->x() < 1200 && pixel->y() < 800)
        seen.push_back({PosedIndex(i), FeatureIndex(), *pixel});
    if (seen.size() >= 2) block.add_point(p, seen);
  }
  return block;
}

TEST(ChooseViews, EachPartIsAskedOfThoseThatSeeIt) {
  const Block block = strips(4, 7);
  const DenseOptions options;
  const std::vector<MatchViews> views = choose_views(block, all_of(block), options);
  std::size_t asked_parts = 0;
  for (std::size_t i = 0; i < views.size(); ++i) {
    const MatchViews& v = views[i];
    ASSERT_EQ(v.columns, 16);
    ASSERT_EQ(v.asked.size(), static_cast<std::size_t>(v.columns * v.rows));
    EXPECT_LE(v.photos.size(), static_cast<std::size_t>(options.max_neighbours));
    for (int row = 0; row < v.rows; ++row)
      for (int column = 0; column < v.columns; ++column) {
        const Eigen::Vector2d at((column + 0.5) / v.columns * 1.2 - 0.6, 0.4 - (row + 0.5) / v.rows * 0.8);
        const Eigen::Vector3d place = block.photos[i].pose.centre + 10 * Eigen::Vector3d(at.x(), at.y(), -1);
        const auto sees = [&](std::size_t j, double margin) {
          const auto pixel = project(block.cameras[0], block.photos[j].pose.to_camera(place));
          return pixel && pixel->x() > margin && pixel->y() > margin && pixel->x() < 1200 - margin &&
                 pixel->y() < 800 - margin;
        };
        std::size_t seeing = 0;  // all of the part, and at an angle that depth can be told at
        for (std::size_t j = 0; j < block.photos.size(); ++j) {
          const Eigen::Vector3d a = block.photos[i].pose.centre - place, b = block.photos[j].pose.centre - place;
          const double angle = std::acos(a.normalized().dot(b.normalized())) * 180 / std::numbers::pi;
          seeing += j != i && sees(j, 50) && angle > options.min_angle_deg + 1 && angle < options.max_angle_deg - 10;
        }
        const std::uint16_t asked = v.asked[static_cast<std::size_t>(row * v.columns + column)];
        int right = 0, all = 0;
        for (std::size_t k = 0; k < v.photos.size(); ++k)
          if (asked >> k & 1) ++all, right += sees(v.photos[k], -40);
        asked_parts += all > 0;
        EXPECT_LE(all, options.part_neighbours);
        EXPECT_GE(right, static_cast<int>(std::min<std::size_t>(seeing, 4))) << i << " " << row << " " << column;
        EXPECT_EQ(all, right) << i << " " << row << " " << column;
      }
  }
  EXPECT_GT(asked_parts, views.size() * 150);
  // The same for any number of threads.
  const std::vector<MatchViews> again = choose_views(block, all_of(block), options, {}, Executor(3));
  for (std::size_t i = 0; i < views.size(); ++i) {
    EXPECT_EQ(again[i].photos, views[i].photos);
    EXPECT_EQ(again[i].asked, views[i].asked);
  }
}

TEST(ChooseViews, WhatIsOutsideOfTheBoundsAsksNobody) {
  const Block block = strips(2, 4);
  Bounds bounds;
  bounds.centre = {0, 0, 0}, bounds.half_size = {1.5, 1.5, 1};
  const MatchViews views = choose_views(block, bounds, {})[0];
  ASSERT_FALSE(views.photos.empty());
  const auto asked = [&](int column, int row) { return views.asked[static_cast<std::size_t>(row * 16 + column)]; };
  EXPECT_NE(asked(8, 5), 0);
  EXPECT_EQ(asked(0, 0), 0);
  EXPECT_EQ(asked(15, 10), 0);
}

TEST(Coverage, TellsHowManySeeEachPartAndWhyNoMore) {
  const Block block = strips(1, 4);  // each photo shows 12 of 18, two farther than the one before
  const std::vector<PhotoCoverage> all = coverage_of_photos(block, all_of(block), {});
  ASSERT_EQ(all.size(), 4u);
  const PhotoCoverage& first = all[0];
  const auto at = [&](const PhotoCoverage& c, int column) { return static_cast<std::size_t>(5 * c.columns + column); };
  EXPECT_EQ(first.views[at(first, 0)], 0);
  EXPECT_EQ(first.reasons[at(first, 0)], ThinReason::nobody_shows);
  EXPECT_EQ(first.views[at(first, 4)], 1) << "the next photo's margin";
  EXPECT_EQ(first.reasons[at(first, 4)], ThinReason::nobody_shows);
  EXPECT_EQ(first.views[at(first, 14)], 3);
  EXPECT_EQ(first.reasons[at(first, 14)], ThinReason::none);
  for (const PhotoCoverage& c : all) {
    std::array<std::size_t, 5> parts{};
    for (const std::uint8_t views : c.views)
      if (views != PhotoCoverage::kOutside) ++parts[std::min<std::size_t>(views, 4)];
    EXPECT_EQ(c.parts, parts);
  }
  EXPECT_NEAR(first.thin_percent(), 100.0 * 5 / 16, 7);
  EXPECT_LT(all[1].thin_percent(), first.thin_percent());
  EXPECT_EQ(first.main_reason(), ThinReason::nobody_shows);
  EXPECT_EQ(coverage_of_photos(block, all_of(block), {}, std::span<const double>(), Executor(3))[2].views,
            all[2].views);
  const auto reason_on_arc = [](const std::vector<double>& angles) {
    const Block arc = arc_block(angles);
    return coverage_of_photos(arc, all_of(arc), {})[0].main_reason();
  };
  EXPECT_EQ(reason_on_arc({0, 1}), ThinReason::same_place);
  EXPECT_EQ(reason_on_arc({0, 70}), ThinReason::far_aside);
  EXPECT_EQ(reason_on_arc({0, 70, 1}), ThinReason::far_aside) << "what comes nearest to helping";
  const Block arc = arc_block({0, 10, 20, 30});
  EXPECT_EQ(coverage_of_photos(arc, automatic_bounds(arc), {})[0].main_reason(), ThinReason::none);
}

// The first photo shows the subject; the second, 15 degrees aside, has `common` points of it. Where `covered`, it sees
// something else at half the distance, all over.
PhotoCoverage beside(int common, bool covered) {
  Block block = arc_block({0, 15, 1, 30});
  Block changed;
  changed.cameras = block.cameras, changed.photos = block.photos;
  const auto add = [&](const Eigen::Vector3d& p, const std::vector<std::uint32_t>& photos) {
    std::vector<Observation> seen;
    for (const std::uint32_t i : photos)
      seen.push_back({PosedIndex(i), FeatureIndex(), *project(block.cameras[0], block.photos[i].pose.to_camera(p))});
    changed.add_point(p, seen);
  };
  for (std::size_t i = 0; i < block.points.size(); ++i) add(block.points[i], {0, 2});
  for (int k = 0; k < common; ++k) add({0.001 * k, -0.001 * k, 0}, {0, 1});
  CounterRandom random(17);
  for (int k = 0; covered && k < 1500; ++k)
    add(0.5 * block.photos[1].pose.centre +
            Eigen::Vector3d(random.uniform(-0.2, 0.2), random.uniform(-2.0, 2.0), random.uniform(-1.6, 1.6)),
        {1, 3});
  return coverage_of_photos(changed, all_of(changed), {})[0];
}

TEST(Coverage, TellsWhatHidesFromWhatIsNotTied) {
  EXPECT_EQ(beside(6, false).main_reason(), ThinReason::few_ties);
  EXPECT_GT(beside(6, false).thin_percent(), 99);
  EXPECT_EQ(beside(30, true).main_reason(), ThinReason::hidden);
  for (int k = 0; k < 6; ++k) EXPECT_EQ(std::string(describe(static_cast<ThinReason>(k))).empty(), k == 0);
}

// The block with photos taken twice: copies of the first few, moved and turned a little.
Block with_repeats(const Block& block, int copies, double moved) {
  Block more;
  more.cameras = block.cameras;
  more.photos = block.photos;
  for (int k = 0; k < copies; ++k) {
    PosedPhoto again = block.photos[static_cast<std::size_t>(k)];
    again.photo = PhotoIndex(block.photos.size() + static_cast<std::size_t>(k));
    again.pose.centre += moved * Eigen::Vector3d(0.6, -0.8, 0);
    more.photos.push_back(again);
  }
  for (std::size_t i = 0; i < block.points.size(); ++i) {
    std::vector<Observation> seen(block.of_point(i).begin(), block.of_point(i).end());
    const std::size_t before = seen.size();
    for (std::size_t o = 0; o < before; ++o)
      if (seen[o].photo < static_cast<std::uint32_t>(copies)) {
        Observation again = seen[o];
        again.photo = PosedIndex(again.photo + block.photos.size());
        seen.push_back(again);
      }
    more.add_point(block.points[i], seen);
  }
  return more;
}

TEST(RepeatedPhotos, AreThoseOfOnePlaceAndTheSharpestStays) {
  const Block ring = test::ring_block(10, 200, 0.3);
  for (const std::uint8_t r : repeated_photos(ring, all_of(ring))) EXPECT_EQ(r, 0) << "36 degrees apart";
  const Block block = with_repeats(ring, 3, 0.02);
  const Bounds bounds = all_of(block);
  const std::vector<std::uint8_t> first_stays = {0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1, 1, 1};
  EXPECT_EQ(repeated_photos(block, bounds), first_stays);
  std::vector<double> sharpness(13, 1.0);
  sharpness[11] = 2;  // the copy of photo 1 is the better one
  EXPECT_EQ(repeated_photos(block, bounds, sharpness),
            (std::vector<std::uint8_t>{0, 1, 0, 0, 0, 0, 0, 0, 0, 0, 1, 0, 1}));
  // Half a metre away on a ring of some metres is another view.
  for (const std::uint8_t r : repeated_photos(with_repeats(ring, 3, 1.0), bounds)) EXPECT_EQ(r, 0);
}

TEST(RepeatedPhotos, CountInTheEstimateWhereTheyAreSkipped) {
  const Block block = with_repeats(test::ring_block(10, 200, 0.3), 3, 0.02);
  DenseOptions options;
  EXPECT_EQ(estimate_dense(block, all_of(block), options, Executor(1)).maps, 13u);
  options.skip_repeats = true;
  const DenseEstimate estimate = estimate_dense(block, all_of(block), options, Executor(1));
  EXPECT_EQ(estimate.maps, 10u);
  EXPECT_EQ(estimate.photos_repeated, 3u);
}

TEST(RepeatedPhotos, HaveNoCoverageWhereTheyAreSkipped) {
  const Block block = with_repeats(test::ring_block(10, 200, 0.3), 3, 0.02);
  DenseOptions options;
  for (const PhotoCoverage& photo : coverage_of_photos(block, all_of(block), options)) EXPECT_GT(photo.looking(), 0u);
  options.skip_repeats = true;
  const std::vector<PhotoCoverage> all = coverage_of_photos(block, all_of(block), options);
  for (std::size_t i = 0; i < all.size(); ++i) EXPECT_EQ(all[i].looking() > 0, i < 10) << i;
}

// Views of the plane z = 0 from two units above it, a third of a unit apart, with the noise of a sensor. `contrast`: of
// its texture, grey values. `bare`: radius around the origin without texture.
DenseView view_of_plane(int number, double contrast, float bare = 0) {
  DenseView view{make_camera(CameraModel::pinhole, 160, 120, 150), {}, {}, ImageU8(160, 120), {}};
  view.pose.centre = {0.33 * number, 0, 2};
  view.pose.orientation = Eigen::Quaterniond(0, 1, 0, 0);
  CounterRandom random(combine_keys(9, static_cast<std::uint64_t>(number)));
  for (int y = 0; y < 120; ++y)
    for (int x = 0; x < 160; ++x) {
      const float u = static_cast<float>(view.pose.centre.x() + (x + 0.5 - 80) / 75),
                  v = static_cast<float>(-(y + 0.5 - 60) / 75);
      const double texture =
          std::hypot(u, v) < bare ? 0 : simulate::fractal({u + 10, v + 10, 0.5f}, 4.0f, 5, 0.7f, 0.0133f, 3);
      view.grey.at(x, y) =
          static_cast<std::uint8_t>(std::clamp(std::lround(128 + contrast * texture + random.normal()), 0l, 255l));
    }
  return view;
}

// Shares of the middle of the map, or of what is bare there, that are believed, and of these that are off by over one
// percent.
std::pair<double, double> believed_and_wrong(double contrast, const DenseOptions& options, float bare = 0) {
  const DenseView reference = view_of_plane(0, contrast, bare), left = view_of_plane(-1, contrast, bare),
                  right = view_of_plane(1, contrast, bare);
  const DenseView* const others[] = {&left, &right};
  std::vector<Eigen::Vector3d> sparse;
  for (int k = 0; k < 12; ++k) sparse.emplace_back(0.3 * (k % 4) - 0.45, 0.3 * (k / 4) - 0.3, 2.0);
  const DepthMap map = match_depth(reference, others, sparse, nullptr, {}, options, 4, Executor(2));
  double asked = 0, believed = 0, wrong = 0;
  for (int y = 15; y < 105; ++y)
    for (int x = 50; x < 110; ++x) {
      if (bare > 0 && std::hypot(x - 79.5, y - 59.5) > 75 * bare) continue;
      ++asked;
      if (map.depth.at(x, y) > 0 && map.cost_at(x, y) < options.max_cost)
        ++believed, wrong += std::abs(map.depth.at(x, y) - 2) > 0.02;
    }
  return {believed / asked, believed > 0 ? wrong / believed : 0};
}

TEST(MatchDepth, LargePatchesAreSampledAllOver) {
  // More samples than there is room for, were they a pixel apart; a patch of its upper rows alone would be off at the
  // middle.
  DenseOptions large;
  large.patch_radius = 7, large.patch_step = 1;
  const auto [believed, wrong] = believed_and_wrong(60, large);
  EXPECT_GT(believed, 0.95);
  EXPECT_LT(wrong, 0.01);
}

TEST(MatchDepth, WidensPatchesWhereTextureIsWeak) {
  DenseOptions narrow, wide;
  narrow.weak_contrast = 0;
  wide.plane_prior = 0;
  const auto [strong, strong_wrong] = believed_and_wrong(60, wide);
  EXPECT_GT(strong, 0.95);
  EXPECT_LT(strong_wrong, 0.03);
  EXPECT_EQ(believed_and_wrong(60, narrow), std::pair(strong, strong_wrong)) << "strong texture is no case for it";
  const auto [before, before_wrong] = believed_and_wrong(4, narrow);
  const auto [after, after_wrong] = believed_and_wrong(4, wide);
  EXPECT_GT(after, 1.3 * before);
  EXPECT_LE(after_wrong, before_wrong + 0.02);
  // With no reliable surface anywhere around, it is rather left empty.
  const auto [doubted, doubted_wrong] = believed_and_wrong(4, {});
  EXPECT_LT(doubted * doubted_wrong, 0.6 * after * after_wrong);
}

TEST(MatchDepth, ExpectsThePlaneAroundWhereTextureIsMissing) {
  DenseOptions none;
  none.plane_prior = 0;
  const auto [before, before_wrong] = believed_and_wrong(60, none, 0.2f);
  const auto [after, after_wrong] = believed_and_wrong(60, {}, 0.2f);
  EXPECT_GT(before_wrong, 0.4) << "noise alone tells no depth";
  EXPECT_LT(after_wrong, 0.6 * before_wrong);
  EXPECT_GT(after, 0.9 * before);
}

// Five neighbours, of which one alone sees the left of the photo.
struct LeftSeenByOne {
  DenseView reference = view_of_plane(0, 60);
  std::vector<DenseView> views;
  std::vector<const DenseView*> others;
  std::vector<Eigen::Vector3d> sparse;
  LeftSeenByOne() {
    for (const int number : {-1, 1, 2, 1, 2}) views.push_back(view_of_plane(number, 60));
    for (const DenseView& view : views) others.push_back(&view);
    for (int k = 0; k < 12; ++k) sparse.emplace_back(0.3 * (k % 4) - 0.45, 0.3 * (k / 4) - 0.3, 2.0);
  }
  DepthMap map(const MatchViews* where, const DenseOptions& options = {}) const {
    return match_depth(reference, others, sparse, nullptr, {}, options, 4, Executor(2), std::nullopt, where);
  }
  // Mean cost of these columns.
  static double mean_cost(const DepthMap& map, int left, int right) {
    double sum = 0;
    for (int y = 15; y < 105; ++y)
      for (int x = left; x < right; ++x) sum += static_cast<double>(map.cost_at(x, y));
    return sum / (90 * (right - left));
  }
  // Share of the columns from `left` to `right` that is believed and right.
  static double right_share(const DepthMap& map, int left, int right) {
    int good = 0, all = 0;
    for (int y = 15; y < 105; ++y)
      for (int x = left; x < right; ++x, ++all)
        good += map.depth.at(x, y) > 0 && map.cost_at(x, y) < 0.5f && std::abs(map.depth.at(x, y) - 2) < 0.02;
    return static_cast<double>(good) / all;
  }
};

TEST(MatchDepth, AsksEachPartOfThoseThatAreToSeeIt) {
  const LeftSeenByOne set;
  MatchViews where;
  where.columns = 8, where.rows = 1;
  where.asked = {0b1, 0b11, 0b111, 0b111, 0b111, 0b111, 0, 0b10};
  const DepthMap map = set.map(&where), without = set.map(nullptr);
  // The first twenty columns are seen by the first neighbour alone. Asked alone it says all; among all it is one of
  // three, of which two say neither yes nor no.
  EXPECT_GT(LeftSeenByOne::right_share(map, 6, 19), 0.85);
  EXPECT_LT(LeftSeenByOne::mean_cost(map, 6, 19), 0.1);
  EXPECT_NEAR(LeftSeenByOne::mean_cost(without, 6, 19), 0.7 * 2 / 3, 0.1);
  EXPECT_GT(LeftSeenByOne::right_share(map, 45, 110), 0.95);
  // Nobody is asked in the seventh part; only the second neighbour supports anything in the last.
  for (int y = 0; y < 120; ++y)
    for (int x = 120; x < 160; ++x) {
      if (x < 140) {
        ASSERT_EQ(map.depth.at(x, y), 0) << x << " " << y;
      }
      ASSERT_EQ(map.support.at(x, y) & ~0b10, 0) << x << " " << y;
    }
}

// However much is believed: a plane of which no neighbour sees anything is none.
TEST(MatchDepth, WhatNobodySeesStaysEmpty) {
  const LeftSeenByOne set;
  MatchViews where;
  where.columns = 8, where.rows = 1;
  where.asked = {0b10, 0b10, 0b111, 0b111, 0b111, 0b111, 0b111, 0b111};
  const DepthMap map = set.map(&where);
  int filled = 0;
  for (int y = 15; y < 105; ++y)
    for (int x = 0; x < 12; ++x) filled += map.depth.at(x, y) > 0 && std::abs(map.depth.at(x, y) - 2) < 0.2;
  EXPECT_EQ(filled, 0) << "the second neighbour begins 25 px farther to the right";
}

// Depths of a surface over a photo of 200x160, but for a hole in the middle.
LocalPlanes planes_around_hole(const std::function<float(float, float)>& depth, int known_from = 0) {
  LocalPlanes planes(200, 160, 180, 99.5f, 79.5f);
  for (int y = known_from; y < 160; ++y)
    for (int x = 0; x < 200; ++x)
      if (std::hypot(x - 99.5f, y - 79.5f) > 25)
        planes.add(x, y, depth((static_cast<float>(x) - 99.5f) / 180, (static_cast<float>(y) - 79.5f) / 180));
  planes.fit();
  return planes;
}

TEST(LocalPlanes, BridgeHolesInPlanesAndNothingElse) {
  // A slanted plane is met within its hole.
  const Eigen::Vector3f slanted(0.3f, -0.2f, 0.25f);
  const LocalPlanes in_plane =
      planes_around_hole([&](float x, float y) { return 1 / slanted.dot(Eigen::Vector3f(x, y, 1)); });
  for (const auto& [x, y] : {std::pair(99, 79), {90, 90}, {115, 70}}) {
    const LocalPlanes::Plane& plane = in_plane.at(x, y);
    ASSERT_GT(plane.tolerance, 0);
    EXPECT_LT(plane.tolerance, 0.01f);
    EXPECT_LT((plane.inverse_depth - slanted).norm(), 1e-4f);
  }
  // Not where a step runs through it, or a ridge; nor beyond the edge of what is known.
  EXPECT_EQ(planes_around_hole([](float x, float) { return x < 0 ? 3.0f : 4.0f; }).at(99, 79).tolerance, 0);
  EXPECT_EQ(planes_around_hole([](float x, float) { return 4 + 8 * std::abs(x); }).at(99, 79).tolerance, 0);
  EXPECT_EQ(planes_around_hole([](float, float) { return 4.0f; }, 100).at(99, 60).tolerance, 0);
  EXPECT_TRUE(LocalPlanes().empty());
}

}  // namespace
}  // namespace icefield
