// What pairs say of each other, before a block is made of them: orientations, places, and pairs that only look alike.
#include "src/orient/view_graph.h"

#include <gtest/gtest.h>

#include <numbers>

#include "icefield/geometry/similarity.h"
#include "src/orient/positions.h"
#include "src/orient/twins.h"
#include "tests/tools/sets.h"

namespace icefield {
namespace {

// A made-up set as a step of orientation sees it, with the true cameras.
struct Checked {
  simulate::MatchedSet set;
  OrientOptions options;
  Executor executor{2};
  Monitor monitor;
  OrientInput input;
  std::vector<Camera> cameras;

  explicit Checked(simulate::MatchedSet made)
      : set(std::move(made)), input(prepare_input(set.photos, set.priors, set.pairs, options, executor, monitor)) {
    cameras = set.truth.cameras;
  }
  // Whether the matches of a pair fit the true poses: otherwise it shows two places that look alike.
  bool right(std::size_t p) const {
    const PairMatches& pair = set.pairs[p];
    const PosedPhoto &a = set.truth.photos[pair.first.value], &b = set.truth.photos[pair.second.value];
    const Eigen::Matrix3d essential = skew(b.pose.to_camera(a.pose.centre)) *
                                      (b.pose.orientation * a.pose.orientation.conjugate()).toRotationMatrix();
    std::size_t fits = 0;
    for (const Match& m : pair.matches) {
      const auto from = unproject(set.truth.camera_of(a), input.pixel(pair.first, m.first)),
                 to = unproject(set.truth.camera_of(b), input.pixel(pair.second, m.second));
      if (!from || !to) continue;
      const Eigen::Vector3d line = essential * from->homogeneous();
      fits += std::abs(to->homogeneous().dot(line)) / line.head<2>().norm() < 4 / cameras[0].focal();
    }
    return 2 * fits > pair.matches.size();
  }
};

// Angles between the found and the true orientations of the second photo of each edge as seen from the first,
// ascending, degrees. (From end to end a loop may drift; here it is each step that counts.)
std::vector<double> errors_deg(const Checked& c, const ViewGraph& graph) {
  std::vector<double> errors;
  for (const ViewEdge& edge : graph.edges) {
    const auto turn = [](const Eigen::Quaterniond& from, const Eigen::Quaterniond& to) {
      return to * from.conjugate();
    };
    errors.push_back(rotation_angle(turn(graph.orientations[edge.first], graph.orientations[edge.second]),
                                    turn(c.set.truth.photos[edge.first].pose.orientation,
                                         c.set.truth.photos[edge.second].pose.orientation)) *
                     180 / std::numbers::pi);
  }
  std::sort(errors.begin(), errors.end());
  return errors;
}

TEST(ViewGraph, AveragesOrientationsAndKeepsWhatIsRight) {
  // A flight leaves turns and ways open to each other: its pairs know less.
  for (const auto& [kind, median, most] : {std::tuple("ring", 0.5, 4.0), std::tuple("flight", 4.0, 6.0)}) {
    Checked c(test::small_set(kind, 36, 4, [](simulate::MatchedSetOptions& o) { o.lens_fault = false; }));
    const auto verified =
        std::count_if(c.set.pairs.begin(), c.set.pairs.end(), [](const PairMatches& p) { return p.verified(); });
    const ViewGraph graph = check_view_graph(c.input, *tracks_of(c.input), c.cameras);
    ASSERT_EQ(graph.part.size(), 36u);
    EXPECT_EQ(graph.part_sizes.at(0), 36u) << kind;
    EXPECT_LT(static_cast<double>(graph.cut_by_turn + graph.cut_by_direction), 0.05 * static_cast<double>(verified));
    EXPECT_EQ(graph.turn_error.size(), graph.edges.size());
    const std::vector<double> errors = errors_deg(c, graph);
    EXPECT_LT(errors.at(errors.size() / 2), median) << kind;
    EXPECT_LT(errors.at(errors.size() * 19 / 20), most) << kind;
    // The average knows better than a pair by itself.
    double together = 0, apart = 0;
    for (std::size_t e = 0; e < graph.edges.size(); ++e) {
      const ViewEdge& edge = graph.edges[e];
      const Eigen::Quaterniond truth = c.set.truth.photos[edge.second].pose.orientation *
                                       c.set.truth.photos[edge.first].pose.orientation.conjugate();
      apart += std::pow(rotation_angle(edge.turn, truth), 2);
      together += std::pow(
          rotation_angle(graph.orientations[edge.second] * graph.orientations[edge.first].conjugate(), truth), 2);
    }
    EXPECT_LT(together, apart) << kind;
  }
}

TEST(ViewGraph, APairThatContradictsItsCyclesIsCut) {
  Checked c(test::small_set("ring", 30, 6));
  // Two pairs get a geometry that stands by itself and is wrong where it stands.
  std::vector<std::size_t> swapped;
  for (std::size_t p = 0; p + 1 < c.set.pairs.size() && swapped.size() < 2; p += 31) {
    PairMatches& pair = c.set.pairs[p];
    if (!pair.verified() || pair.matches.size() < 60) continue;
    // Its second photo is taken for one that was turned by 25 degrees about its line of sight.
    const Camera& camera = c.cameras[c.set.photos[pair.second.value].camera.value];
    auto& keypoints = c.set.photos[pair.second.value].keypoints;
    const Eigen::Quaterniond turn = rotation_from_vector({0, 0, 25 * std::numbers::pi / 180});
    for (Match& m : pair.matches) {
      const Keypoint k = keypoints[m.second.value];
      const auto ray = unproject(camera, {k.x, k.y});
      const auto there = ray ? project(camera, turn * ray->homogeneous()) : std::nullopt;
      if (!there) continue;
      keypoints.push_back({static_cast<float>(there->x()), static_cast<float>(there->y()), k.scale, k.angle});
      m.second = FeatureIndex(keypoints.size() - 1);
    }
    pair.matrix = turn.toRotationMatrix() * pair.matrix;
    swapped.push_back(p);
  }
  ASSERT_EQ(swapped.size(), 2u);
  OrientInput input = prepare_input(c.set.photos, c.set.priors, c.set.pairs, c.options, c.executor, c.monitor);
  const ViewGraph graph = check_view_graph(input, *tracks_of(input), c.cameras);
  for (const std::size_t p : swapped) EXPECT_EQ(input.cut[p], 1) << p;
  EXPECT_LE(std::count(input.cut.begin(), input.cut.end(), 1), 6);
  EXPECT_EQ(graph.part_sizes.at(0), 30u);
  const std::vector<double> errors = errors_deg(c, graph);
  EXPECT_LT(errors.at(errors.size() * 19 / 20), 4);
}

TEST(Twins, AreThePairsThatLayTwoPlacesOnEachOther) {
  Checked c(test::small_set("hut", 36, 3, [](simulate::MatchedSetOptions& o) { o.twins = true, o.features = 1500; }));
  ASSERT_GT(c.set.wrong_pairs, 30u);
  const ViewGraph graph = check_view_graph(c.input, *tracks_of(c.input), c.cameras);
  const auto wrong_left = [&] {
    std::size_t count = 0;
    for (std::size_t p = 0; p < c.set.pairs.size(); ++p) count += c.input.usable(p) && !c.right(p);
    return count;
  };
  const std::size_t before = wrong_left();
  const std::vector<std::uint32_t> twins = pairs_of_twins(c.input, tracks_of(c.input), graph, c.cameras);
  std::size_t caught = 0;
  for (const std::uint32_t p : twins) {
    caught += !c.right(p);
    c.input.cut[p] = 1;
  }
  ASSERT_GT(before, 10u);
  EXPECT_GT(caught, before / 2);
  EXPECT_LE(twins.size() - caught, twins.size() / 5) << "right pairs called twins";
  (void)check_view_graph(c.input, *tracks_of(c.input), c.cameras);
  EXPECT_LE(wrong_left(), before / 10);
  // A hut whose sides differ has none.
  Checked plain(test::small_set("hut", 36, 3, [](simulate::MatchedSetOptions& o) { o.features = 1500; }));
  const ViewGraph sound = check_view_graph(plain.input, *tracks_of(plain.input), plain.cameras);
  EXPECT_TRUE(pairs_of_twins(plain.input, tracks_of(plain.input), sound, plain.cameras).empty());
}

TEST(Positions, AllAtOnceFromOrientationsAlone) {
  for (const char* kind : {"ring", "flight"}) {
    Checked c(test::small_set(kind, 30, 8));
    std::vector<Eigen::Quaterniond> orientations;
    std::vector<Eigen::Vector3d> truth;
    for (const PosedPhoto& photo : c.set.truth.photos)
      orientations.push_back(photo.pose.orientation), truth.push_back(photo.pose.centre);
    // One photo takes no part, and one is held by nothing.
    std::vector<std::uint8_t> taken(30, 1);
    taken[5] = 0;
    for (std::size_t p = 0; p < c.set.pairs.size(); ++p)
      if (c.set.pairs[p].first == PhotoIndex(11) || c.set.pairs[p].second == PhotoIndex(11)) c.input.cut[p] = 1;
    const std::vector<Eigen::Vector3d> centres =
        solve_positions(c.input, *tracks_of(c.input), c.cameras, orientations, taken);
    ASSERT_EQ(centres.size(), 30u);
    EXPECT_EQ(taken[5], 0);
    EXPECT_EQ(taken[11], 0) << kind;
    std::vector<Eigen::Vector3d> found, wanted;
    for (std::size_t i = 0; i < 30; ++i)
      if (taken[i]) found.push_back(centres[i]), wanted.push_back(truth[i]);
    ASSERT_EQ(found.size(), 28u) << kind;
    const auto fit = fit_similarity(found, wanted);
    ASSERT_TRUE(fit) << kind;
    EXPECT_LT(rotation_angle(fit->rotation, Eigen::Quaterniond::Identity()), 0.01) << "orientations are the frame";
    double extent = 0, worst = 0;
    for (std::size_t i = 0; i < found.size(); ++i) {
      extent = std::max(extent, (wanted[i] - wanted[0]).norm());
      worst = std::max(worst, (*fit * found[i] - wanted[i]).norm());
    }
    EXPECT_LT(worst, 0.01 * extent) << kind;
  }
}

}  // namespace
}  // namespace icefield
