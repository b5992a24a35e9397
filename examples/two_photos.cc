// What two photos alone tell: features, matches, relative pose, points: two_photos A.jpg B.jpg
#include <fmt/format.h>

#include <algorithm>
#include <numbers>

#include "icefield/base/error.h"
#include "icefield/geometry/triangulate.h"
#include "icefield/geometry/two_view.h"
#include "icefield/io/photo_file.h"
#include "icefield/match/match.h"
#include "icefield/photo/filter.h"

using namespace icefield;

int main(int argc, char** argv) try {
  if (argc != 3) {
    fmt::print(stderr, "usage: two_photos A B\n");
    return 2;
  }
  Features features[2];
  CameraPrior priors[2];
  for (int k = 0; k < 2; ++k) {
    const PhotoMetadata metadata = read_photo_metadata(argv[k + 1]);
    const FocalGuess focal = guess_focal(metadata, SensorTable::built_in());
    priors[k] = {make_camera(CameraModel::radial, metadata.width, metadata.height, focal.focal_px),
                 focal.uncertainty_percent};
    features[k] = find_features(to_grey(read_photo(argv[k + 1])));
    fmt::print("{}: {} features, focal length {} ({})\n", argv[k + 1], features[k].size(),
               focal.focal_px > 0
                   ? fmt::format("{:.0f} px +- {:.0f} percent", focal.focal_px, focal.uncertainty_percent)
                   : "unknown",
               describe(focal.source));
  }
  const auto matches = match_descriptors(features[0], features[1]);
  const PairMatches pair =
      verify_pair({PhotoIndex(0), features[0], priors[0]}, {PhotoIndex(1), features[1], priors[1]}, matches, {}, 1);
  fmt::print("{} matches, {} of them verified: {}\n", matches.size(), pair.matches.size(),
             pair.verified() ? describe(pair.geometry) : describe(pair.fault));
  if (pair.model != TwoViewModel::essential) return 1;

  std::vector<PointPair> points;
  for (const Match& match : pair.matches) {
    const Keypoint &a = features[0].keypoints[match.first.value], &b = features[1].keypoints[match.second.value];
    points.push_back({*unproject(priors[0].camera, {a.x, a.y}), *unproject(priors[1].camera, {b.x, b.y})});
  }
  const RelativePose second = pose_from_essential(pair.matrix, points);
  const Eigen::Vector3d& c = second.pose.centre;
  fmt::print(
      "The second photo stands at ({:.3f}, {:.3f}, {:.3f}), turned by {:.1f} degrees; the baseline is the unit of "
      "length\n",
      c.x(), c.y(), c.z(),
      rotation_angle(second.pose.orientation, Eigen::Quaterniond::Identity()) * 180 / std::numbers::pi);
  std::vector<double> angles, depths;
  for (const PointPair& p : points) {
    const Ray rays[] = {{Pose{}, p.first}, {second.pose, p.second}};
    if (const auto x = triangulate(rays)) {
      angles.push_back(triangulation_angle(rays, *x) * 180 / std::numbers::pi);
      depths.push_back(x->z());
    }
  }
  if (angles.empty()) return 1;
  std::sort(angles.begin(), angles.end());
  std::sort(depths.begin(), depths.end());
  fmt::print("{} points; rays meet at {:.1f} degrees, depth {:.2f} baselines (medians)\n", angles.size(),
             angles[angles.size() / 2], depths[depths.size() / 2]);
  return 0;
} catch (const Error& e) {
  fmt::print(stderr, "{}\n", e.what());
  return 1;
}
