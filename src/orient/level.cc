#include "src/orient/level.h"

#include <array>
#include <vector>

#include "icefield/base/statistics.h"
#include "icefield/block/bounds.h"
#include "src/geometry/decompositions.h"

namespace icefield {

// Up is where photos have no horizontal: the direction least covered by their x axes; its sign from their y axes, or,
// for photos that look down, from their line of sight.
void make_level(Block& block) {
  Eigen::Matrix3d spread = Eigen::Matrix3d::Zero();
  Eigen::Vector3d down = Eigen::Vector3d::Zero();
  for (const PosedPhoto& photo : block.photos) {
    const Eigen::Vector3d x = photo.pose.orientation.conjugate() * Eigen::Vector3d::UnitX();
    spread += x * x.transpose();
    down += photo.pose.orientation.conjugate() * (Eigen::Vector3d::UnitY() + Eigen::Vector3d::UnitZ());
  }
  const auto [values, axes] = spectrum(spread);
  Eigen::Vector3d up = axes.col(0);
  // Photos side by side with parallel x axes leave two directions open: then the mean of y and line of sight decides.
  if (values[1] < 0.1 * values[2]) {
    const Eigen::Vector3d x = axes.col(2);
    up = -(down - x * x.dot(down)).normalized();
  }
  if (up.dot(down) > 0) up = -up;

  Similarity turn;
  turn.rotation = turn_between(up, Eigen::Vector3d::UnitZ());
  transform(block, turn);

  // Origin and scale from the subject; a horizon behind it does not count.
  const Bounds subject = automatic_bounds(block);
  std::vector<double> distances;
  std::array<std::vector<double>, 3> coordinates;
  for (std::size_t i = 0; i < block.points.size(); ++i) {
    if (!subject.contains(block.points[i])) continue;
    for (int c = 0; c < 3; ++c) coordinates[static_cast<std::size_t>(c)].push_back(block.points[i][c]);
    for (const Observation& o : block.of_point(i))
      distances.push_back((block.points[i] - block.photos[o.photo].pose.centre).norm());
  }
  if (distances.empty()) return;
  Similarity fit;
  fit.scale = 1 / median(distances);
  fit.translation =
      -fit.scale * Eigen::Vector3d(median(coordinates[0]), median(coordinates[1]), median(coordinates[2]));
  transform(block, fit);
}

}  // namespace icefield
