// A cube of a grid cut where its corners change from inside to outside.
#pragma once
#include <Eigen/Geometry>
#include <array>
#include <cstdint>
#include <utility>

namespace icefield {

// Corners are numbered x + 2 y + 4 z. The six ways from the first to the last along edges, a tetrahedron each.
inline constexpr int kCubeTetrahedra[6][4] = {{0, 1, 3, 7}, {0, 3, 2, 7}, {0, 2, 6, 7},
                                              {0, 6, 4, 7}, {0, 4, 5, 7}, {0, 5, 1, 7}};

// `inside`: a bit for each corner. `vertex(inner, outer)`: the number of the vertex between two corners; `take(a, b,
// c)` for each face, outwards.
template <class Vertex, class Take>
void cut_cube(unsigned inside, const Vertex& vertex, const Take& take) {
  if (inside == 0 || inside == 255) return;
  using Place = Eigen::Vector3i;
  const auto corner = [](int c) { return Place(c & 1, c >> 1 & 1, c >> 2); };
  for (const auto& corners : kCubeTetrahedra) {
    int in[4], out[4], ins = 0, outs = 0;
    for (const int c : corners) (inside >> c & 1 ? in[ins++] : out[outs++]) = c;
    if (ins == 0 || outs == 0) continue;
    // From the corners inside to those outside, times both numbers: by whole numbers, so that slivers are turned right.
    Place way = Place::Zero();
    for (int n = 0; n < outs; ++n) way += ins * corner(out[n]);
    for (int n = 0; n < ins; ++n) way -= outs * corner(in[n]);
    using Edge = std::pair<int, int>;
    const auto face = [&](const Edge& p, const Edge& q, const Edge& r) {
      const auto twice = [&](const Edge& e) { return Place(corner(e.first) + corner(e.second)); };
      const Place across = (twice(q) - twice(p)).cross(twice(r) - twice(p));
      const std::uint32_t a = vertex(p.first, p.second), b = vertex(q.first, q.second), c = vertex(r.first, r.second);
      across.dot(way) < 0 ? take(a, c, b) : take(a, b, c);
    };
    if (ins == 1) {
      face({in[0], out[0]}, {in[0], out[1]}, {in[0], out[2]});
    } else if (outs == 1) {
      face({in[0], out[0]}, {in[1], out[0]}, {in[2], out[0]});
    } else {
      face({in[0], out[0]}, {in[0], out[1]}, {in[1], out[1]});
      face({in[0], out[0]}, {in[1], out[1]}, {in[1], out[0]});
    }
  }
}

}  // namespace icefield
