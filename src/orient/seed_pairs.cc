#include "src/orient/seed_pairs.h"

#include <fmt/format.h>

#include <algorithm>
#include <numbers>

#include "icefield/base/random.h"
#include "icefield/geometry/triangulate.h"
#include "icefield/geometry/two_view.h"

namespace icefield {

std::vector<Seed> find_seeds(const OrientInput& input, const std::vector<Camera>& cameras,
                             const std::vector<bool>& allowed, SeedSearch& search) {
  // The pairs with the most matches are looked at closely; turns have no depth, and planes are looked at last.
  constexpr std::size_t kLooked = 80;
  std::vector<std::uint32_t> order;
  for (std::size_t i = 0; i < input.pairs.size(); ++i)
    if (input.usable(i) && input.pairs[i].geometry != PairGeometry::turned && allowed[input.pairs[i].first.value] &&
        allowed[input.pairs[i].second.value])
      order.push_back(static_cast<std::uint32_t>(i));
  std::sort(order.begin(), order.end(), [&](std::uint32_t a, std::uint32_t b) {
    const bool plane_a = input.pairs[a].geometry == PairGeometry::flat,
               plane_b = input.pairs[b].geometry == PairGeometry::flat;
    if (plane_a != plane_b) return plane_b;
    const std::size_t na = input.pairs[a].matches.size(), nb = input.pairs[b].matches.size();
    return na != nb ? na > nb : a < b;
  });
  if (order.size() > kLooked) order.resize(kLooked);

  std::vector<Seed> seeds(order.size());
  std::vector<double> median(order.size(), 0), turned(order.size(), 0);
  Monitor silent;
  input.executor.run("", order.size(), silent, [&](std::size_t i) {
    const PairMatches& pair = input.pairs[order[i]];
    const OrientPhoto &first = input.photos[pair.first.value], &second = input.photos[pair.second.value];
    const Camera &camera1 = cameras[first.camera.value], &camera2 = cameras[second.camera.value];
    std::vector<PointPair> points;
    for (const Match& match : pair.matches) {
      const Keypoint &a = first.keypoints[match.first.value], &b = second.keypoints[match.second.value];
      const auto da = unproject(camera1, {a.x, a.y}), db = unproject(camera2, {b.x, b.y});
      if (da && db) points.push_back({*da, *db});
    }
    TwoViewOptions fit_options;
    fit_options.max_error = 2.0 / (0.5 * (camera1.focal() + camera2.focal()));
    const TwoViewFit fit =
        fit_essential(points, fit_options, combine_keys(0x5eed, combine_keys(pair.first.value, pair.second.value)));
    if (static_cast<int>(fit.inliers.size()) < input.options.min_seed_points) return;
    std::vector<PointPair> inliers;
    for (const std::uint32_t k : fit.inliers) inliers.push_back(points[k]);
    const RelativePose relative = pose_from_essential(fit.matrix, inliers);
    turned[i] = rotation_angle(relative.pose.orientation, Eigen::Quaterniond::Identity()) * 180 / std::numbers::pi;
    std::vector<double> angles;
    for (const PointPair& p : inliers) {
      const Ray rays[] = {{Pose{}, p.first}, {relative.pose, p.second}};
      if (const auto x = triangulate(rays)) angles.push_back(triangulation_angle(rays, *x) * 180 / std::numbers::pi);
    }
    if (angles.size() < 0.5 * static_cast<double>(inliers.size())) return;
    std::sort(angles.begin(), angles.end());
    median[i] = angles[angles.size() / 2];
    const auto useful = static_cast<std::size_t>(
        angles.end() - std::lower_bound(angles.begin(), angles.end(), input.options.min_growing_angle_deg));
    if (static_cast<int>(useful) < input.options.min_seed_points) return;
    // Before a far background, enough of what is near must meet at such an angle; these seeds come last.
    const auto near = angles.end() - std::lower_bound(angles.begin(), angles.end(), input.options.min_seed_angle_deg);
    double rank = 1;
    if (median[i] < input.options.min_seed_angle_deg) {
      if (near < input.options.min_seed_points) return;
      rank = 1e-4;
    }
    // Wide angles fix depth, but beyond about 16 degrees more of them adds little and wrong matches grow.
    // A plane is no seed while there is another: its focal length and tilt are open.
    const double depth = pair.geometry == PairGeometry::flat ? 0.1 : 1;
    seeds[i] = {pair.first,    pair.second,
                relative.pose, rank * depth * static_cast<double>(useful) * std::min(1.0, median[i] / 16.0),
                median[i],     useful};
  });
  if (!median.empty()) {
    search.widest_deg = *std::max_element(median.begin(), median.end());
    std::erase(turned, 0.0);  // pairs without a relative pose
    std::sort(turned.begin(), turned.end());
    if (!turned.empty()) search.turned_deg = turned[turned.size() / 2];
  }
  std::erase_if(seeds, [](const Seed& s) { return s.score <= 0; });
  std::stable_sort(seeds.begin(), seeds.end(), [](const Seed& a, const Seed& b) { return a.score > b.score; });
  return seeds;
}

std::unique_ptr<GrowingBlock> start_block(const OrientInput& input, const std::shared_ptr<const TrackSet>& tracks,
                                          const std::vector<Camera>& cameras, const std::vector<bool>& allowed,
                                          std::string& failure) {
  SeedSearch search;
  const std::vector<Seed> seeds = find_seeds(input, cameras, allowed, search);
  const double widest = search.widest_deg;
  constexpr double kFarApartDeg = 12;  // photos turned by more than that from one to the next go around something
  if (seeds.empty()) {
    std::size_t usable = 0, turns = 0;
    for (std::size_t p = 0; p < input.pairs.size(); ++p)
      if (input.usable(p) && allowed[input.pairs[p].first.value] && allowed[input.pairs[p].second.value])
        ++usable, turns += input.pairs[p].geometry == PairGeometry::turned;
    if (usable > 0 && turns == usable)
      failure = fmt::format(
          "no pair to start from: all {} verified pairs show no depth: the photos were turned about one spot, or "
          "nothing but a far background matches, since photos of the subject are too far apart (steps of 15 to 20 "
          "degrees match)",
          turns);
    else if (widest >= input.options.min_seed_angle_deg)
      failure = fmt::format(
          "no pair to start from: the rays of the best one meet at {:.1f} degrees, but it has fewer than {} points at "
          "a useful angle",
          widest, input.options.min_seed_points);
    else if (widest > 0 && search.turned_deg > kFarApartDeg)
      failure = fmt::format(
          "no pair to start from: what matches is far away (rays meet at {:.1f} degrees at most, {:.1f} needed), while "
          "photos are turned by {:.0f} degrees from one to the next: a subject near to the camera does not match "
          "across "
          "so much, but does in steps of 15 to 20 degrees; photos turned about one spot show no depth",
          widest, input.options.min_seed_angle_deg, search.turned_deg);
    else if (widest > 0)
      failure = fmt::format(
          "no pair to start from: rays of matches meet at {:.1f} degrees at most, {:.1f} needed (photos turned about "
          "one spot show no depth)",
          widest, input.options.min_seed_angle_deg);
    else
      failure = fmt::format("no pair to start from: no pair has {} matches that meet in space",
                            input.options.min_seed_points);
  }
  constexpr std::size_t kSeedsTried = 8;
  for (std::size_t i = 0; i < std::min(seeds.size(), kSeedsTried); ++i) {
    auto block = std::make_unique<GrowingBlock>(input, tracks, cameras);
    if (block->start(seeds[i].first, seeds[i].second, seeds[i].second_in_first)) {
      input.monitor.log(LogLevel::detail,
                        fmt::format("block starts from {} and {}: {} points at {:.1f} degrees",
                                    input.photos[seeds[i].first.value].name, input.photos[seeds[i].second.value].name,
                                    seeds[i].points, seeds[i].angle_deg));
      return block;
    }
    failure = "no pair to start from: the points of the best pairs do not hold in an adjustment";
  }
  return nullptr;
}

}  // namespace icefield
