#include "src/terrain/simplify_line.h"

#include <algorithm>
#include <cstdint>
#include <utility>

namespace icefield {

using Eigen::Vector2d;

namespace {

double distance_to_segment(const Vector2d& p, const Vector2d& a, const Vector2d& b) {
  const Vector2d along = b - a;
  const double length2 = along.squaredNorm();
  const double t = length2 > 0 ? std::clamp((p - a).dot(along) / length2, 0.0, 1.0) : 0;
  return (a + t * along - p).norm();
}

void mark_kept(const std::vector<Vector2d>& places, std::size_t first, std::size_t last, double tolerance,
               std::vector<std::uint8_t>& keep) {
  std::vector<std::pair<std::size_t, std::size_t>> open{{first, last}};
  while (!open.empty()) {
    const auto [a, b] = open.back();
    open.pop_back();
    double most = tolerance;
    std::size_t farthest = a;
    for (std::size_t i = a + 1; i < b; ++i)
      if (const double d = distance_to_segment(places[i], places[a], places[b]); d > most) most = d, farthest = i;
    if (farthest == a) continue;
    keep[farthest] = 1;
    open.emplace_back(a, farthest), open.emplace_back(farthest, b);
  }
}

}  // namespace

std::vector<Vector2d> simplify_line(const std::vector<Vector2d>& places, bool closed, double tolerance) {
  const std::size_t n = places.size();
  if (n < 4) return places;
  std::vector<std::uint8_t> keep(n, 0);
  keep[0] = keep[n - 1] = 1;
  std::size_t middle = 0;
  if (closed) {  // by two places that lie far apart
    double most = -1;
    for (std::size_t i = 1; i < n; ++i)
      if (const double d = (places[i] - places[0]).norm(); d > most) most = d, middle = i;
    keep[n - 1] = 0, keep[middle] = 1;
    std::vector<Vector2d> ring = places;
    ring.push_back(ring[0]);
    std::vector<std::uint8_t> kept(n + 1, 0);
    mark_kept(ring, 0, middle, tolerance, kept);
    mark_kept(ring, middle, n, tolerance, kept);
    for (std::size_t i = 1; i < n; ++i) keep[i] |= kept[i];
  } else {
    mark_kept(places, 0, n - 1, tolerance, keep);
  }
  std::vector<Vector2d> result;
  for (std::size_t i = 0; i < n; ++i)
    if (keep[i]) result.push_back(places[i]);
  return closed && result.size() < 3 ? places : result;
}

}  // namespace icefield
