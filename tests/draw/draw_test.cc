// Pictures: what is drawn is where it should be.
#include "icefield/draw/draw.h"
#include "icefield/draw/draw_terrain.h"
#include "src/draw/palette.h"

#include <algorithm>
#include <gtest/gtest.h>

#include "tests/tools/made_up.h"

namespace icefield {
namespace {

std::array<int, 3> bytes_of(const Tone& tone) {
  const auto byte = [](double v) { return static_cast<int>(255 * v); };
  return {byte(tone.r), byte(tone.g), byte(tone.b)};
}

// Mean place of the pixels of one colour, and their number.
struct Spot {
  double x = 0, y = 0;
  int count = 0;
};
Spot find(const ImageU8& image, int red, int green, int blue) {
  Spot spot;
  for (int y = 0; y < image.height(); ++y)
    for (int x = 0; x < image.width(); ++x)
      if (image.at(x, y, 0) == red && image.at(x, y, 1) == green && image.at(x, y, 2) == blue)
        spot.x += x, spot.y += y, ++spot.count;
  if (spot.count > 0) spot.x /= spot.count, spot.y /= spot.count;
  return spot;
}

PointCloud three_blobs() {
  // Red in the middle, green above it, blue towards +y.
  PointCloud cloud;
  CounterRandom random(1);
  const auto blob = [&](const Eigen::Vector3f& at, std::array<std::uint8_t, 3> colour) {
    for (int i = 0; i < 400; ++i) {
      cloud.positions.push_back(at + 0.05f * Eigen::Vector3f(random.uniformf(), random.uniformf(), random.uniformf()));
      cloud.colours.push_back(colour);
    }
  };
  blob({0, 0, 0}, {255, 0, 0});
  blob({0, 0, 1}, {0, 255, 0});
  blob({0, 1, 0}, {0, 0, 255});
  return cloud;
}

TEST(DrawCloud, UpIsUpAndSidesAreRight) {
  DrawOptions options;
  options.elevation_deg = 10;
  options.azimuth_deg = 0;  // the eye on the side of +x: +y is to the right
  const ImageU8 front = draw_cloud(three_blobs(), {}, std::nullopt, options);
  EXPECT_EQ(front.width(), 1280);
  EXPECT_EQ(front.height(), 800);
  const Spot red = find(front, 255, 0, 0), green = find(front, 0, 255, 0), blue = find(front, 0, 0, 255);
  ASSERT_GT(red.count, 20);
  ASSERT_GT(green.count, 20);
  ASSERT_GT(blue.count, 20);
  EXPECT_LT(green.y, red.y - 100);
  EXPECT_NEAR(green.x, red.x, 40);
  EXPECT_GT(blue.x, red.x + 100);
  // From behind they change sides.
  options.azimuth_deg = 180;
  const ImageU8 back = draw_cloud(three_blobs(), {}, std::nullopt, options);
  EXPECT_LT(find(back, 0, 0, 255).x, find(back, 255, 0, 0).x - 100);
}

TEST(DrawCloud, WhatIsNearerHidesWhatIsBehind) {
  PointCloud cloud;
  for (int i = -40; i <= 40; ++i)
    for (int j = -40; j <= 40; ++j)
      for (int front = 0; front < 2; ++front) {
        cloud.positions.push_back({front ? 0.5f : 0.0f, 0.01f * static_cast<float>(i), 0.01f * static_cast<float>(j)});
        cloud.colours.push_back(front ? std::array<std::uint8_t, 3>{0, 200, 0}
                                      : std::array<std::uint8_t, 3>{200, 0, 0});
      }
  DrawOptions options;
  options.azimuth_deg = 0;
  options.elevation_deg = 0;
  const ImageU8 image = draw_cloud(cloud, {}, std::nullopt, options);
  const Spot near = find(image, 0, 200, 0), far = find(image, 200, 0, 0);
  EXPECT_GT(near.count, 20000);
  EXPECT_LT(far.count, near.count / 20);  // a sheet without holes
}

TEST(DrawTwoClouds, BothFromOnePlaceAndWhatOneLacksStandsOut) {
  // A red sheet; a green one, a little off, that lacks its right third.
  PointCloud whole, part;
  for (int i = -60; i <= 60; ++i)
    for (int j = -40; j <= 40; ++j) {
      whole.positions.push_back({0, 0.01f * static_cast<float>(i), 0.01f * static_cast<float>(j)});
      whole.colours.push_back({250, 0, 0});
      if (i > 20) continue;
      part.positions.push_back({0.002f, 0.01f * static_cast<float>(i), 0.01f * static_cast<float>(j)});
      part.colours.push_back({0, 250, 0});
    }
  const Executor executor(2);
  const std::vector<double> there = distances(whole, part, executor), back = distances(part, whole, executor);
  DrawOptions options;
  options.azimuth_deg = 0, options.elevation_deg = 0;  // +y to the right
  const ImageU8 picture = draw_two_clouds({whole, "whole", there}, {part, "part", back}, Side::perspective, options);
  ASSERT_EQ(picture.width(), 1280);
  const Spot red = find(picture, 250, 0, 0), green = find(picture, 0, 250, 0);
  ASSERT_GT(red.count, 10000);
  EXPECT_NEAR(green.count, red.count * 2.0 / 3, 0.03 * red.count) << "both at one scale";
  EXPECT_LT(red.x, 600);
  const double width = std::sqrt(red.count * 121.0 / 81);
  EXPECT_NEAR(green.x - red.x, 597 - width / 6, 5) << "where it stands, not in the middle of its panel";
  EXPECT_NEAR(red.y, green.y, 3);
  // Below: dark blue where both are, the far end of the scale at the edge that only one has.
  const auto at_distances = [&](double share, int panel) {
    const int x = static_cast<int>(red.x + share * width / 2) + panel * 597, y = static_cast<int>(red.y) + 380;
    return std::array<int, 3>{picture.at(x, y, 0), picture.at(x, y, 1), picture.at(x, y, 2)};
  };
  const auto near = at_distances(-0.5, 0), far = at_distances(0.95, 0), near_in_part = at_distances(-0.5, 1);
  EXPECT_GT(near[2], near[0]) << "dark blue";
  EXPECT_GT(far[1], near[1] + 100) << "light";
  EXPECT_EQ(near, near_in_part) << "one scale for both";
  EXPECT_NO_THROW(draw_two_clouds({PointCloud{}, "none", {}}, {part, "part", {}}, Side::above, options));
}

TEST(DrawCloud, PhotosStandWhereTheyStood) {
  const Block block = test::ring_block(12, 300, 0);
  PointCloud cloud;
  for (const Eigen::Vector3d& p : block.points) cloud.positions.push_back(p.cast<float>());
  DrawOptions options;
  const ImageU8 with = draw_cloud(cloud, block.photos, std::nullopt, options),
                without = draw_cloud(cloud, {}, std::nullopt, options);
  int changed = 0;
  for (int y = 0; y < 750; ++y)
    for (int x = 0; x < with.width(); ++x) changed += with.at(x, y, 0) != without.at(x, y, 0);
  EXPECT_GT(changed, 500);
  EXPECT_NO_THROW(draw_cloud(PointCloud{}, {}, std::nullopt, options));  // nothing is drawn of nothing
}

TEST(DrawDepth, NearAndFarDifferAndEmptyStaysDark) {
  DepthMap map;
  map.depth = ImageF(60, 40);
  for (int y = 0; y < 40; ++y)
    for (int x = 0; x < 60; ++x) map.depth.at(x, y) = x < 20 ? 0.0f : x < 40 ? 1.0f : 4.0f;
  const ImageU8 image = draw_depth(map, {});
  const auto colour = [&](int x) {
    return std::array<int, 3>{image.at(x, 300, 0), image.at(x, 300, 1), image.at(x, 300, 2)};
  };
  EXPECT_EQ(colour(50), bytes_of(kSlate));
  EXPECT_GT(colour(560)[1], colour(1000)[1] + 100);      // near is light, far dark
  EXPECT_GT(colour(1000)[2], bytes_of(kSlate)[2] + 30);  // and yet to be told from where nothing is
  DepthMap empty;
  empty.depth = ImageF(60, 40);
  EXPECT_NO_THROW(draw_depth(empty, {}));
}

// Pixels of a part of a picture that are near a colour.
int near_colour(const ImageU8& image, int x0, int y0, int x1, int y1, int red, int green, int blue) {
  int count = 0;
  for (int y = std::max(0, y0); y < std::min(y1, image.height()); ++y)
    for (int x = std::max(0, x0); x < std::min(x1, image.width()); ++x)
      count +=
          std::abs(image.at(x, y, 0) - red) + std::abs(image.at(x, y, 1) - green) + std::abs(image.at(x, y, 2) - blue) <
          90;
  return count;
}

TEST(DrawCoverage, PartsHaveTheToneOfTheirCountAndNoneIsACross) {
  CoveredPhoto photo;
  photo.photo = ImageU8(300, 200, 3);
  photo.name = "moraine_01.jpg";
  photo.coverage.columns = 3, photo.coverage.rows = 2;
  photo.coverage.views = {0, 1, 5, PhotoCoverage::kOutside, 3, 9};
  photo.coverage.parts = {1, 1, 0, 1, 2};
  const ImageU8 one = draw_coverage({&photo, 1}, {});
  // The photo fills the picture but for the key: in the middle of the upper row a ring, left a cross, right neither.
  const int width = (1280 - 230 - 8 - 8) / 3;
  const auto lantern_in = [&](int column, int row) {
    int count = 0;
    const auto tone = bytes_of(kLantern);
    for (int y = 8 + row * width; y < 8 + (row + 1) * width && y < one.height(); ++y)
      for (int x = 8 + column * width; x < 8 + (column + 1) * width; ++x)
        count += std::abs(one.at(x, y, 0) - tone[0]) < 8 && std::abs(one.at(x, y, 1) - tone[1]) < 8;
    return count;
  };
  EXPECT_GT(lantern_in(0, 0), 500);
  EXPECT_GT(lantern_in(1, 0), 500);
  EXPECT_EQ(lantern_in(2, 0), 0);
  EXPECT_EQ(lantern_in(1, 1), 0);
  const auto brightness = [&](int column, int row) {
    return one.at(8 + column * width + width / 4, 8 + row * width + width / 4, 1);
  };
  EXPECT_GT(brightness(2, 0), brightness(1, 1) + 10) << "five are lighter than three";
  EXPECT_EQ(brightness(2, 0), brightness(2, 1)) << "nine as five";
  // Sixty of them have room, and different pictures for different counts.
  std::vector<CoveredPhoto> many(60, photo);
  const ImageU8 sheet = draw_coverage(many, {});
  many[59].coverage.views[0] = 4;
  EXPECT_FALSE(std::ranges::equal(draw_coverage(many, {}).values(), sheet.values()));
}

TEST(DrawFeatures, CirclesAreWhereTheFeaturesAre) {
  const ImageU8 photo(600, 378, 3, std::uint8_t{40});  // fills the height of the picture at twice its size
  const Keypoint keypoints[] = {{100, 50, 3, 0}, {400, 300, 12, 1}};
  const ImageU8 picture = draw_features(photo, keypoints, {});
  EXPECT_EQ(picture.width(), 1280);
  const double scale = 1160.0 / 600;
  int drawn = 0, elsewhere = 0;
  for (int y = 0; y < 700; ++y)
    for (int x = 0; x < 1150; ++x) {
      const bool changed =
          std::abs(picture.at(x, y, 0) - 30) + std::abs(picture.at(x, y, 1) - 30) + std::abs(picture.at(x, y, 2) - 30) >
          20;
      bool inside = false;
      for (const Keypoint& k : keypoints)
        inside = inside || std::hypot(x - k.x * scale, y - k.y * scale) < 2 * k.scale * scale + 3;
      (inside ? drawn : elsewhere) += changed;
    }
  EXPECT_GT(drawn, 150);
  EXPECT_EQ(elsewhere, 0);
}

TEST(DrawMatches, LinesRunBetweenThePhotos) {
  const ImageU8 first(300, 200, 3, std::uint8_t{40}), second(150, 200, 1, std::uint8_t{40});  // another size, and grey
  const std::vector<Keypoint> a = {{30, 40, 2, 0}, {200, 150, 2, 0}}, b = {{20, 30, 2, 0}, {100, 180, 2, 0}};
  const Match right[] = {{FeatureIndex(0), FeatureIndex(0), 0.5f}},
              wrong[] = {{FeatureIndex(1), FeatureIndex(1), 0.5f}};
  const ImageU8 both = draw_matches({first, a}, {second, b}, right, wrong, {}),
                neither = draw_matches({first, a}, {second, b}, {}, {}, {});
  const auto fits = bytes_of(kMeltwater), other = bytes_of(kLantern);
  // What fits is a line all the way, what does not a cross with a short stroke at both ends.
  EXPECT_GT(near_colour(both, 0, 0, 1280, 750, fits[0], fits[1], fits[2]), 300);
  const int crosses = near_colour(both, 0, 0, 1280, 750, other[0], other[1], other[2]);
  EXPECT_GT(crosses, 8);
  EXPECT_LT(crosses, 150);
  EXPECT_EQ(near_colour(neither, 0, 0, 1280, 750, fits[0], fits[1], fits[2]), 0);
}

TEST(DrawPairTable, ACellForEachPairBothWays) {
  const std::vector<std::string> names = {"a.jpg", "b.jpg", "c.jpg"};
  std::vector<PairMatches> pairs(2);
  pairs[0].first = PhotoIndex(0), pairs[0].second = PhotoIndex(1);
  pairs[0].geometry = PairGeometry::turned;
  pairs[0].matches.resize(2000);
  pairs[1].first = PhotoIndex(1), pairs[1].second = PhotoIndex(2);
  pairs[1].fault = PairFault::disagree;
  const ImageU8 picture = draw_pair_table(names, pairs, {});
  // The strongest colour twice, in cells mirrored at the diagonal, and in the key.
  const double cell = (800 - 44 - 34 - 16) / 3.0, left = 16 + 7 * 5;
  const auto in_cell = [&](int row, int column) {
    const int x = static_cast<int>(left + column * cell), y = static_cast<int>(34 + row * cell),
              side = static_cast<int>(cell);
    const auto strongest = scale_colour(1);
    return near_colour(picture, x, y, x + side, y + side, strongest[0], strongest[1], strongest[2]);
  };
  EXPECT_GT(in_cell(0, 1), 0.8 * cell * cell);
  EXPECT_GT(in_cell(1, 0), 0.8 * cell * cell);
  EXPECT_EQ(in_cell(1, 2) + in_cell(0, 2) + in_cell(0, 0), 0);
  // A large set has numbers instead of names, and does not fail.
  const std::vector<std::string> many(700, "photo.jpg");
  EXPECT_EQ(draw_pair_table(many, pairs, {}).height(), 800);
}

TEST(DrawBlock, SidesAreWhatTheySay) {
  const std::vector<std::string> names;
  DrawBlockOptions block_options;
  block_options.from = Side::above;  // y up, x to the right
  const ImageU8 above = draw_block(three_blobs(), {}, names, std::nullopt, block_options, {});
  const Spot red = find(above, 255, 0, 0), blue = find(above, 0, 0, 255);
  ASSERT_GT(red.count + find(above, 0, 255, 0).count, 20);
  ASSERT_GT(blue.count, 20);
  EXPECT_LT(blue.y, find(above, 0, 255, 0).y - 100);
  block_options.from = Side::front;  // z up, x to the right: blue is behind red
  const ImageU8 front = draw_block(three_blobs(), {}, names, std::nullopt, block_options, {});
  EXPECT_LT(find(front, 0, 255, 0).y, find(front, 255, 0, 0).y - 100);
  block_options.from = Side::side;  // seen along x: y to the left
  const ImageU8 side = draw_block(three_blobs(), {}, names, std::nullopt, block_options, {});
  EXPECT_LT(find(side, 0, 0, 255).x, find(side, 255, 0, 0).x - 100);
}

TEST(DrawBlock, ValuesHaveTheColoursOfTheScale) {
  PointCloud cloud = three_blobs();
  DrawBlockOptions block_options;
  block_options.from = Side::side;
  block_options.values.assign(400, 1.0);
  block_options.values.resize(800, 2.0);
  block_options.values.resize(1200, 3.0);
  const ImageU8 image = draw_block(cloud, {}, {}, std::nullopt, block_options, {});
  const auto least = scale_colour(0), most = scale_colour(1);
  EXPECT_GT(find(image, least[0], least[1], least[2]).count, 20);
  EXPECT_GT(find(image, most[0], most[1], most[2]).count, 20);
}

TEST(DrawResiduals, ArrowsAreAsLongAsTheyAreSaidToBe) {
  const ImageU8 photo(1030, 756, 3);
  const PhotoResidual residuals[] = {{{300, 400}, {2, 0}}};
  const Keypoint keypoint{300, 400, 2, 0};
  const FeatureUse use = FeatureUse::used;
  const ImageU8 image = draw_residuals(photo, residuals, {&keypoint, 1}, {&use, 1}, 50, {});
  // A line of 100 pixels to the right from (300, 400).
  int left = 5000, right = 0;
  for (int x = 0; x < 1000; ++x)
    for (int y = 396; y < 405; ++y)
      if (image.at(x, y, 1) > 100) left = std::min(left, x), right = std::max(right, x);
  EXPECT_NEAR(left, 300, 2);
  EXPECT_NEAR(right, 400, 2);
}

TEST(DrawLens, TellsAPatternFromChance) {
  const auto standing_out = [](const ImageU8& image) {
    const auto rust = bytes_of(kRust);
    return near_colour(image, 0, 0, 1000, image.height() - 60, rust[0], rust[1], rust[2]);
  };
  Block block = test::ring_block(10, 3000, 0.3);
  const int chance = standing_out(draw_lens(block, CameraIndex(0), 0, {}));
  for (Observation& o : block.observations)
    o.pixel.x() += 0.6 * (o.pixel.x() - 500) * (o.pixel.x() - 500) / 250000 - 0.1;
  EXPECT_GT(standing_out(draw_lens(block, CameraIndex(0), 0, {})), 20 * (chance + 10));
}

TEST(DrawThrough, PointsFallWhereThePhotoShowsThem) {
  const Block block = test::ring_block(3, 0, 0);
  PointCloud cloud;
  cloud.positions = {{0, 0, 0}};
  cloud.colours = {{255, 0, 0}};
  const ImageU8 image = draw_through(ImageU8(1000, 800, 3), cloud, block.cameras[0], block.photos[0].pose, {});
  const Spot spot = find(image, 255, 0, 0);
  ASSERT_GT(spot.count, 0);
  EXPECT_NEAR(spot.x, 636 + 8 + 318, 6);  // the middle of the right half
  EXPECT_NEAR(spot.y, 378, 6);
}

// Each step of the scale is lighter than the one before, so that it can be read in grey and by the colour-blind.
TEST(Palette, TheScaleOnlyGetsLighter) {
  const auto lightness = [](double t) {
    const auto c = scale_colour(t);
    return 0.2126 * c[0] + 0.7152 * c[1] + 0.0722 * c[2];
  };
  for (int k = 0; k < 100; ++k) EXPECT_LT(lightness(k / 100.0), lightness((k + 1) / 100.0)) << k;
  EXPECT_EQ(scale_colour(-1), scale_colour(0));
  EXPECT_EQ(scale_colour(2), scale_colour(1));
}

TEST(DrawBlock, DoubtfulPhotosAreToldByShape) {
  const Block block = test::ring_block(6, 200, 0);
  PointCloud cloud;
  for (const Eigen::Vector3d& p : block.points) cloud.positions.push_back(p.cast<float>());
  DrawBlockOptions options;
  const ImageU8 sure = draw_block(cloud, block.photos, {}, std::nullopt, options, {});
  options.marked.assign(block.photos.size(), true);
  const ImageU8 doubtful = draw_block(cloud, block.photos, {}, std::nullopt, options, {});
  const auto rust = bytes_of(kRust);
  EXPECT_EQ(near_colour(sure, 0, 0, 1280, 750, rust[0], rust[1], rust[2]), 0);
  EXPECT_GT(near_colour(doubtful, 0, 0, 1280, 750, rust[0], rust[1], rust[2]), 100);
}

// Level but for a plateau in the north-east; no heights in the south-west.
ImageF plateau() {
  ImageF heights(100, 60, 1, 10.0f);
  for (int y = 0; y < 60; ++y)
    for (int x = 0; x < 100; ++x) {
      if (x >= 60 && y < 25) heights.at(x, y) = 20;
      if (x < 30 && y >= 40) heights.at(x, y) = std::numeric_limits<float>::quiet_NaN();
    }
  return heights;
}

TEST(DrawTerrain, NorthIsUpAndWhatIsNotKnownStaysEmpty) {
  GridFrame frame;
  frame.corner = {500, 900}, frame.cell = 1, frame.columns = 100, frame.rows = 60;
  DrawTerrainOptions how;
  how.shaded = false;
  const ImageU8 map = draw_terrain(plateau(), frame, {}, {}, how);
  EXPECT_EQ(map.width(), 1280);
  EXPECT_EQ(map.height(), 800);
  const auto high = scale_colour(1), low = scale_colour(0);
  const Spot top = find(map, high[0], high[1], high[2]), flat = find(map, low[0], low[1], low[2]);
  ASSERT_GT(top.count, 10000);
  ASSERT_GT(flat.count, 20000);
  EXPECT_GT(top.x, flat.x + 100);
  EXPECT_LT(top.y, flat.y - 100);
  // A plateau of 40 by 25 cells in 100 by 60, less the south-west.
  EXPECT_NEAR(static_cast<double>(top.count) / flat.count, 1000.0 / (6000 - 1000 - 600), 0.05);
  const auto ground = bytes_of(kFirn);
  const auto at = [&](double column, double row) {  // by the plateau's corner and the legend's room
    const double scale = std::sqrt(top.count / 1000.0);
    const int x = static_cast<int>(top.x + scale * (column - 80)), y = static_cast<int>(top.y + scale * (row - 12.5));
    int off = 0;
    for (int c = 0; c < 3; ++c) off = std::max(off, std::abs(map.at(x, y, c) - ground[static_cast<std::size_t>(c)]));
    return off;
  };
  EXPECT_LE(at(15, 45), 1);  // rounded
  EXPECT_GT(at(15, 20), 50);
}

TEST(DrawTerrain, LinesClassesAndChangesAreTold) {
  GridFrame frame;
  frame.corner = {500, 900}, frame.cell = 1, frame.columns = 100, frame.rows = 60;
  const ImageF heights = plateau();
  DrawTerrainOptions how;
  how.shaded = false;
  const ImageU8 plain = draw_terrain(heights, frame, {}, {}, how);
  ContourOptions every;
  every.every = 5;
  const std::vector<ContourLine> lines = contour_lines(heights, frame, every);
  ASSERT_FALSE(lines.empty());
  how.contours = lines;
  const ImageU8 lined = draw_terrain(heights, frame, {}, {}, how);
  std::size_t changed = 0;
  for (std::size_t i = 0; i < plain.data().size(); i += 3) changed += plain.data()[i] != lined.data()[i];
  EXPECT_GT(changed, 300u);
  EXPECT_LT(changed, 20000u);
  how.contours = {};
  // Nothing is light, what goes and what comes are told apart.
  how.values = ImageF(100, 60), how.symmetric = true;
  for (int y = 0; y < 60; ++y)
    for (int x = 0; x < 100; ++x) how.values.at(x, y) = x < 33 ? -1.0f : x < 66 ? 0.0f : 1.0f;
  const ImageU8 change = draw_terrain(heights, frame, {}, {}, how);
  const auto gone = bytes_of(kRust), come = bytes_of(kCrevasse);
  const Spot lost = find(change, gone[0], gone[1], gone[2]), gained = find(change, come[0], come[1], come[2]);
  ASSERT_GT(lost.count, 5000);
  ASSERT_GT(gained.count, 5000);
  EXPECT_LT(lost.x, gained.x - 200);
  // Shade changes what is drawn; north stands there only where axes say so; a level or empty raster can be drawn.
  how = {};
  EXPECT_NE(draw_terrain(heights, frame, {}, {}, how).values(), plain.values());
  Datum placed;
  placed.crs = "EPSG:25832", placed.units = "m", placed.axes = Axes::east_north_up;
  EXPECT_NE(draw_terrain(heights, frame, placed, {}, how).values(), draw_terrain(heights, frame, {}, {}, how).values());
  for (const float value : {5.0f, std::numeric_limits<float>::quiet_NaN()})
    EXPECT_EQ(draw_terrain(ImageF(100, 60, 1, value), frame, {}, {}, {}).width(), 1280);
}

}  // namespace
}  // namespace icefield
