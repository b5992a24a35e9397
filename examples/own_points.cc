// Your own points and poses into an adjustment: here a made-up strip of six photos over a slope, with poses known to a
// decimetre and pixel measurements to a third of a pixel.
#include <fmt/format.h>

#include "icefield/adjust/adjust.h"
#include "icefield/base/random.h"

using namespace icefield;

int main() {
  CounterRandom random(1);
  const auto jitter = [&](double size) { return Eigen::Vector3d(size * random.normal(), size * random.normal(), size * random.normal()); };

  // A block is plain arrays: cameras, photos with poses, points, and for each point the pixels where photos see it.
  Block block;
  block.cameras.push_back(make_camera(CameraModel::radial, 1200, 800, 1000));
  std::vector<Pose> true_poses;
  for (int i = 0; i < 6; ++i) {
    const Eigen::Vector3d centre(8.0 * i, 0.5 * (i % 2), 30);
    true_poses.push_back(look_at(centre, centre + Eigen::Vector3d(1.0 - 0.4 * i, 0.5 * i - 1, -30), Eigen::Vector3d::UnitY()));
    Pose known = true_poses.back();
    known.centre += jitter(0.1);
    block.photos.push_back({PhotoIndex(static_cast<std::size_t>(i)), CameraIndex(0), known});
  }
  for (int k = 0; k < 400; ++k) {
    const double x = random.uniform(-10, 50), y = random.uniform(-10, 10);
    const Eigen::Vector3d point(x, y, 0.1 * x + random.uniform(0, 2));
    std::vector<Observation> seen;
    for (std::uint32_t i = 0; i < 6; ++i) {
      const auto pixel = project(block.cameras[0], true_poses[i].to_camera(point));
      if (pixel && pixel->x() > 0 && pixel->x() < 1200 && pixel->y() > 0 && pixel->y() < 800)
        seen.push_back({i, FeatureIndex(), *pixel + Eigen::Vector2d(0.33 * random.normal(), 0.33 * random.normal())});
    }
    if (seen.size() >= 2) block.add_point(point + jitter(0.2), seen);
  }

  AdjustOptions options;
  options.free_parameters = {};      // the camera is calibrated
  options.fixed_photos = {0, 5};     // two poses hold the frame and the scale
  Monitor monitor;
  const AdjustResult result = adjust(block, options, Executor(), monitor);
  fmt::print("{}\n", result.summary.brief());
  for (std::size_t i = 1; i < 5; ++i)
    fmt::print("photo {}: centre moved by {:.3f} m\n", i, (result.block.photos[i].pose.centre - block.photos[i].pose.centre).norm());
  return result.summary.usable ? 0 : 1;
}
