#include "icefield/orient/orient.h"

#include <gtest/gtest.h>

#include <atomic>
#include <map>

#include "icefield/judge/compare.h"
#include "tests/tools/made_up.h"

namespace icefield {
namespace {

// Keypoints, matches and tracks of made-up points, without images.
struct Made {
  Block truth;
  std::vector<OrientPhoto> photos;
  std::vector<CameraPrior> priors;
  std::vector<PairMatches> pairs;
  Tracks tracks;
};

Made make(const Block& truth, double wrong_share, bool focal_known) {
  Made made;
  made.truth = truth;
  CounterRandom random(3);
  made.photos.resize(truth.photos.size());
  for (std::size_t i = 0; i < truth.photos.size(); ++i)
    made.photos[i] = {"photo_" + std::to_string(i), truth.photos[i].camera, {}};
  std::map<std::pair<std::size_t, std::size_t>, std::vector<Match>> matches;
  for (std::size_t p = 0; p < truth.points.size(); ++p) {
    std::vector<std::pair<std::size_t, FeatureIndex>> seen;
    for (const Observation& o : truth.of_point(p)) {
      auto& keypoints = made.photos[o.photo].keypoints;
      Eigen::Vector2d pixel = o.pixel;
      if (random.uniform() < wrong_share) pixel += Eigen::Vector2d(random.uniform(-80, 80), random.uniform(-80, 80));
      seen.emplace_back(o.photo, FeatureIndex(keypoints.size()));
      keypoints.push_back({static_cast<float>(pixel.x()), static_cast<float>(pixel.y()), 2, 0});
    }
    for (std::size_t a = 0; a < seen.size(); ++a)
      for (std::size_t b = a + 1; b < seen.size(); ++b)
        matches[{seen[a].first, seen[b].first}].push_back({seen[a].second, seen[b].second, 0.5f});
  }
  std::vector<std::size_t> counts;
  for (const OrientPhoto& photo : made.photos) counts.push_back(photo.keypoints.size());
  for (const auto& [key, list] : matches) {
    PairMatches pair;
    pair.first = PhotoIndex(key.first), pair.second = PhotoIndex(key.second);
    pair.candidates = static_cast<std::uint32_t>(list.size());
    if (list.size() >= 20) pair.geometry = PairGeometry::depth, pair.matches = list;
    made.pairs.push_back(std::move(pair));
  }
  made.tracks = build_tracks(made.pairs, counts);
  for (const Camera& camera : truth.cameras) {
    Camera start = make_camera(camera.model, camera.width, camera.height, focal_known ? camera.focal() * 1.02 : 0);
    made.priors.push_back({start, focal_known ? 3.0 : 0.0});
  }
  return made;
}

OrientResult run(const Made& made, int threads = 2, OrientCheckpoint* checkpoint = nullptr,
                 Monitor* monitor = nullptr) {
  Monitor silent;
  return orient(made.photos, made.priors, made.pairs, {}, Executor(threads), monitor ? *monitor : silent, checkpoint);
}

std::vector<NamedPose> named(const Block& block) {
  std::vector<NamedPose> poses;
  for (const PosedPhoto& p : block.photos)
    poses.push_back({std::to_string(p.photo.value), block.camera_of(p), p.pose, 5.0 / 900});
  return poses;
}

TEST(Orient, PosesARingWithOutliers) {
  const Made made = make(test::ring_block(12, 500, 0.4), 0.08, true);
  const OrientResult result = run(made);
  ASSERT_EQ(result.blocks.size(), 1u);
  EXPECT_EQ(result.blocks[0].photos.size(), 12u);
  EXPECT_TRUE(result.unposed.empty());
  const auto c = compare_cameras(named(result.blocks[0]), named(made.truth));
  ASSERT_TRUE(c);
  EXPECT_EQ(c->wrong, 0u);
  EXPECT_LT(c->median_position_gsd, 1.0);
  EXPECT_NEAR(result.blocks[0].cameras[0].focal(), 900, 4);
  const BlockStatistics s = block_statistics(result.blocks[0]);
  EXPECT_LT(s.rms_px, 0.65);
  // Wrong observations are out, right ones are in.
  EXPECT_NEAR(s.kept_percent, 92, 4);
}

TEST(Orient, SearchesAnUnknownFocalLength) {
  const Made made = make(test::ring_block(10, 400, 0.4), 0.03, false);
  const OrientResult result = run(made);
  ASSERT_EQ(result.blocks.size(), 1u);
  EXPECT_EQ(result.blocks[0].photos.size(), 10u);
  EXPECT_NEAR(result.blocks[0].cameras[0].focal(), 900, 9);
  EXPECT_EQ(result.summary.focal_search.size(), OrientOptions().searched_fields_of_view_deg.size());
}

TEST(Orient, IsLevel) {
  const OrientResult result = run(make(test::ring_block(12, 300, 0.4), 0, true));
  // Photos of the ring look down a little and have their x axes horizontal.
  for (const PosedPhoto& p : result.blocks[0].photos) {
    EXPECT_NEAR((p.pose.orientation.conjugate() * Eigen::Vector3d::UnitX()).z(), 0, 0.03);
    EXPECT_LT((p.pose.orientation.conjugate() * Eigen::Vector3d::UnitY()).z(), 0);
  }
}

TEST(Orient, TheSameBytesForAnyNumberOfThreads) {
  const Made made = make(test::ring_block(8, 300, 0.4), 0.05, true);
  const Bytes one = block_to_bytes(run(made, 1).blocks[0]);
  EXPECT_EQ(one, block_to_bytes(run(made, 2).blocks[0]));
  EXPECT_EQ(one, block_to_bytes(run(made, 7).blocks[0]));
}

TEST(Orient, TwoGroupsWithoutCommonPhotosAreTwoBlocks) {
  Block both = test::ring_block(8, 300, 0.4);
  const Block other = test::ring_block(6, 300, 0.4, 9);
  for (const PosedPhoto& p : other.photos) both.photos.push_back({PhotoIndex(both.photos.size()), p.camera, p.pose});
  for (std::size_t i = 0; i < other.points.size(); ++i) {
    std::vector<Observation> seen(other.of_point(i).begin(), other.of_point(i).end());
    for (Observation& o : seen) o.photo = PosedIndex(o.photo + 8);
    both.add_point(other.points[i], seen);
  }
  const OrientResult result = run(make(both, 0, true));
  ASSERT_EQ(result.blocks.size(), 2u);
  EXPECT_EQ(result.blocks[0].photos.size(), 8u);
  EXPECT_EQ(result.blocks[1].photos.size(), 6u);
  EXPECT_TRUE(result.unposed.empty());
}

TEST(Orient, AnUnposedPhotoHasAReasonWithNumbers) {
  Block truth = test::ring_block(8, 300, 0.4);
  Made made = make(truth, 0, true);
  // A ninth photo that shares nothing.
  made.photos.push_back({"stray", CameraIndex(0), std::vector<Keypoint>(200, Keypoint{10, 10, 2, 0})});
  PairMatches pair;
  pair.first = PhotoIndex(0), pair.second = PhotoIndex(8);
  pair.candidates = 13;
  made.pairs.push_back(pair);
  const OrientResult result = run(made);
  ASSERT_EQ(result.unposed.size(), 1u);
  EXPECT_EQ(result.unposed[0].photo, PhotoIndex(8));
  EXPECT_NE(result.unposed[0].reason.find("photo_0, has 13 matches"), std::string::npos) << result.unposed[0].reason;
}

TEST(Orient, APhotoOfTheFarBackgroundAloneIsNotPosed) {
  // Three photos side by side see points far behind the subject, at angles of under a degree; so does a photo behind
  // them, which shares few or none of the near points.
  for (const int near : {0, 4, 14}) {
    Block truth = test::ring_block(8, 300, 0.3);
    const auto stand = [&](double x, double y) {
      truth.photos.push_back({PhotoIndex(truth.photos.size()), CameraIndex(0),
                              look_at({x, y, 1.5}, Eigen::Vector3d::Zero(), Eigen::Vector3d::UnitZ())});
      return static_cast<std::uint32_t>(truth.photos.size() - 1);
    };
    const std::uint32_t left = stand(-5, 1.5), right = stand(-5, -1.5), behind = stand(-6.5, 0.3);
    CounterRandom random(4);
    const auto add = [&](const Eigen::Vector3d& point, std::initializer_list<std::uint32_t> photos) {
      std::vector<Observation> seen;
      for (const std::uint32_t i : photos)
        if (const auto pixel = project(truth.cameras[0], truth.photos[i].pose.to_camera(point)))
          seen.push_back(
              {PosedIndex(i), FeatureIndex(), *pixel + 0.3 * Eigen::Vector2d(random.normal(), random.normal())});
      truth.add_point(point, seen);
    };
    for (int k = 0; k < 120; ++k)
      add({200, random.uniform(-60, 60), random.uniform(-40, 20)}, {4, left, right, behind});
    const auto on_subject = [&] {
      return Eigen::Vector3d(random.uniform(-1, 1), random.uniform(-1, 1), random.uniform(-0.8, 0.8));
    };
    for (int k = 0; k < 100; ++k) add(on_subject(), {3, 4, 5, left, right});
    for (int k = 0; k < near; ++k) add(on_subject(), {4, left, right, behind});
    const OrientResult result = run(make(truth, 0, true));
    ASSERT_EQ(result.blocks.size(), 1u) << near;
    if (near >= 8) {
      EXPECT_TRUE(result.unposed.empty()) << result.unposed[0].reason;
      const auto compared = compare_cameras(named(result.blocks[0]), named(truth));
      ASSERT_TRUE(compared);
      EXPECT_EQ(compared->wrong, 0u);
    } else {
      ASSERT_EQ(result.unposed.size(), 1u) << near;
      EXPECT_EQ(result.unposed[0].photo.value, behind);
      EXPECT_NE(result.unposed[0].reason.find(std::to_string(near) + " of them at a sure distance, 8 needed"),
                std::string::npos)
          << result.unposed[0].reason;
    }
  }
}

TEST(Orient, PhotosTurnedAboutOneSpotAreNoBlock) {
  // The same centre, ten directions: matches everywhere, depth nowhere.
  Block truth = test::ring_block(2, 0, 0);
  truth.photos.clear();
  CounterRandom random(2);
  for (int i = 0; i < 6; ++i)
    truth.photos.push_back({PhotoIndex(static_cast<std::size_t>(i)), CameraIndex(0),
                            look_at({0, 0, 0}, {std::cos(0.12 * i), std::sin(0.12 * i), 0}, Eigen::Vector3d::UnitZ())});
  for (int k = 0; k < 500; ++k) {
    const Eigen::Vector3d p(random.uniform(4, 9), random.uniform(-4, 6), random.uniform(-2, 2));
    std::vector<Observation> seen;
    for (std::uint32_t i = 0; i < 6; ++i) {
      const auto pixel = project(truth.cameras[0], truth.photos[i].pose.to_camera(p));
      if (pixel && pixel->x() > 0 && pixel->x() < 1000 && pixel->y() > 0 && pixel->y() < 800)
        seen.push_back(
            {PosedIndex(i), FeatureIndex(), *pixel + 0.3 * Eigen::Vector2d(random.normal(), random.normal())});
    }
    if (seen.size() >= 2) truth.add_point(p, seen);
  }
  const OrientResult result = run(make(truth, 0, true));
  EXPECT_TRUE(result.blocks.empty());
  ASSERT_EQ(result.unposed.size(), 6u);
  EXPECT_NE(result.unposed[0].reason.find("degrees"), std::string::npos) << result.unposed[0].reason;
}

TEST(Orient, GoesOnFromACheckpointToTheSameBytes) {
  struct Kept : OrientCheckpoint {
    std::optional<Bytes> state;
    int saves = 0;
    std::optional<Bytes> load() override { return state; }
    void save(const Bytes& s) override { state = s, ++saves; }
  } kept;
  struct StopsLate : Monitor {
    std::atomic<int> left;  // progress is told from several threads
    explicit StopsLate(int n) : left(n) {}
    void progress(std::string_view what, std::size_t, std::size_t) override { left -= what == "pose photos"; }
    bool cancelled() const override { return left <= 0; }
  };
  Block both = test::ring_block(7, 250, 0.4);
  const Made made = make(both, 0.03, false);
  const Bytes whole = block_to_bytes(run(made).blocks[0]);
  for (int stop = 2; stop < 40; stop += 6) {
    StopsLate monitor(stop);
    try {
      run(made, 2, &kept, &monitor);
    } catch (const Error& e) {
      EXPECT_EQ(e.kind(), ErrorKind::interrupted);
    }
  }
  EXPECT_GT(kept.saves, 0);
  EXPECT_EQ(block_to_bytes(run(made, 2, &kept).blocks[0]), whole);
  // One that cannot be read is no reason to stop.
  const Bytes state = *kept.state;
  for (const std::size_t size :
       {std::size_t{0}, std::size_t{5}, state.size() / 2, state.size() - 1, state.size() + 1}) {
    kept.state = state;
    kept.state->resize(size);
    EXPECT_EQ(block_to_bytes(run(made, 2, &kept).blocks[0]), whole) << size;
  }
}

}  // namespace
}  // namespace icefield
