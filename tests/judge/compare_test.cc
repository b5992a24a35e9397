#include "icefield/judge/compare.h"

#include <fmt/format.h>
#include <gtest/gtest.h>

#include <map>

#include "icefield/base/error.h"
#include "icefield/judge/agree.h"
#include "icefield/report/table.h"
#include "tests/tools/made_up.h"

namespace icefield {
namespace {

std::vector<NamedPose> poses_of(const Block& block) {
  std::vector<NamedPose> poses;
  for (const PosedPhoto& p : block.photos)
    poses.push_back({fmt::format("p{}", p.photo.value), block.camera_of(p), p.pose, 0.01});
  return poses;
}

TEST(CompareCameras, AlignsAndFindsTheWrongOne) {
  const Block truth = test::ring_block(10, 0, 0);
  Block moved = truth;
  Similarity s;
  s.scale = 0.2;
  s.rotation = rotation_from_vector({0.4, -1, 2});
  s.translation = {5, 6, 7};
  transform(moved, s);
  auto result = poses_of(moved);
  for (NamedPose& p : result) p.gsd *= 0.2;
  const auto exact = compare_cameras(result, poses_of(truth));
  ASSERT_TRUE(exact);
  EXPECT_LT(exact->max_position, 1e-9);
  EXPECT_LT(exact->max_orientation_deg, 1e-5);
  EXPECT_EQ(exact->wrong, 0u);
  EXPECT_NEAR(exact->to_truth.scale, 5, 1e-9);

  // One photo half a metre off: it alone is wrong, by its true distance, and does not pull the others.
  result[3].pose.centre += 0.2 * 0.5 * Eigen::Vector3d::UnitX();
  result.erase(result.begin() + 7);
  const auto one = compare_cameras(result, poses_of(truth));
  ASSERT_TRUE(one);
  EXPECT_EQ(one->posed, 9u);
  EXPECT_EQ(one->missing, std::vector<std::string>{"p7"});
  EXPECT_EQ(one->wrong, 1u);
  EXPECT_TRUE(one->photos[3].wrong);
  EXPECT_NEAR(one->photos[3].position, 0.5, 1e-6);
  EXPECT_NEAR(one->photos[3].position_gsd, 50, 1e-3);
  EXPECT_LT(one->median_position, 1e-6);
}

TEST(Agree, TellsHowFarSurfacesLieApart) {
  // Two sheets that overlap by half, the second lifted by 1.5 GSD; and one that looks down, which is no common surface.
  const auto sheet = [](double from, double lift, float up) {
    PointCloud cloud;
    cloud.origin = {from, 0, 0};
    for (int y = 0; y < 100; ++y)
      for (int x = 0; x < 100; ++x) {
        cloud.positions.push_back(
            {0.01f * static_cast<float>(x), 0.01f * static_cast<float>(y), static_cast<float>(lift)});
        cloud.normals.push_back({0, 0, up});
      }
    return cloud;
  };
  const SurfaceAgreement found = compare_surfaces(sheet(0, 0, 1), sheet(0.5, 0.015, 1), 0.01, 10, Executor(3));
  EXPECT_NEAR(found.common_percent, 60, 2);  // the half, and as far beyond as 10 GSD reach
  EXPECT_NEAR(found.median_gsd, 1.5, 1e-3);
  EXPECT_NEAR(found.offset_gsd, -1.5, 1e-3);
  EXPECT_NEAR(found.within_2_gsd_percent, 84, 4);
  EXPECT_EQ(compare_surfaces(sheet(0, 0, 1), sheet(0, 0, -1), 0.01).common, 0u);
  EXPECT_EQ(compare_surfaces(sheet(0, 0, 1), PointCloud(), 0.01).common, 0u);
  EXPECT_THROW(compare_surfaces(sheet(0, 0, 1), sheet(0, 0, 1), 0), Error);
  PointCloud bare = sheet(0, 0, 1);
  bare.normals.clear();
  EXPECT_THROW(compare_surfaces(bare, sheet(0, 0, 1), 0.01), Error);
}

TEST(Agree, CountsTiePointsThatPartsShare) {
  const Block block = test::ring_block(8, 150, 0.4);
  std::vector<int> part(8, 0);
  EXPECT_EQ(ties_across(block, part).points, 0u);
  for (std::size_t i = 4; i < 8; ++i) part[i] = 1;
  const TiesAcross ties = ties_across(block, part);
  std::size_t expected = 0;
  for (std::size_t i = 0; i < block.points.size(); ++i) {
    bool low = false, high = false;
    for (const Observation& o : block.of_point(i)) (o.photo.value < 4 ? low : high) = true;
    expected += low && high;
  }
  EXPECT_EQ(ties.points, expected);
  EXPECT_GT(ties.points, 0u);
  EXPECT_NEAR(ties.rms_px, block_statistics(block).rms_px, 0.1);
  // Photos of none take no part.
  std::fill(part.begin(), part.end(), kNoPart);
  EXPECT_EQ(ties_across(block, part).points, 0u);
}

TEST(ComparePairs, CountsRightWrongAndMissed) {
  const Block block = test::ring_block(4, 120, 0.3);
  std::vector<std::string> names;
  std::vector<std::vector<Keypoint>> keypoints(4);
  std::vector<std::optional<NamedPose>> truth;
  for (const NamedPose& pose : poses_of(block)) names.push_back(pose.name), truth.emplace_back(pose);
  std::vector<std::map<std::size_t, std::size_t>> feature(4);  // of a point
  for (std::size_t i = 0; i < block.points.size(); ++i)
    for (const Observation& o : block.of_point(i)) {
      feature[o.photo][i] = keypoints[o.photo].size();
      keypoints[o.photo].push_back({static_cast<float>(o.pixel.x()), static_cast<float>(o.pixel.y()), 2, 0});
    }
  const auto matched = [&](std::size_t a, std::size_t b, std::size_t shift) {
    PairMatches pair;
    pair.first = PhotoIndex(a), pair.second = PhotoIndex(b);
    pair.geometry = PairGeometry::depth;
    for (const auto& [point, f] : feature[a])
      if (const auto g = feature[b].find(point + shift); g != feature[b].end())
        pair.matches.push_back({FeatureIndex(f), FeatureIndex(g->second), 0.5f});
    return pair;
  };
  std::vector<PairMatches> pairs = {matched(0, 1, 0), matched(1, 2, 5), matched(2, 3, 0)};
  pairs[2].geometry = PairGeometry::none;
  pairs[2].fault = PairFault::disagree;
  pairs[2].matches.clear();
  const std::vector<PhotoOverlap> overlaps = {{"p0", "p1", 0.8, 20}, {"p1", "p2", 0.3, 20}, {"p3", "p2", 0.4, 60},
                                              {"p0", "p3", 0.5, 20}, {"p0", "p2", 0.1, 20}, {"p1", "p3", 0.01, 20}};
  const PairComparison c = compare_pairs(names, keypoints, pairs, truth, overlaps);
  EXPECT_EQ(c.tried, 3u);
  EXPECT_EQ(c.verified, 2u);
  EXPECT_EQ(c.wrong, 1u);  // matched with the wrong points
  EXPECT_EQ(c.matches, pairs[0].matches.size() + pairs[1].matches.size());
  EXPECT_GE(c.right, pairs[0].matches.size());
  EXPECT_LT(c.right, pairs[0].matches.size() + pairs[1].matches.size() / 5);
  EXPECT_EQ(c.overlapping, 5u);
  EXPECT_EQ(c.well.pairs, 4u);
  EXPECT_EQ(c.well.tried, 3u);
  EXPECT_EQ(c.well.verified, 2u);
  EXPECT_EQ(c.well_and_narrow.pairs, 3u);
  EXPECT_EQ(c.well_and_narrow.tried, 2u);
  // Without the truth of a photo its pairs take no part.
  truth[2].reset();
  EXPECT_EQ(compare_pairs(names, keypoints, pairs, truth, {}).tried, 1u);
}

TEST(CompareCameras, TwoPhotosAreTooFew) {
  const auto poses = poses_of(test::ring_block(2, 0, 0));
  EXPECT_FALSE(compare_cameras(poses, poses));
}

TEST(CompareObservations, TellsRightFromWrongAndKeptFromLost) {
  // Photos with a feature for each observation; one observation moved by 20 px, one track lost as a whole.
  Block block = test::ring_block(8, 60, 0.3);
  std::vector<OrientPhoto> photos(8);
  Tracks tracks;
  for (std::size_t i = 0; i < block.points.size(); ++i) {
    for (std::uint64_t o = block.starts[i]; o < block.starts[i + 1]; ++o) {
      Observation& seen = block.observations[o];
      seen.feature = FeatureIndex(photos[seen.photo].keypoints.size());
      Keypoint k{};
      k.x = static_cast<float>(seen.pixel.x()), k.y = static_cast<float>(seen.pixel.y());
      if (i == 3 && o == block.starts[i] + 1) k.x += 20;
      photos[seen.photo].keypoints.push_back(k);
      tracks.elements.push_back({PhotoIndex(seen.photo), seen.feature});
    }
    tracks.starts.push_back(tracks.elements.size());
  }
  std::vector<std::optional<NamedPose>> truth;
  for (const NamedPose& pose : poses_of(block)) truth.push_back(pose);
  Block kept = block;
  const std::size_t lost = kept.of_point(kept.points.size() - 1).size();
  kept.observations.resize(kept.observations.size() - lost);
  kept.starts.pop_back();
  kept.points.pop_back();
  ASSERT_GE(block.of_point(3).size(), 3u);
  const Block blocks[] = {kept};
  const ObservationComparison c = compare_observations(photos, tracks, blocks, truth, Executor(2));
  EXPECT_EQ(c.tracks, block.points.size());
  EXPECT_EQ(c.wrong_tracks, 1u);
  EXPECT_EQ(c.wrong, 1u);
  EXPECT_EQ(c.wrong_kept, 1u);
  EXPECT_EQ(c.right, block.observations.size() - 1);
  EXPECT_EQ(c.right_kept, c.right - lost);
  // Photos without truth take no part.
  truth[0].reset();
  EXPECT_LT(compare_observations(photos, tracks, blocks, truth, Executor(1)).right, c.right);
}

TEST(CompareClouds, CountsByDistanceInLocalGsd) {
  // Truth: 100 spots at a metre, GSD 0.1; half of them count. Result: the counted ones, moved by 1.5 GSD, and 10
  // strays.
  PointCloud truth, result;
  for (int i = 0; i < 100; ++i) {
    truth.positions.emplace_back(static_cast<float>(i), 0.0f, 0.0f);
    truth.gsd.push_back(0.1f);
    truth.counted.push_back(i < 50);
    if (i < 40) result.positions.emplace_back(static_cast<float>(i), 0.15f, 0.0f);
  }
  for (int i = 0; i < 10; ++i) result.positions.emplace_back(static_cast<float>(i), 5.0f, 0.0f);
  Monitor monitor;
  const CloudComparison c = compare_clouds(result, truth, std::nullopt, Executor(2), monitor);
  EXPECT_EQ(c.counted_points, 50u);
  EXPECT_DOUBLE_EQ(c.scores[0].accuracy_percent, 0);
  EXPECT_DOUBLE_EQ(c.scores[2].accuracy_percent, 80);
  EXPECT_DOUBLE_EQ(c.scores[2].completeness_percent, 80);
  EXPECT_NEAR(c.scores[2].f1, 0.8, 1e-12);
  EXPECT_DOUBLE_EQ(c.far_percent, 20);
  // Bounds leave the strays out.
  Bounds bounds;
  bounds.half_size = {1000, 1, 1};
  EXPECT_DOUBLE_EQ(compare_clouds(result, truth, bounds, Executor(2), monitor).scores[2].accuracy_percent, 100);
  EXPECT_THROW(compare_clouds(result, PointCloud{}, bounds, Executor(1), monitor), Error);
  truth.gsd.clear();
  EXPECT_THROW(compare_clouds(result, truth, bounds, Executor(1), monitor), Error);
}

TEST(Table, AlignsItsColumns) {
  Table table({"name ", "size"});
  table.add({"é", "1"});
  table.add({"moraine", "100"});
  EXPECT_EQ(table.text(), "name     size\né           1\nmoraine   100\n");
  EXPECT_EQ(duration_text(75.3), "1 min 15 s");
  EXPECT_EQ(duration_text(7500), "2 h 05 min");
}

}  // namespace
}  // namespace icefield
