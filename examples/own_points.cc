// Your own points, poses and measured lengths into an adjustment: here a made-up zigzag of six photos over a slope,
// with poses known to a decimetre and pixel measurements to a third of a pixel.
#include <fmt/format.h>

#include <cmath>
#include <numbers>

#include "icefield/adjust/uncertainty.h"
#include "icefield/base/random.h"

using namespace icefield;

int main() {
  CounterRandom random(1);
  const auto jitter = [&](double size) {
    return Eigen::Vector3d(size * random.normal(), size * random.normal(), size * random.normal());
  };

  // A block is plain arrays: cameras, photos with poses, points, and for each point the pixels where photos see it.
  Block block;
  block.cameras.push_back(make_camera(CameraModel::radial, 1200, 800, 1000));
  std::vector<Pose> true_poses;
  for (int i = 0; i < 6; ++i) {
    const Eigen::Vector3d centre(8.0 * i, 6.0 * (i % 2), 30);
    true_poses.push_back(
        look_at(centre, centre + Eigen::Vector3d(1.0 - 0.4 * i, 0.5 * i - 1, -30), Eigen::Vector3d::UnitY()));
    Pose known = true_poses.back();
    known.centre += jitter(0.1);
    block.photos.push_back({PhotoIndex(static_cast<std::size_t>(i)), CameraIndex(0), known});
  }
  std::vector<Eigen::Vector3d> true_points;
  for (int k = 0; k < 400; ++k) {
    const double x = random.uniform(-10, 50), y = random.uniform(-10, 10);
    const Eigen::Vector3d point(x, y, 0.1 * x + random.uniform(0, 2));
    std::vector<Observation> seen;
    for (std::uint32_t i = 0; i < 6; ++i) {
      const auto pixel = project(block.cameras[0], true_poses[i].to_camera(point));
      if (pixel && pixel->x() > 0 && pixel->x() < 1200 && pixel->y() > 0 && pixel->y() < 800)
        seen.push_back(
            {PosedIndex(i), FeatureIndex(), *pixel + Eigen::Vector2d(0.33 * random.normal(), 0.33 * random.normal())});
    }
    if (seen.size() < 2) continue;
    block.add_point(point + jitter(0.2), seen);
    true_points.push_back(point);
  }

  // Nothing is fixed but a measure: two bars of known length, laid out between the first points.
  AdjustOptions options;
  options.free_parameters = {};  // the camera is calibrated
  for (const auto& [first, second] : {std::pair{0u, 1u}, std::pair{2u, 3u}})
    options.scale_bars.push_back(
        {PointIndex(first), PointIndex(second), (true_points[first] - true_points[second]).norm(), 0.002});
  options.observation_sigma_px = 0.33;
  Monitor monitor;
  const AdjustResult result = adjust(block, options, Executor(), monitor);
  fmt::print("{}\n", result.summary.in_a_line());

  // How exact it is: standard deviations to first order, in the frame in which the projection centres are the most
  // exact.
  const Uncertainty exact = uncertainty(result.block, options, {}, Executor(), monitor);
  fmt::print("{}\n", exact.outcome);
  if (!result.summary.valid || !exact.valid) return 1;
  for (std::size_t i = 0; i < 6; ++i)
    fmt::print("photo {}: place known to {:.1f} mm, direction to {:.4f} degrees\n", i,
               1000 * std::sqrt(exact.poses[i].bottomRightCorner<3, 3>().trace()),
               std::sqrt(exact.poses[i].topLeftCorner<3, 3>().trace()) * 180 / std::numbers::pi);
  for (const ScaleBar& bar : options.scale_bars)
    fmt::print("bar {}-{}: {:.4f} m, {:.4f} m adjusted\n", bar.first, bar.second, bar.length,
               (result.block.points[bar.first] - result.block.points[bar.second]).norm());
  return 0;
}
