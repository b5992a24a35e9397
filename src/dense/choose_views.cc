#include <algorithm>
#include <cmath>
#include <map>
#include <numbers>

#include "icefield/dense/dense.h"

namespace icefield {

std::vector<std::vector<std::uint32_t>> choose_neighbours(const Block& block, const Bounds& bounds, const DenseOptions& options) {
  struct Shared {
    double score = 0;
    std::vector<float> angles;
  };
  std::vector<std::map<std::uint32_t, Shared>> shared(block.photos.size());
  for (std::size_t i = 0; i < block.points.size(); ++i) {
    if (!bounds.contains(block.points[i])) continue;
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

}  // namespace icefield
