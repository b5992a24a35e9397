#include <algorithm>
#include <cmath>
#include <map>
#include <numbers>

#include "icefield/dense/dense.h"

namespace icefield {

std::vector<std::vector<std::uint32_t>> choose_neighbours(const Block& block, const DenseOptions& options) {
  struct Shared {
    double score = 0;
    std::vector<float> angles;
  };
  std::vector<std::map<std::uint32_t, Shared>> shared(block.photos.size());
  for (std::size_t i = 0; i < block.points.size(); ++i) {
    const auto seen = block.of_point(i);
    for (const Observation& a : seen)
      for (const Observation& b : seen) {
        if (a.photo == b.photo) continue;
        const Eigen::Vector3d to_a = block.photos[a.photo].pose.centre - block.points[i], to_b = block.photos[b.photo].pose.centre - block.points[i];
        const double angle = std::atan2(to_a.cross(to_b).norm(), to_a.dot(to_b)) * 180 / std::numbers::pi;
        // Depth improves with the angle, likeness falls: a bell around 12 degrees, wider on the far side.
        const double off = (angle - 12) / (angle < 12 ? 6 : 14);
        const double size_a = to_a.norm() / block.camera_of(block.photos[a.photo]).focal(), size_b = to_b.norm() / block.camera_of(block.photos[b.photo]).focal();
        const double scale = std::min(size_a / size_b, 1.0);  // a neighbour that sees coarser helps less
        Shared& s = shared[a.photo][b.photo];
        s.score += std::exp(-0.5 * off * off) * scale;
        s.angles.push_back(static_cast<float>(angle));
      }
  }
  std::vector<std::vector<std::uint32_t>> neighbours(block.photos.size());
  for (std::size_t i = 0; i < block.photos.size(); ++i) {
    std::vector<std::pair<double, std::uint32_t>> ranked;
    for (auto& [other, s] : shared[i]) {
      if (static_cast<int>(s.angles.size()) < options.min_shared_points) continue;
      std::nth_element(s.angles.begin(), s.angles.begin() + s.angles.size() / 2, s.angles.end());
      const double angle = s.angles[s.angles.size() / 2];
      if (angle < options.min_angle_deg || angle > options.max_angle_deg) continue;
      ranked.emplace_back(-s.score, other);
    }
    std::sort(ranked.begin(), ranked.end());
    for (std::size_t k = 0; k < std::min<std::size_t>(ranked.size(), options.max_neighbours); ++k) neighbours[i].push_back(ranked[k].second);
  }
  return neighbours;
}

Bounds automatic_bounds(const Block& block) {
  // Points weigh by the share of photos that see their surroundings: a subject is seen by many, a horizon by few.
  struct Weighted {
    double value, weight;
  };
  std::vector<double> weights(block.points.size());
  Eigen::Vector3d low, high;
  // Length of tracks alone would favour texture; the number of photos whose field of view holds the point does not.
  for (std::size_t i = 0; i < block.points.size(); ++i) {
    std::size_t in_view = 0;
    double nearest = 1e300;
    for (const PosedPhoto& photo : block.photos) {
      const Eigen::Vector3d p = photo.pose.to_camera(block.points[i]);
      const Camera& camera = block.camera_of(photo);
      const auto pixel = project(camera, p);
      if (pixel && pixel->x() >= 0 && pixel->y() >= 0 && pixel->x() < camera.width && pixel->y() < camera.height) ++in_view;
    }
    for (const Observation& o : block.of_point(i)) nearest = std::min(nearest, block.photos[o.photo].pose.to_camera(block.points[i]).z());
    weights[i] = static_cast<double>(in_view) / std::max(nearest, 1e-9);
  }
  std::vector<double> sorted = weights;
  std::nth_element(sorted.begin(), sorted.begin() + sorted.size() / 2, sorted.end());
  const double least = 0.35 * sorted[sorted.size() / 2];
  for (int c = 0; c < 3; ++c) {
    std::vector<Weighted> values;
    double total = 0;
    for (std::size_t i = 0; i < block.points.size(); ++i)
      if (weights[i] >= least) values.push_back({block.points[i][c], weights[i]}), total += weights[i];
    std::sort(values.begin(), values.end(), [](const Weighted& a, const Weighted& b) { return a.value < b.value; });
    double sum = 0;
    low[c] = values.front().value;
    high[c] = values.back().value;
    for (const Weighted& v : values) {
      if (sum < 0.01 * total) low[c] = v.value;
      if (sum < 0.99 * total) high[c] = v.value;
      sum += v.weight;
    }
  }
  Bounds bounds;
  bounds.centre = 0.5 * (low + high);
  bounds.half_size = 0.5 * (high - low) * 1.25;
  // Upright things end in few points: more room upwards and downwards.
  bounds.half_size.z() += 0.04 * bounds.half_size.norm();
  return bounds;
}

}  // namespace icefield
