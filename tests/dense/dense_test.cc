#include "icefield/dense/dense.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <set>

#include "simulate/render.h"
#include "tests/tools/dense.h"
#include "tests/tools/scenes.h"

namespace icefield {
namespace {

using test::Maps;
using test::Photos;

// A block with the true cameras and true tie points, so that the dense part is measured alone.
struct Setting {
  simulate::PlanOptions plan = test::small_cairn();
  std::filesystem::path folder = test::rendered("cairn", plan);
  simulate::Scene scene{plan.scene};
  std::vector<simulate::PlannedPhoto> planned = simulate::plan_photos(plan);
  Block block = test::true_block(scene, planned, 150, 30);

  static Setting& once() {
    static Setting setting;
    return setting;
  }
};

DenseOptions full_size() {
  DenseOptions options;
  options.shrink = 1;
  return options;
}

TEST(Undistort, ShowsThePinholeView) {
  Setting& s = Setting::once();
  const ImageU8 photo = read_photo(s.folder / "photos" / s.planned[0].name);
  const DenseView view = undistort(photo, s.block.cameras[0], s.planned[0].shot.pose, 1);
  EXPECT_EQ(view.camera.model, CameraModel::pinhole);
  // What the distorted photo shows of a direction, the view shows of the same direction.
  double difference = 0;
  int count = 0;
  for (int y = 40; y < 280; y += 7)
    for (int x = 40; x < 440; x += 7) {
      const auto there = project(s.block.cameras[0], unproject(view.camera, {x + 0.5, y + 0.5})->homogeneous());
      const int u = static_cast<int>(there->x()), v = static_cast<int>(there->y());
      difference += std::abs(static_cast<int>(view.colour.at(x, y, 1)) - static_cast<int>(photo.at(u, v, 1)));
      ++count;
    }
  EXPECT_LT(difference / count, 9);
}

TEST(MatchDepth, AgreesWithTrueDepth) {
  Setting& s = Setting::once();
  const DenseOptions options = full_size();
  const auto views = choose_views(s.block, automatic_bounds(s.block), options);
  Photos photos(s.folder / "photos");
  const std::uint32_t i = 6;
  ASSERT_GE(views[i].photos.size(), 2u);
  const auto view_of = [&](std::uint32_t k) {
    return undistort(photos.load(PhotoIndex(k)), s.block.cameras[0], s.block.photos[k].pose, 1);
  };
  const DenseView reference = view_of(i);
  std::vector<DenseView> others;
  for (const auto n : views[i].photos) others.push_back(view_of(n));
  std::vector<const DenseView*> pointers;
  for (const DenseView& v : others) pointers.push_back(&v);
  std::vector<Eigen::Vector3d> sparse;
  for (std::size_t p = 0; p < s.block.points.size(); ++p)
    for (const Observation& o : s.block.of_point(p))
      if (o.photo == i) sparse.push_back(s.block.photos[i].pose.to_camera(s.block.points[p]));
  const DepthMap map = match_depth(reference, pointers, sparse, nullptr, {}, options, 1, Executor(2));
  const auto truth = simulate::true_maps(s.scene, view_of(i).camera, s.block.photos[i].pose, Executor(2));
  int near = 0, count = 0;
  for (int y = 30; y < 290; ++y)
    for (int x = 30; x < 450; ++x) {
      const float t = truth.depth.at(x, y);
      if (!(t > 0 && t < 6) || map.cost_at(x, y) > 0.3f) continue;
      ++count;
      near += std::abs(map.depth.at(x, y) - t) < 0.01f * t;
    }
  ASSERT_GT(count, 20000);
  EXPECT_GT(static_cast<double>(near) / count, 0.85);
  // The same bytes for any number of threads.
  EXPECT_EQ(map.to_bytes(), match_depth(reference, pointers, sparse, nullptr, {}, options, 1, Executor(7)).to_bytes());
  EXPECT_EQ(DepthMap::from_bytes(map.to_bytes()).to_bytes(), map.to_bytes());
  // Pixels that look past the bounds stay empty, those that look into them do not.
  Bounds small = s.scene.subject();
  small.half_size *= 0.3;
  Bounds margin = small;
  margin.half_size *= 1.1;
  const DepthMap bounded = match_depth(reference, pointers, sparse, nullptr, {}, options, 1, Executor(2), small);
  int into = 0, filled = 0;
  for (int y = 0; y < bounded.depth.height(); ++y)
    for (int x = 0; x < bounded.depth.width(); ++x) {
      const Eigen::Vector3d line =
          reference.pose.orientation.conjugate() * unproject(reference.camera, {x + 0.5, y + 0.5})->homogeneous();
      if (!margin.meets(reference.pose.centre, line)) {
        ASSERT_EQ(bounded.depth.at(x, y), 0) << x << " " << y;
      } else if (small.meets(reference.pose.centre, line)) {
        ++into;
        filled += bounded.depth.at(x, y) > 0;
      }
    }
  ASSERT_GT(into, 1000);
  EXPECT_LT(into, bounded.depth.width() * bounded.depth.height() / 2);
  EXPECT_GT(filled, into / 2);
  // So do those that a mask takes out. Colours go through a file with the rest, in any number of channels.
  ImageU8 mask(reference.camera.width, reference.camera.height, 1, 255);
  for (int y = 0; y < mask.height(); ++y)
    for (int x = 200; x < 300; ++x) mask.at(x, y) = 0;
  const DenseView masked = undistort(photos.load(PhotoIndex(i)), s.block.cameras[0], s.block.photos[i].pose, 1, mask);
  DepthMap without = match_depth(masked, pointers, sparse, nullptr, {}, options, 1, Executor(2));
  int kept = 0;
  for (int y = 40; y < 280; ++y) {
    for (int x = 205; x < 295; ++x) ASSERT_EQ(without.depth.at(x, y), 0);
    for (int x = 100; x < 180; ++x) kept += without.depth.at(x, y) > 0;
  }
  EXPECT_GT(kept, 5000);
  without.colour = masked.colour;
  EXPECT_EQ(DepthMap::from_bytes(without.to_bytes()).to_bytes(), without.to_bytes());
  const Bytes bytes = map.to_bytes();
  EXPECT_THROW(DepthMap::from_bytes(std::span<const std::byte>(bytes).first(bytes.size() / 2)), Error);
}

TEST(Densify, MeetsTheTrueSurface) {
  Setting& s = Setting::once();
  Photos photos(s.folder / "photos");
  Maps maps;
  Monitor monitor;
  const DenseResult result = densify(s.block, photos, maps, s.scene.subject(), full_size(), Executor(2), monitor);
  ASSERT_GT(result.cloud.size(), 20000u);
  const PointCloud truth = simulate::true_surface(s.scene, s.planned, s.scene.subject(), Executor(2), monitor);
  const CloudComparison c = compare_clouds(result.cloud, truth, s.scene.subject(), Executor(2), monitor);
  EXPECT_GT(c.scores[2].accuracy_percent, 88);
  EXPECT_GT(c.scores[2].f1, 0.70);
  EXPECT_EQ(result.summary.points, result.cloud.size());
  ASSERT_EQ(result.cloud.errors.size(), result.cloud.size());
  // What cleaning took out is far more often wrong than what it left, and little of it is right.
  ASSERT_GT(result.aside.size(), 100u);
  const auto wrong_share = [](const std::vector<float>& distances) {
    const auto wrong = std::count_if(distances.begin(), distances.end(), [](float d) { return !(d < 2); });
    return static_cast<double>(wrong) / static_cast<double>(distances.size());
  };
  const CloudComparison aside = compare_clouds(result.aside, truth, s.scene.subject(), Executor(2), monitor);
  ASSERT_EQ(aside.distance_gsd.size(), result.aside.size());
  EXPECT_GT(wrong_share(aside.distance_gsd), 2 * wrong_share(c.distance_gsd));
  EXPECT_LT((1 - wrong_share(aside.distance_gsd)) * static_cast<double>(result.aside.size()),
            0.01 * static_cast<double>(result.cloud.size()));
  for (std::size_t i = 0; i < result.cloud.size(); ++i) {
    ASSERT_TRUE(s.scene.subject().contains(result.cloud.position(i)));
    ASSERT_GE(result.cloud.views[i], 2);  // thin detail that two agree on closely
  }
}

// Maps of an earlier round and of the last one, here at a quarter of the size so that it costs little.
struct SmallDensify {
  Setting& s = Setting::once();
  Photos photos{s.folder / "photos"};
  DenseOptions options;
  SmallDensify() { options.shrink = 4; }
  Bytes run(DepthMapStore& maps, const Executor& executor) {
    const DenseResult result = densify(s.block, photos, maps, s.scene.subject(), options, executor);
    ByteWriter out;
    for (const Eigen::Vector3f& p : result.cloud.positions) out.put(p.x()).put(p.y()).put(p.z());
    return out.put(result.cloud.colours).put(result.cloud.errors).take();
  }
};

TEST(Densify, TheSameBytesForAnyThreadsAndAnyMemory) {
  SmallDensify small;
  Maps first;
  const Bytes expected = small.run(first, Executor(1));
  EXPECT_GT(expected.size(), 10000u);
  // Several maps at a time; one at a time with the threads inside.
  for (const Executor& executor : {Executor(3), Executor(3, 1)}) {
    Maps maps;
    EXPECT_EQ(small.run(maps, executor), expected);
  }
}

TEST(Densify, MakesAgainWhatAStoreHasLost) {
  struct Forgetful : Maps {
    std::set<std::pair<std::uint32_t, int>> lost;
    std::size_t put_count = 0;
    bool has(PhotoIndex photo, int round) override {
      return lost.count({photo.value, round}) > 0 || Maps::has(photo, round);
    }
    std::optional<DepthMap> get(PhotoIndex photo, int round) override {
      if (lost.erase({photo.value, round})) {  // damaged: gone from now on
        remove(photo, round);
        return std::nullopt;
      }
      return Maps::get(photo, round);
    }
    void put(PhotoIndex photo, int round, const DepthMap& map) override { ++put_count, Maps::put(photo, round, map); }
  };
  SmallDensify small;
  Forgetful maps;
  const Executor executor(1);
  const Bytes expected = small.run(maps, executor);
  const std::size_t all = maps.put_count;
  // Nothing is asked of earlier rounds where the last is there.
  for (std::uint32_t i = 0; i < small.s.block.photos.size(); ++i) maps.remove(PhotoIndex(i), 0);
  maps.put_count = 0;
  EXPECT_EQ(small.run(maps, executor), expected);
  EXPECT_EQ(maps.put_count, 0u);
  // A lost map of the last round is made again from itself and its neighbours of the round before.
  maps.lost = {{3, 1}};
  EXPECT_EQ(small.run(maps, executor), expected);
  EXPECT_GT(maps.put_count, 2u);
  EXPECT_LT(maps.put_count, all);
}

TEST(Densify, BoundsThatHoldNothingAreRefused) {
  Setting& s = Setting::once();
  Photos photos(s.folder / "photos");
  Maps maps;
  Monitor monitor;
  Bounds far;
  far.centre = {1e6, 0, 0};
  far.half_size = {1, 1, 1};
  EXPECT_THROW(densify(s.block, photos, maps, far, full_size(), Executor(2), monitor), Error);
  EXPECT_TRUE(maps.empty());
}

TEST(AutomaticBounds, HoldTheSubjectAndNotTheHorizon) {
  Setting& s = Setting::once();
  const Bounds bounds = automatic_bounds(s.block);
  EXPECT_TRUE(bounds.contains(s.scene.subject().centre));
  EXPECT_LT(bounds.half_size.maxCoeff(), 4);
  EXPECT_GT(bounds.half_size.x(), 0.8);
}

TEST(Estimate, GrowsWithWhatIsAskedFor) {
  Setting& s = Setting::once();
  DenseOptions options = full_size();
  const Bounds box = s.scene.subject();
  const DenseEstimate whole = estimate_dense(s.block, box, options, Executor(2));
  EXPECT_EQ(whole.maps + whole.photos_without_neighbours, s.block.photos.size());
  EXPECT_GT(whole.seconds, 0);
  EXPECT_GT(whole.memory_bytes, 1e7);
  options.shrink = 2;
  const DenseEstimate half = estimate_dense(s.block, box, options, Executor(2));
  EXPECT_NEAR(half.pixels, whole.pixels / 4, 1);
  EXPECT_LT(half.work_bytes, whole.work_bytes / 3.9);
  EXPECT_THROW(estimate_dense(Block{}, std::nullopt, options, Executor(2)), Error);
}

}  // namespace
}  // namespace icefield
