// Points and poses made up for tests of geometry.
#pragma once
#include <Eigen/Core>
#include <vector>

#include "icefield/adjust/adjust.h"
#include "icefield/base/random.h"
#include "icefield/block/block.h"
#include "icefield/geometry/two_view.h"

namespace icefield::test {

struct TwoViews {
  Pose second;
  std::vector<PointPair> pairs;
};

// The first camera at the origin, points in front of both. `flat`: on a plane.
inline TwoViews two_views(std::uint64_t seed, int count, double noise = 0, bool flat = false) {
  CounterRandom random(seed);
  TwoViews views;
  views.second.orientation =
      rotation_from_vector(0.2 * Eigen::Vector3d(random.normal(), random.normal(), random.normal()));
  views.second.centre = Eigen::Vector3d(random.normal(), random.normal(), 0.3 * random.normal()).normalized();
  while (static_cast<int>(views.pairs.size()) < count) {
    Eigen::Vector3d p(random.uniform(-2, 2), random.uniform(-2, 2), random.uniform(4, 8));
    if (flat) p.z() = 5 + 0.3 * p.x() - 0.2 * p.y();
    const Eigen::Vector3d q = views.second.to_camera(p);
    if (q.z() < 1) continue;
    const auto jitter = [&] { return Eigen::Vector2d(noise * random.normal(), noise * random.normal()); };
    views.pairs.push_back({p.hnormalized() + jitter(), q.hnormalized() + jitter()});
  }
  return views;
}

// A ring of photos around a cloud of points, with pixel noise; poses, points and focal length as they truly are.
inline Block ring_block(int photos, int points, double noise_px, std::uint64_t seed = 1) {
  CounterRandom random(seed);
  Block block;
  Camera camera = make_camera(CameraModel::radial, 1000, 800, 900);
  camera.parameters[3] = -0.05, camera.parameters[4] = 0.01;
  block.cameras = {camera};
  for (int i = 0; i < photos; ++i) {
    const double angle = 6.283185307 * i / photos;
    const Eigen::Vector3d centre(5 * std::cos(angle), 5 * std::sin(angle), 1.5 + random.normal() * 0.3);
    block.photos.push_back({PhotoIndex(static_cast<std::size_t>(i)), CameraIndex(0),
                            look_at(centre, Eigen::Vector3d::Zero(), Eigen::Vector3d::UnitZ())});
  }
  for (int i = 0; i < points; ++i) {
    const Eigen::Vector3d p(random.uniform(-1.2, 1.2), random.uniform(-1.2, 1.2), random.uniform(-1, 1));
    std::vector<Observation> seen;
    for (int k = 0; k < photos; ++k) {
      const auto pixel = project(camera, block.photos[static_cast<std::size_t>(k)].pose.to_camera(p));
      if (!pixel || random.uniform() < 0.3) continue;
      seen.push_back(
          {PosedIndex(k), FeatureIndex(), *pixel + noise_px * Eigen::Vector2d(random.normal(), random.normal())});
    }
    if (seen.size() >= 2) block.add_point(p, seen);
  }
  return block;
}

// Moves poses and points of a block at random.
inline void disturb(Block& block, double size, std::uint64_t seed = 2) {
  CounterRandom random(seed);
  const auto vector = [&](double s) {
    return Eigen::Vector3d(s * random.normal(), s * random.normal(), s * random.normal());
  };
  for (PosedPhoto& photo : block.photos) {
    photo.pose.orientation = (rotation_from_vector(vector(0.3 * size)) * photo.pose.orientation).normalized();
    photo.pose.centre += vector(size);
  }
  for (Eigen::Vector3d& p : block.points) p += vector(size);
}

// Least squares to the end.
inline AdjustOptions exact_options(double tolerance = 1e-12) {
  AdjustOptions options;
  options.loss = Loss::squared;
  options.cost_tolerance = tolerance;
  return options;
}

}  // namespace icefield::test
