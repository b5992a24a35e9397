#include "icefield/surface/grid_surface.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <vector>

#include "icefield/base/error.h"

namespace icefield {
namespace {

using Eigen::Vector3d;
using Eigen::Vector3f;

constexpr std::uint32_t kNone = 0xffffffffu;

// Corners of a cube are numbered x + 2 y + 4 z. The six ways from the first to the last along its edges.
constexpr int kTetrahedra[6][4] = {{0, 1, 3, 7}, {0, 3, 2, 7}, {0, 2, 6, 7}, {0, 6, 4, 7}, {0, 4, 5, 7}, {0, 5, 1, 7}};

class GridSurface {
 public:
  GridSurface(const Grid& grid, std::span<const float> values,
              const std::function<double(const Vector3d&, const Vector3d&)>& share)
      : grid_(grid), values_(values), share_(share) {
    mesh_.origin = grid.low;
  }

  Mesh run() {
    const std::size_t slab = 7 * static_cast<std::size_t>(grid_.nodes[0]) * static_cast<std::size_t>(grid_.nodes[1]);
    // Vertices on the edges that start at the nodes of a layer and of the next one.
    lower_.assign(slab, kNone), upper_.assign(slab, kNone);
    for (int k = 0; k + 1 < grid_.nodes[2]; ++k) {
      for (int j = 0; j + 1 < grid_.nodes[1]; ++j)
        for (int i = 0; i + 1 < grid_.nodes[0]; ++i) cube(i, j, k);
      lower_.swap(upper_);
      std::fill(upper_.begin(), upper_.end(), kNone);
    }
    return std::move(mesh_);
  }

 private:
  float value(int i, int j, int k) const { return values_[grid_.index(i, j, k)]; }

  void cube(int i, int j, int k) {
    unsigned inside = 0;
    for (int c = 0; c < 8; ++c) inside |= (value(i + (c & 1), j + (c >> 1 & 1), k + (c >> 2)) > 0 ? 1u : 0u) << c;
    if (inside == 0 || inside == 255) return;
    for (const auto& corners : kTetrahedra) tetrahedron(i, j, k, corners, inside);
  }

  void tetrahedron(int i, int j, int k, const int (&corners)[4], unsigned inside) {
    int in[4], out[4], ins = 0, outs = 0;
    for (const int c : corners) (inside >> c & 1 ? in[ins++] : out[outs++]) = c;
    if (ins == 0 || outs == 0) return;
    const auto vertex = [&](int a, int b) { return vertex_on(i, j, k, a, b); };
    if (ins == 1)
      face(vertex(in[0], out[0]), vertex(in[0], out[1]), vertex(in[0], out[2]), in, ins, out, outs);
    else if (outs == 1)
      face(vertex(in[0], out[0]), vertex(in[1], out[0]), vertex(in[2], out[0]), in, ins, out, outs);
    else {
      const std::uint32_t p = vertex(in[0], out[0]), q = vertex(in[0], out[1]), r = vertex(in[1], out[1]),
                          s = vertex(in[1], out[0]);
      face(p, q, r, in, ins, out, outs);
      face(p, r, s, in, ins, out, outs);
    }
  }

  // Outwards is where the corners outside are; by whole numbers, so that slivers are turned right too.
  void face(std::uint32_t a, std::uint32_t b, std::uint32_t c, const int* in, int ins, const int* out, int outs) {
    const auto middle = [](const int* corners, int count) {
      Vector3d sum = Vector3d::Zero();
      for (int n = 0; n < count; ++n) sum += Vector3d(corners[n] & 1, corners[n] >> 1 & 1, corners[n] >> 2);
      return Vector3d(sum / count);
    };
    const Vector3d way = middle(out, outs) - middle(in, ins);
    const Vector3d across = (halfway_[b] - halfway_[a]).cross(halfway_[c] - halfway_[a]);
    if (across.dot(way) < 0) std::swap(b, c);
    mesh_.faces.push_back({a, b, c});
  }

  std::uint32_t vertex_on(int i, int j, int k, int a, int b) {
    const int low = std::min(a, b), high = std::max(a, b);
    // One of the two lies under the other in all directions: the edge belongs to it.
    const int way = high - low;
    const int x = i + (low & 1), y = j + (low >> 1 & 1), z = low >> 2;
    std::vector<std::uint32_t>& layer = z ? upper_ : lower_;
    std::uint32_t& slot =
        layer[(static_cast<std::size_t>(y) * static_cast<std::size_t>(grid_.nodes[0]) + static_cast<std::size_t>(x)) *
                  7 +
              static_cast<std::size_t>(way - 1)];
    if (slot != kNone) return slot;
    const auto place = [&](int c) { return grid_.place(i + (c & 1), j + (c >> 1 & 1), k + (c >> 2)); };
    const auto at = [&](int c) { return value(i + (c & 1), j + (c >> 1 & 1), k + (c >> 2)); };
    const bool low_inside = at(low) > 0;
    const int inner = low_inside ? low : high, outer = low_inside ? high : low;
    const Vector3d inside = place(inner), outside = place(outer);
    constexpr double kLeast = 1e-3;  // away from the ends, so that no face is without area
    const double t = std::clamp(
        share_ ? share_(inside, outside)
               : static_cast<double>(at(inner)) / (static_cast<double>(at(inner)) - static_cast<double>(at(outer))),
        kLeast, 1 - kLeast);
    slot = static_cast<std::uint32_t>(mesh_.positions.size());
    mesh_.positions.push_back((inside + t * (outside - inside) - mesh_.origin).cast<float>());
    halfway_.push_back(0.5 * (inside + outside) / grid_.step);
    return slot;
  }

  const Grid& grid_;
  std::span<const float> values_;
  const std::function<double(const Vector3d&, const Vector3d&)>& share_;
  Mesh mesh_;
  std::vector<Vector3d> halfway_;  // by vertex: the middle of its edge, in steps
  std::vector<std::uint32_t> lower_, upper_;
};

}  // namespace

Mesh grid_surface(const Grid& grid, std::span<const float> values,
                  const std::function<double(const Vector3d&, const Vector3d&)>& share) {
  if (grid.nodes[0] < 2 || grid.nodes[1] < 2 || grid.nodes[2] < 2 || values.size() != grid.size() || !(grid.step > 0))
    throw Error(ErrorKind::usage, "grid", "has no step, fewer than two nodes along a side, or not one value for each",
                "give a step above 0, and as many values as there are nodes");
  return GridSurface(grid, values, share).run();
}

}  // namespace icefield
