#include "icefield/surface/grid_surface.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <vector>

#include "icefield/base/error.h"
#include "src/surface/cut_cube.h"

namespace icefield {
namespace {

using Eigen::Vector3d;
using Eigen::Vector3f;

constexpr std::uint32_t kNone = 0xffffffffu;

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
    cut_cube(
        inside, [&](int a, int b) { return vertex_on(i, j, k, a, b); },
        [&](std::uint32_t a, std::uint32_t b, std::uint32_t c) {
          mesh_.faces.push_back({a, b, c});
        });
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
    return slot;
  }

  const Grid& grid_;
  std::span<const float> values_;
  const std::function<double(const Vector3d&, const Vector3d&)>& share_;
  Mesh mesh_;
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
