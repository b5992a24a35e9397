// Fusion on depth maps that are made up, so that what comes out is known.
#include <gtest/gtest.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <mutex>

#include "icefield/base/nearest.h"
#include "icefield/dense/dense.h"
#include "src/dense/exposure.h"
#include "src/dense/surface_elements.h"
#include "src/dense/tiles.h"
#include "tests/tools/dense.h"

namespace icefield {
namespace {

using test::Maps;

// Photos in a row, two units above the plane z = 0, looking down; their maps show it, with noise in the depths.
struct Flight {
  Block block;
  std::vector<std::vector<std::uint32_t>> neighbours;
  Maps maps;
  Bounds bounds;

  explicit Flight(float noise = 0, int photos = 6, double step = 0.3) {
    Camera camera = make_camera(CameraModel::pinhole, 160, 120, 150);
    block.cameras.push_back(camera);
    for (int i = 0; i < photos; ++i) {
      PosedPhoto photo{PhotoIndex(static_cast<std::size_t>(i)), CameraIndex(std::size_t{0}), {}};
      photo.pose.centre = {step * i, 0, 2};
      photo.pose.orientation = Eigen::Quaterniond(0, 1, 0, 0);  // x to the right, y towards -y, z down
      block.photos.push_back(photo);
      neighbours.emplace_back();
      for (int j = std::max(0, i - 2); j <= std::min(photos - 1, i + 2); ++j)
        if (j != i) neighbours.back().push_back(static_cast<std::uint32_t>(j));
    }
    bounds.half_size = {3, 3, 1};
    for (int i = 0; i < photos; ++i) put(i, 2.0f, noise);
  }

  DepthMap map_at(int photo, float depth, float noise) const {
    DepthMap map{block.cameras[0],           block.photos[static_cast<std::size_t>(photo)].pose,
                 ImageF(160, 120, 1, depth), Image<std::int8_t>(160, 120, 3),
                 ImageU8(160, 120, 1, 5),    Image<std::uint16_t>(160, 120, 1, 3),
                 ImageU8(160, 120, 3, 100)};
    CounterRandom random(static_cast<std::uint64_t>(photo) + 1);
    for (int y = 0; y < 120; ++y)
      for (int x = 0; x < 160; ++x) {
        map.depth.at(x, y) +=
            noise * (random.uniformf() + random.uniformf() + random.uniformf() - 1.5f);  // st. dev. noise / 2
        map.normal.at(x, y, 2) = -127;
      }
    return map;
  }
  void put(int photo, float depth, float noise) {
    maps.put(PhotoIndex(static_cast<std::size_t>(photo)), 1, map_at(photo, depth, noise));
  }

  struct Collected : PointSink {
    PointCloud cloud, aside;
    void add(const PointCloud& part) override {
      for (std::size_t i = 0; i < part.size(); ++i) cloud.append(part, i);
    }
    void set_aside(const PointCloud& part) override {
      for (std::size_t i = 0; i < part.size(); ++i) aside.append(part, i);
    }
  };
  Collected run(const DenseOptions& options = {}, int threads = 2, DenseSummary* summary = nullptr) {
    Collected sink;
    Monitor monitor;
    const DenseSummary s = fuse(block, neighbours, maps, bounds, options, Executor(threads), monitor, sink);
    if (summary) *summary = s;
    return sink;
  }
};

TEST(Fuse, OnePointForEachSurfaceElement) {
  Flight flight;
  DenseSummary summary;
  const auto result = flight.run({}, 2, &summary);
  EXPECT_EQ(summary.points, result.cloud.size());
  // A pixel is 2 / 150 on the ground, a photo 160 x 120 of them; two photos or more see the ground from 0.3 - 80 pixels
  // to 1.2 + 80 pixels, and each spot of it comes out once.
  const double pixel = 2.0 / 150, spots = (0.9 / pixel + 160) * 120;
  EXPECT_GT(static_cast<double>(result.cloud.size()), 0.95 * spots);
  EXPECT_LT(static_cast<double>(result.cloud.size()), 1.6 * spots);
  for (std::size_t i = 0; i < result.cloud.size(); ++i) {
    ASSERT_NEAR(result.cloud.positions[i].z(), 0, 1e-5);
    ASSERT_GT(result.cloud.normals[i].z(), 0.999f);
    ASSERT_GE(result.cloud.views[i], 2);
    ASSERT_EQ(result.cloud.conflicts[i], 0);
  }
  EXPECT_NEAR(summary.spacing, pixel, 1e-6);
  // A chosen spacing is kept.
  DenseOptions wide;
  wide.spacing = 4 * pixel;
  EXPECT_NEAR(static_cast<double>(flight.run(wide).cloud.size()), static_cast<double>(result.cloud.size()) / 16,
              static_cast<double>(result.cloud.size()) / 16);
}

TEST(Fuse, AveragesNoiseAcrossTheSurfaceAndSaysHowMuchIsLeft) {
  Flight flight(0.01f);
  const auto result = flight.run();
  ASSERT_GT(result.cloud.size(), 5000u);
  double sum2 = 0;
  for (const Eigen::Vector3f& p : result.cloud.positions) sum2 += p.z() * p.z();
  EXPECT_LT(std::sqrt(sum2 / static_cast<double>(result.cloud.size())), 0.6 * 0.005) << "a single map is off by 0.005";
  // From how depth moves the place in other photos: z^2 / (f b) for each pixel, bases of 0.3 and 0.6 to either side.
  // Wider bases tell depth better, and maps that differ add to it.
  const auto middle_error = [](const PointCloud& cloud) {
    std::vector<float> errors = cloud.errors;
    std::nth_element(errors.begin(), errors.begin() + static_cast<std::ptrdiff_t>(errors.size() / 2), errors.end());
    return static_cast<double>(errors[errors.size() / 2]);
  };
  const double per_pixel = 4.0 / 150 / std::sqrt(2 * 0.3 * 0.3 + 2 * 0.6 * 0.6),
               smooth = middle_error(Flight().run().cloud);
  EXPECT_GT(smooth, 0.06 * per_pixel);
  EXPECT_LT(smooth, 0.25 * per_pixel);
  EXPECT_GT(middle_error(result.cloud), smooth);
  EXPECT_GT(middle_error(Flight(0, 6, 0.15).run().cloud), 1.5 * smooth);
}

TEST(Fuse, TilesGiveAlmostTheSameAndNoSeams) {
  Flight flight(0.004f);
  DenseSummary one, many;
  const auto whole = flight.run({}, 2, &one);
  DenseOptions small;
  small.tile_samples = 15000;
  const auto tiled = flight.run(small, 2, &many);
  EXPECT_EQ(one.tiles, 1u);
  EXPECT_GT(many.tiles, 4u);
  EXPECT_NEAR(static_cast<double>(tiled.cloud.size()), static_cast<double>(whole.cloud.size()),
              0.02 * static_cast<double>(whole.cloud.size()));
  EXPECT_NEAR(one.filled_percent, many.filled_percent, 1e-9);
  EXPECT_EQ(tiled.aside.size(), whole.aside.size());
  // Ten pixels square by square: as many points in either, also where tiles meet.
  const auto by_square = [](const PointCloud& cloud) {
    std::map<std::pair<int, int>, int> counts;
    for (const Eigen::Vector3f& p : cloud.positions)
      ++counts[{static_cast<int>(std::floor(p.x() * 7.5f)), static_cast<int>(std::floor(p.y() * 7.5f))}];
    return counts;
  };
  const auto in_whole = by_square(whole.cloud), in_tiled = by_square(tiled.cloud);
  EXPECT_EQ(in_whole.size(), in_tiled.size());
  for (const auto& [square, count] : in_whole) {
    const auto found = in_tiled.find(square);
    ASSERT_NE(found, in_tiled.end()) << square.first << " " << square.second;
    EXPECT_NEAR(found->second, count, 4 + 0.1 * count) << square.first << " " << square.second;
  }
  // No spot comes out twice, once from either side.
  const auto twins = [](const PointCloud& cloud) {
    const NearestPoints tree(cloud.positions);
    std::size_t count = 0;
    for (const Eigen::Vector3f& p : cloud.positions)
      count += tree.nearest(p, 2)[1].distance2 < 0.004f * 0.004f;  // a third of the spacing
    return count;
  };
  EXPECT_LE(twins(tiled.cloud), twins(whole.cloud) + whole.cloud.size() / 1000);
}

TEST(Fuse, TilesFollowThePointsNotTheBox) {
  // Cells that share out a box of kilometres would all but one be empty, and one tile hold everything.
  Flight flight(0.004f);
  CounterRandom random(7);
  for (int k = 0; k < 400; ++k) flight.block.add_point({random.uniform(-0.9, 2.4), random.uniform(-0.7, 0.7), 0}, {});
  flight.block.add_point({2000, -1500, 0.5}, {});  // a stray
  DenseOptions options;
  options.tile_samples = 15000;
  DenseSummary tight, vast;
  const auto in_tight = flight.run(options, 2, &tight);
  flight.bounds.half_size = {5000, 5000, 1};
  const auto in_vast = flight.run(options, 2, &vast);
  EXPECT_GT(vast.tiles, 4u);
  EXPECT_NEAR(static_cast<double>(vast.tiles), static_cast<double>(tight.tiles), 1);
  EXPECT_NEAR(static_cast<double>(in_vast.cloud.size()), static_cast<double>(in_tight.cloud.size()),
              0.01 * static_cast<double>(in_tight.cloud.size()));
}

TEST(Fuse, SameBytesForAnyNumberOfThreads) {
  Flight flight(0.01f);
  DenseOptions tiled;
  tiled.tile_samples = 15000;
  const auto in_tiles = flight.run(tiled, 1), in_tiles_again = flight.run(tiled, 5);
  EXPECT_EQ(in_tiles.cloud.positions, in_tiles_again.cloud.positions);
  EXPECT_EQ(in_tiles.cloud.conflicts, in_tiles_again.cloud.conflicts);
  EXPECT_EQ(in_tiles.aside.positions, in_tiles_again.aside.positions);
  const auto one = flight.run({}, 1), seven = flight.run({}, 7);
  ASSERT_EQ(one.cloud.size(), seven.cloud.size());
  EXPECT_EQ(one.cloud.positions, seven.cloud.positions);
  EXPECT_EQ(one.cloud.errors, seven.cloud.errors);
  EXPECT_EQ(one.cloud.colours, seven.cloud.colours);
}

TEST(Fuse, SeveralTilesAtATimeAreTheSameBytes) {
  Flight flight(0.01f, 14);
  DenseOptions options;
  options.tile_samples = 9000;
  DenseSummary summary;
  const auto alone = flight.run(options, 1, &summary);
  EXPECT_GT(summary.tiles, 10u);
  struct Kept : TileStore {
    std::mutex mutex;
    std::map<std::size_t, Bytes> tiles;
    std::size_t put_count = 0;
    bool has(std::size_t tile) override {
      const std::lock_guard lock(mutex);
      return tiles.count(tile) > 0;
    }
    std::optional<Bytes> get(std::size_t tile) override {
      const std::lock_guard lock(mutex);
      const auto found = tiles.find(tile);
      return found == tiles.end() ? std::nullopt : std::optional(found->second);
    }
    void put(std::size_t tile, const Bytes& content) override {
      const std::lock_guard lock(mutex);
      ++put_count, tiles[tile] = content;
    }
  } kept;
  const auto run = [&](const Executor& executor) {
    Flight::Collected sink;
    const DenseSummary again = fuse(flight.block, flight.neighbours, flight.maps, flight.bounds, options, executor,
                                    silent_monitor(), sink, &kept);
    EXPECT_EQ(again.points, summary.points);
    EXPECT_EQ(again.filled_percent, summary.filled_percent);
    EXPECT_EQ(sink.cloud.positions, alone.cloud.positions);
    EXPECT_EQ(sink.cloud.conflicts, alone.cloud.conflicts);
    EXPECT_EQ(sink.aside.positions, alone.aside.positions);
  };
  run(Executor(3));
  EXPECT_EQ(kept.put_count, summary.tiles);
  // From tiles that are all there, from a few, and from one that is damaged; with memory for one tile at a time.
  run(Executor(3, 1));
  EXPECT_EQ(kept.put_count, summary.tiles);
  kept.tiles.erase(0), kept.tiles.erase(5), kept.tiles[3].resize(100);
  run(Executor(3, 1));
  EXPECT_EQ(kept.put_count, summary.tiles + 2);
}

TEST(Tiles, ThoseThatMeetHaveDifferentColours) {
  CounterRandom random(11);
  std::vector<std::uint64_t> counts(GroundCells::kSide * GroundCells::kSide);
  for (std::uint64_t& count : counts) count = random.below(100);
  const std::vector<Tile> tiles = cut_in_tiles(counts, 8000);
  ASSERT_GT(tiles.size(), 60u);
  const std::vector<int> colours = colours_of(tiles);
  for (std::size_t a = 0; a < tiles.size(); ++a)
    for (std::size_t b = 0; b < a; ++b) {
      // A cell beyond the one lies in the other.
      const bool meet = tiles[a].left <= tiles[b].right && tiles[b].left <= tiles[a].right &&
                        tiles[a].top <= tiles[b].bottom && tiles[b].top <= tiles[a].bottom;
      EXPECT_FALSE(meet && colours[a] == colours[b]) << a << " " << b;
    }
  EXPECT_LT(*std::max_element(colours.begin(), colours.end()), 8);
}

TEST(Fuse, PointsThatOthersSeePastAreSetAside) {
  // Photos 0 to 2 agree on a plate well above the ground that the others see through.
  Flight flight(0, 12, 0.12);
  DenseOptions options;
  for (int i = 0; i < 3; ++i) {
    DepthMap map = flight.map_at(i, 2.0f, 0);
    for (int y = 50; y < 70; ++y)
      for (int x = 0; x < 160; ++x) {
        const double ground_x =
            flight.block.photos[static_cast<std::size_t>(i)].pose.centre.x() + (x + 0.5 - 80) / 150 * 1.4;
        if (ground_x > 0.2 && ground_x < 0.4) map.depth.at(x, y) = 1.4f;
      }
    flight.maps.put(PhotoIndex(static_cast<std::size_t>(i)), 1, map);
  }
  options.clean = false;
  const auto raw = flight.run(options);
  std::size_t plate = 0, blamed = 0;
  for (std::size_t i = 0; i < raw.cloud.size(); ++i)
    if (raw.cloud.positions[i].z() > 0.3f) ++plate, blamed += raw.cloud.conflicts[i] > 0;
  ASSERT_GT(plate, 30u);
  EXPECT_GT(blamed, plate / 2);
  options.clean = true;
  const auto cleaned = flight.run(options);
  EXPECT_EQ(cleaned.cloud.size() + cleaned.aside.size(), raw.cloud.size());
  std::size_t left = 0;
  for (std::size_t i = 0; i < cleaned.cloud.size(); ++i) left += cleaned.cloud.positions[i].z() > 0.3f;
  EXPECT_LT(left, plate / 10);
  EXPECT_LT(cleaned.aside.size(), 2 * plate);
}

TEST(Fuse, ThinDetailThatTwoSeeIsKeptWhereAskedFor) {
  Flight flight(0, 2);
  DenseOptions options;
  EXPECT_GT(flight.run(options).cloud.size(), 5000u);
  options.keep_thin = false;
  EXPECT_EQ(flight.run(options).cloud.size(), 0u);
  options.keep_thin = true;
  // but not where they agree badly
  flight.put(1, 2.012f, 0);
  EXPECT_EQ(flight.run(options).cloud.size(), 0u);
}

TEST(Fuse, ExposureIsTakenOut) {
  Flight flight;
  CounterRandom random(9);
  for (int k = 0; k < 300; ++k) {
    const Eigen::Vector3d p(random.uniform(-0.5, 2), random.uniform(-0.6, 0.6), 0);
    std::vector<Observation> seen;
    for (std::uint32_t i = 0; i < 6; ++i)
      if (const auto pixel = project(flight.block.cameras[0], flight.block.photos[i].pose.to_camera(p));
          pixel && pixel->x() > 1 && pixel->y() > 1 && pixel->x() < 159 && pixel->y() < 119)
        seen.push_back({PosedIndex(i), FeatureIndex(), *pixel});
    if (seen.size() >= 2) flight.block.add_point(p, seen);
  }
  for (int i = 0; i < 6; ++i) {
    DepthMap map = flight.map_at(i, 2.0f, 0);
    map.colour = ImageU8(160, 120, 3, static_cast<std::uint8_t>(i % 2 ? 80 : 125));
    flight.maps.put(PhotoIndex(static_cast<std::size_t>(i)), 1, map);
  }
  const auto spread = [](const PointCloud& cloud) {
    const auto [low, high] = std::minmax_element(cloud.colours.begin(), cloud.colours.end());
    return (*high)[0] - (*low)[0];
  };
  DenseOptions options;
  EXPECT_LE(spread(flight.run(options).cloud), 1);
  EXPECT_NEAR(flight.run(options).cloud.colours[0][1], 100, 2) << "the geometric mean of both";
  options.level_exposure = false;
  EXPECT_GT(spread(flight.run(options).cloud), 20);
}

TEST(ExposureFactors, FindWhatPhotosDifferByAndLeaveOthersAlone) {
  // Four photos of 200 points; the last shares none. One point in ten has a shadow in one of them.
  CounterRandom random(3);
  const double gain[3] = {0.7, 1.0, 1.3};
  std::vector<std::vector<SeenColour>> seen(4);
  for (std::uint32_t p = 0; p < 200; ++p) {
    const double brightness = 60 + 100 * random.uniform(0, 1);
    for (std::size_t i = 0; i < 3; ++i) {
      const double value = brightness * gain[i] * (p % 10 == 0 && i == 1 ? 0.3 : 1.0);
      seen[i].push_back({p, {static_cast<std::uint8_t>(value), static_cast<std::uint8_t>(value), 255}});
    }
  }
  const auto factors = exposure_factors(seen, 200);
  EXPECT_NEAR(factors[1][0] / factors[0][0], 0.7, 0.02);
  EXPECT_NEAR(factors[2][0] / factors[1][0], 1.0 / 1.3, 0.02);
  for (std::size_t i = 0; i < 4; ++i) EXPECT_EQ(factors[i][2], 1) << "white says nothing";
  EXPECT_EQ(factors[3][0], 1);
}

TEST(Fuse, NothingLiesOutsideOfATurnedBoxWithAnOutline) {
  Flight flight(0.01f);
  flight.bounds.centre = {0.7, 0.1, 0.002};
  flight.bounds.half_size = {0.6, 0.25, 0.004};
  flight.bounds.orientation = Eigen::Quaterniond(Eigen::AngleAxisd(0.5, Eigen::Vector3d::UnitZ()));
  flight.bounds.outline = {{0.2, -0.4}, {1.2, -0.4}, {0.7, 0.6}};
  DenseOptions options;
  options.clean = false;
  const auto whole = flight.run(options);
  ASSERT_GT(whole.cloud.size(), 500u);
  options.tile_samples = 1000;
  DenseSummary summary;
  const auto tiled = flight.run(options, 2, &summary);
  EXPECT_GT(summary.tiles, 3u);
  EXPECT_NEAR(static_cast<double>(tiled.cloud.size()), static_cast<double>(whole.cloud.size()),
              0.05 * static_cast<double>(whole.cloud.size()));
  for (const auto* cloud : {&whole.cloud, &tiled.cloud})
    for (std::size_t i = 0; i < cloud->size(); ++i)
      ASSERT_TRUE(flight.bounds.contains(cloud->position(i))) << cloud->positions[i].transpose();
  // The share that is filled counts pixels that look into the bounds alone.
  EXPECT_GT(summary.filled_percent, 10);
  EXPECT_LE(summary.filled_percent, 100);
}

TEST(DepthMapBytes, WhatIsDamagedIsRefusedOrWhole) {
  // Cut anywhere, or with any byte changed, a map is refused as input or comes back with all its layers of one size.
  const DepthMap map = Flight(0.01f, 2).map_at(0, 2, 0.01f);
  const Bytes bytes = map.to_bytes();
  const DepthMap same = DepthMap::from_bytes(bytes);
  EXPECT_EQ(same.depth.values(), map.depth.values());
  EXPECT_EQ(same.normal.values(), map.normal.values());
  EXPECT_EQ(same.support.values(), map.support.values());
  EXPECT_EQ(same.pose.centre, map.pose.centre);
  const auto try_to_read = [](std::span<const std::byte> damaged) {
    try {
      const DepthMap read = DepthMap::from_bytes(damaged);
      const std::size_t pixels =
          static_cast<std::size_t>(read.camera.width) * static_cast<std::size_t>(read.camera.height);
      EXPECT_EQ(read.depth.values().size(), pixels);
      EXPECT_EQ(read.normal.values().size(), 3 * pixels);
      EXPECT_EQ(read.cost.values().size(), pixels);
      EXPECT_EQ(read.support.values().size(), pixels);
      EXPECT_TRUE(read.colour.empty() ||
                  read.colour.values().size() == pixels * static_cast<std::size_t>(read.colour.channels()));
      return true;
    } catch (const Error& error) {
      EXPECT_EQ(error.kind(), ErrorKind::input);
      return false;
    }
  };
  CounterRandom random(17);
  for (std::size_t length = 0; length < 300; ++length)
    EXPECT_FALSE(try_to_read(std::span(bytes).first(length))) << length;
  for (int k = 0; k < 100; ++k)
    EXPECT_FALSE(try_to_read(std::span(bytes).first(random.below(static_cast<std::uint32_t>(bytes.size())))));
  std::size_t refused = 0;
  for (std::size_t at = 0; at < 300; ++at) {
    Bytes damaged = bytes;
    damaged[at] ^= static_cast<std::byte>(1u << random.below(8));
    refused += !try_to_read(damaged);
  }
  EXPECT_GT(refused, 10u) << "magic, sizes and counts";
}

TEST(SurfaceElements, FinerAndCoarserSamplesMeet) {
  // A fine sheet first; a coarse one over it adds nothing, one beside it does.
  SurfaceElements elements(0.01f);
  const auto sheet = [&](float step, float from, float to, std::uint32_t photo) {
    std::vector<SurfaceSample> samples;
    for (float y = from; y < to; y += step)
      for (float x = from; x < to; x += step)
        samples.push_back({{x, y, 0}, {0, 0, 1}, step, 1e-6f, 1, {50, 50, 50}, 3});
    elements.add(samples, photo, Executor(2));
  };
  sheet(0.01f, 0, 1, 0);
  const std::size_t fine = elements.size();
  for (const float step : {0.014f, 0.03f, 0.11f}) {
    sheet(step, 0.02f, 0.98f, 1);
    EXPECT_EQ(elements.size(), fine) << step;
  }
  sheet(0.1f, 2, 3, 2);
  EXPECT_GT(elements.size(), fine + 80);
  // The other side of a thin wall is another surface.
  const std::size_t before = elements.size();
  const SurfaceSample behind{{0.5f, 0.5f, -0.002f}, {0, 0, -1}, 0.01f, 1e-6f, 1, {50, 50, 50}, 3};
  elements.add({&behind, 1}, 3, Executor(2));
  EXPECT_EQ(elements.size(), before + 1);
}

TEST(SurfaceElements, WhatIsThereGoesBeforeWhatComesAndNothingIsLost) {
  // Sheets of samples at random places, on all sides of the origin, one map after the other: each sample is in an
  // element within its reach, elements keep their distance, and what comes out weighs as much as went in.
  CounterRandom random(21);
  constexpr float kStep = 0.01f;
  std::vector<std::vector<SurfaceSample>> maps(4);
  for (auto& map : maps)
    for (int k = 0; k < 6000; ++k)
      map.push_back({{random.uniformf() - 0.5f, random.uniformf() - 0.5f, 0.001f * (random.uniformf() - 0.5f)},
                     {0, 0, 1},
                     kStep,
                     1e-6f,
                     1,
                     {static_cast<float>(random.below(200)), 50, 50},
                     3});
  const auto merged = [&](int threads, std::vector<float>& footprints) {
    SurfaceElements elements(kStep);
    elements.add_foreign({{0, 0, 0}, {0, 0, 1}, kStep, 1e-6f, 0, {0, 0, 0}, 0});
    for (std::size_t m = 0; m < maps.size(); ++m)
      elements.add(maps[m], static_cast<std::uint32_t>(m), Executor(threads));
    return elements.points(footprints);
  };
  std::vector<float> footprints, again;
  const PointCloud cloud = merged(1, footprints), other = merged(6, again);
  EXPECT_EQ(cloud.positions, other.positions);
  EXPECT_EQ(cloud.colours, other.colours);
  EXPECT_EQ(footprints, again);
  const NearestPoints tree(cloud.positions);
  std::size_t close = 0, of_others = 0;
  for (std::size_t i = 0; i < cloud.size(); ++i) {
    close += tree.nearest(cloud.positions[i], 2)[1].distance2 < 0.98f * 0.75f * 0.75f * kStep * kStep;
    of_others += cloud.positions[i].head<2>().norm() < 0.7f * kStep;
  }
  EXPECT_EQ(close, 0u);
  EXPECT_EQ(of_others, 0u) << "that spot is another tile's";
  for (const auto& map : maps)
    for (const SurfaceSample& s : map)
      ASSERT_TRUE(s.position.head<2>().norm() < 0.76f * kStep ||
                  tree.nearest(s.position).distance2 < 0.6f * kStep * kStep)
          << s.position.transpose();
  // The same samples once more make nothing new.
  SurfaceElements elements(kStep);
  for (std::uint32_t m = 0; m < 4; ++m) elements.add(maps[m], m, Executor(2));
  const std::size_t before = elements.size();
  for (std::uint32_t m = 0; m < 4; ++m) elements.add(maps[m], 4 + m, Executor(2));
  EXPECT_EQ(elements.size(), before);
}

TEST(Tiles, CellsCoverThePointsAndLeaveStraysAtTheBorder) {
  Bounds vast;
  vast.half_size = {1e4, 1e4, 10};
  std::vector<Eigen::Vector3d> points;
  CounterRandom random(2);
  for (int k = 0; k < 2000; ++k) points.emplace_back(random.uniform(100, 110), random.uniform(-5, 0), 0);
  points.emplace_back(9000, 9000, 0);
  points.emplace_back(0, 0, 11);  // outside of the box
  const GroundCells cells(vast, points);
  EXPECT_NEAR(cells.column({105, -2.5, 0}), GroundCells::kSide / 2, 2);
  EXPECT_NEAR(cells.row({105, -2.5, 0}), GroundCells::kSide / 2, 2);
  EXPECT_LT(cells.column({100.2, 0, 0}), GroundCells::kSide / 8);
  EXPECT_EQ(cells.column({9000, 9000, 0}), GroundCells::kSide - 1);
  EXPECT_EQ(cells.column({-9000, 0, 0}), 0);
  // Without points the box is shared out.
  EXPECT_EQ(GroundCells(vast, {}).column({0, 0, 0}), GroundCells::kSide / 2);
}

TEST(Tiles, HoldAllAndNoMoreThanAllowed) {
  std::vector<std::uint64_t> counts(GroundCells::kSide * GroundCells::kSide, 0);
  CounterRandom random(5);
  std::uint64_t sum = 0;
  for (int k = 0; k < 3000; ++k) {
    const auto cell = static_cast<std::size_t>(random.below(40)) * GroundCells::kSide + random.below(64);
    counts[cell] += 10, sum += 10;
  }
  std::uint64_t held = 0;
  for (const Tile& tile : cut_in_tiles(counts, 1000)) {
    std::uint64_t in = 0;
    int cells = 0;
    for (int c = 0; c < static_cast<int>(counts.size()); ++c)
      if (tile.holds(c)) in += counts[static_cast<std::size_t>(c)], ++cells;
    EXPECT_GT(in, 0u);
    EXPECT_TRUE(in <= 1000 || cells == 1) << in;
    held += in;
  }
  EXPECT_EQ(held, sum);
  EXPECT_TRUE(cut_in_tiles(std::vector<std::uint64_t>(counts.size(), 0), 10).empty());
}

}  // namespace
}  // namespace icefield
