#include "src/surface/triangulate_rings.h"

#include <algorithm>
#include <limits>
#include <numeric>

namespace icefield {
namespace {

using Eigen::Vector2d;
using Ring = std::vector<std::uint32_t>;

double turn(const Vector2d& a, const Vector2d& b, const Vector2d& c) {
  return (b.x() - a.x()) * (c.y() - a.y()) - (b.y() - a.y()) * (c.x() - a.x());
}

class RingTriangles {
 public:
  explicit RingTriangles(const std::vector<Vector2d>& places) : places_(places) {}

  double area(const Ring& ring) const {
    double sum = 0;
    for (std::size_t i = 0; i < ring.size(); ++i) {
      const Vector2d &a = at(ring[i]), &b = at(ring[(i + 1) % ring.size()]);
      sum += a.x() * b.y() - a.y() * b.x();
    }
    return 0.5 * sum;
  }
  bool contains(const Ring& ring, const Vector2d& p) const {
    bool inside = false;
    for (std::size_t i = 0; i < ring.size(); ++i) {
      const Vector2d &a = at(ring[i]), &b = at(ring[(i + 1) % ring.size()]);
      if ((a.y() > p.y()) != (b.y() > p.y()) && p.x() < a.x() + (p.y() - a.y()) / (b.y() - a.y()) * (b.x() - a.x()))
        inside = !inside;
    }
    return inside;
  }

  // The hole becomes a part of the ring, by a bridge there and back.
  void bridge(Ring& ring, const Ring& hole) const {
    // From its corner farthest to the right, straight to the right until the ring is met.
    const auto start = static_cast<std::size_t>(
        std::max_element(hole.begin(), hole.end(),
                         [&](std::uint32_t a, std::uint32_t b) { return at(a).x() < at(b).x(); }) -
        hole.begin());
    const Vector2d m = at(hole[start]);
    double nearest = std::numeric_limits<double>::infinity();
    std::size_t to = 0;
    for (std::size_t i = 0; i < ring.size(); ++i) {
      const Vector2d &a = at(ring[i]), &b = at(ring[(i + 1) % ring.size()]);
      // A side that goes upwards, as those to the right of the inside do.
      if (!(a.y() <= m.y() && b.y() >= m.y()) || a.y() == b.y()) continue;
      const double x = a.x() + (m.y() - a.y()) / (b.y() - a.y()) * (b.x() - a.x());
      if (x < m.x() || !(x < nearest)) continue;
      nearest = x;
      to = a.x() > b.x() ? i : (i + 1) % ring.size();
    }
    if (nearest < std::numeric_limits<double>::infinity()) {
      // What stands between is nearer: of the corners in the triangle that which is least off the straight way.
      const Vector2d end(nearest, m.y()), corner = at(ring[to]);
      double least = std::numeric_limits<double>::infinity();
      std::size_t best = to;
      for (std::size_t i = 0; i < ring.size(); ++i) {
        const Vector2d p = at(ring[i]);
        if (p == corner || !(p.x() > m.x())) continue;
        const double s = turn(m, end, corner);
        const bool within = s >= 0 ? turn(m, end, p) >= 0 && turn(end, corner, p) >= 0 && turn(corner, m, p) >= 0
                                   : turn(m, end, p) <= 0 && turn(end, corner, p) <= 0 && turn(corner, m, p) <= 0;
        if (!within) continue;
        const double off = std::abs(p.y() - m.y()) / (p.x() - m.x());
        if (off < least) least = off, best = i;
      }
      to = best;
    }
    Ring joined(ring.begin(), ring.begin() + static_cast<std::ptrdiff_t>(to) + 1);
    for (std::size_t k = 0; k <= hole.size(); ++k) joined.push_back(hole[(start + k) % hole.size()]);
    joined.insert(joined.end(), ring.begin() + static_cast<std::ptrdiff_t>(to), ring.end());
    ring = std::move(joined);
  }

  void clip(const Ring& ring, std::vector<std::array<std::uint32_t, 3>>& triangles) const {
    const std::size_t n = ring.size();
    if (n < 3) return;
    std::vector<std::size_t> before(n), behind(n);
    for (std::size_t i = 0; i < n; ++i) before[i] = (i + n - 1) % n, behind[i] = (i + 1) % n;
    const auto corner = [&](std::size_t i) { return turn(at(ring[before[i]]), at(ring[i]), at(ring[behind[i]])); };
    // Corners that are flat but for rounding are no ears as long as there are others, and what lies on the rim of an
    // ear but for rounding is in its way.
    Vector2d low = at(ring[0]), high = low;
    for (const std::uint32_t v : ring) low = low.cwiseMin(at(v)), high = high.cwiseMax(at(v));
    const double rounding = 4e-7 * (high - low).norm();
    double slack = rounding;
    const auto off = [](const Vector2d& p, const Vector2d& q, const Vector2d& r) {
      const double length = (q - p).norm();
      return length > 0 ? turn(p, q, r) / length : 0.0;
    };
    std::vector<std::uint8_t> hollow(n);
    const auto is_hollow = [&](std::size_t i) {
      return off(at(ring[before[i]]), at(ring[behind[i]]), at(ring[i])) >= -rounding;
    };
    for (std::size_t i = 0; i < n; ++i) hollow[i] = is_hollow(i);
    const auto is_ear = [&](std::size_t i) {
      const Vector2d &a = at(ring[before[i]]), &b = at(ring[i]), &c = at(ring[behind[i]]);
      if (!(corner(i) > 0) || -off(a, c, b) <= slack) return false;
      for (std::size_t j = behind[behind[i]]; j != before[i]; j = behind[j]) {
        if (!hollow[j]) continue;
        const Vector2d& p = at(ring[j]);
        if (p == a || p == b || p == c) continue;  // the other side of a bridge
        if (off(a, b, p) >= -slack && off(b, c, p) >= -slack && off(c, a, p) >= -slack) return false;
      }
      return true;
    };
    std::size_t left = n, at_corner = 0, tried = 0;
    while (left > 3) {
      std::size_t ear = at_corner;
      if (tried > left && slack > 0) {
        slack = 0, tried = 0;
        continue;
      }
      if (tried > left) {
        // Rounding has closed all ways: the flattest corner goes.
        double least = std::numeric_limits<double>::infinity();
        std::size_t k = at_corner;
        for (std::size_t step = 0; step < left; ++step, k = behind[k])
          if (const double size = std::abs(corner(k)); size < least) least = size, ear = k;
      } else if (!is_ear(at_corner)) {
        at_corner = behind[at_corner];
        ++tried;
        continue;
      }
      triangles.push_back({ring[before[ear]], ring[ear], ring[behind[ear]]});
      behind[before[ear]] = behind[ear], before[behind[ear]] = before[ear];
      for (const std::size_t k : {before[ear], behind[ear]}) hollow[k] = is_hollow(k);
      // Not the same corner again and again: fans of needles.
      at_corner = behind[behind[ear]];
      --left;
      tried = 0, slack = rounding;
    }
    triangles.push_back({ring[before[at_corner]], ring[at_corner], ring[behind[at_corner]]});
  }

  const Vector2d& at(std::uint32_t i) const { return places_[i]; }

 private:
  const std::vector<Vector2d>& places_;
};

}  // namespace

std::vector<std::array<std::uint32_t, 3>> triangulate_rings(const std::vector<Vector2d>& places,
                                                            const std::vector<Ring>& rings, std::size_t& left_out) {
  const RingTriangles work(places);
  left_out = 0;
  std::vector<std::size_t> outer, holes;
  std::vector<double> areas;
  for (std::size_t r = 0; r < rings.size(); ++r) {
    areas.push_back(work.area(rings[r]));
    (areas[r] > 0 ? outer : holes).push_back(r);
  }
  // Each hole belongs to the smallest ring around it.
  std::vector<std::vector<std::size_t>> of(rings.size());
  for (const std::size_t h : holes) {
    std::size_t best = rings.size();
    for (const std::size_t o : outer)
      if ((best == rings.size() || areas[o] < areas[best]) && work.contains(rings[o], work.at(rings[h][0]))) best = o;
    if (best < rings.size())
      of[best].push_back(h);
    else
      ++left_out;
  }
  std::vector<std::array<std::uint32_t, 3>> triangles;
  const auto rightmost = [&](std::size_t r) {
    double most = -std::numeric_limits<double>::infinity();
    for (const std::uint32_t i : rings[r]) most = std::max(most, places[i].x());
    return most;
  };
  for (const std::size_t o : outer) {
    Ring ring = rings[o];
    // The farthest to the right first, so that bridges do not cross.
    std::stable_sort(of[o].begin(), of[o].end(),
                     [&](std::size_t a, std::size_t b) { return rightmost(a) > rightmost(b); });
    for (const std::size_t h : of[o]) work.bridge(ring, rings[h]);
    work.clip(ring, triangles);
  }
  return triangles;
}

}  // namespace icefield
