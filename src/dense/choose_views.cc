#include <algorithm>
#include <cmath>
#include <map>
#include <numbers>
#include <numeric>

#include "icefield/base/statistics.h"
#include "icefield/dense/dense.h"

namespace icefield {

namespace {

// What two photos have in common within the bounds.
struct Shared {
  double score = 0;           // of the second as a neighbour of the first
  std::vector<float> angles;  // at the common tie points, degrees
  std::vector<float> scales;  // size of a pixel there in the first photo, against the second's
};

// By photo, what it shares with others; `own`: its tie points within the bounds.
std::vector<std::map<std::uint32_t, Shared>> shared_points(const Block& block, const Bounds& bounds,
                                                           std::vector<std::size_t>* own = nullptr) {
  std::vector<std::map<std::uint32_t, Shared>> shared(block.photos.size());
  if (own) own->assign(block.photos.size(), 0);
  for (std::size_t i = 0; i < block.points.size(); ++i) {
    if (!bounds.contains(block.points[i])) continue;
    const auto seen = block.of_point(i);
    for (const Observation& a : seen) {
      if (own) ++(*own)[a.photo];
      for (const Observation& b : seen) {
        if (a.photo == b.photo) continue;
        const Eigen::Vector3d to_a = block.photos[a.photo].pose.centre - block.points[i],
                              to_b = block.photos[b.photo].pose.centre - block.points[i];
        const double angle = std::atan2(to_a.cross(to_b).norm(), to_a.dot(to_b)) * 180 / std::numbers::pi;
        // Depth improves with the angle, likeness falls: a bell around 12 degrees, wider on the far side.
        const double off = (angle - 12) / (angle < 12 ? 6 : 14);
        const double size_a = to_a.norm() / block.camera_of(block.photos[a.photo]).focal(),
                     size_b = to_b.norm() / block.camera_of(block.photos[b.photo]).focal();
        const double scale = std::min(size_a / size_b, 1.0);  // a neighbour that sees coarser helps less
        Shared& s = shared[a.photo][b.photo];
        s.score += std::exp(-0.5 * off * off) * scale;
        s.angles.push_back(static_cast<float>(angle));
        s.scales.push_back(static_cast<float>(size_a / size_b));
      }
    }
  }
  return shared;
}

}  // namespace

std::vector<std::vector<std::uint32_t>> choose_neighbours(const Block& block, const Bounds& bounds,
                                                          const DenseOptions& options,
                                                          std::span<const double> sharpness) {
  auto shared = shared_points(block, bounds);
  // How much a blurred neighbour still helps: its edges against the photo's own.
  const auto help = [&](std::size_t photo, std::uint32_t other) {
    return sharpness.empty() || !(sharpness[photo] > 0) || !(sharpness[other] > 0)
               ? 1.0
               : std::clamp(sharpness[other] / sharpness[photo], 0.2, 1.0);
  };
  std::vector<std::vector<std::uint32_t>> neighbours(block.photos.size());
  for (std::size_t i = 0; i < block.photos.size(); ++i) {
    std::vector<std::pair<double, std::uint32_t>> ranked;
    for (auto& [other, s] : shared[i]) {
      if (static_cast<int>(s.angles.size()) < options.min_shared_points) continue;
      const double angle = median(s.angles);
      if (angle < options.min_angle_deg || angle > options.max_angle_deg) continue;
      ranked.emplace_back(-s.score * help(i, other), other);
    }
    std::sort(ranked.begin(), ranked.end());
    for (std::size_t k = 0; k < std::min<std::size_t>(ranked.size(), options.max_neighbours); ++k)
      neighbours[i].push_back(ranked[k].second);
  }
  return neighbours;
}

std::vector<std::uint8_t> repeated_photos(const Block& block, const Bounds& bounds, std::span<const double> sharpness) {
  constexpr double kSameAngleDeg = 1.5, kSameScale = 1.15, kSameShare = 0.6;
  std::vector<std::size_t> own;
  auto shared = shared_points(block, bounds, &own);
  std::vector<std::uint32_t> order(block.photos.size());
  std::iota(order.begin(), order.end(), 0u);
  if (!sharpness.empty())
    std::stable_sort(order.begin(), order.end(),
                     [&](std::uint32_t a, std::uint32_t b) { return sharpness[a] > sharpness[b]; });
  std::vector<std::uint8_t> repeated(block.photos.size(), 0), kept(block.photos.size(), 0);
  for (const std::uint32_t i : order) {
    for (auto& [other, s] : shared[i]) {
      if (!kept[other] || static_cast<double>(s.angles.size()) < kSameShare * static_cast<double>(own[i]) ||
          median(s.angles) > kSameAngleDeg)
        continue;
      const double scale = median(s.scales);
      if (scale < 1 / kSameScale || scale > kSameScale) continue;
      repeated[i] = 1;
      break;
    }
    kept[i] = !repeated[i];
  }
  return repeated;
}

}  // namespace icefield
