#include "src/surface/crossing_faces.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <unordered_map>

#include "icefield/base/statistics.h"

namespace icefield {
namespace {

using Eigen::Vector3d;

// Six times the volume of a tetrahedron.
double volume6(const Vector3d& a, const Vector3d& b, const Vector3d& c, const Vector3d& d) {
  return (b - a).cross(c - a).dot(d - a);
}

bool edge_meets(const Vector3d& p, const Vector3d& q, const std::array<Vector3d, 3>& t) {
  const double from = volume6(t[0], t[1], t[2], p), to = volume6(t[0], t[1], t[2], q);
  if (!(from * to < 0)) return false;
  const double a = volume6(p, q, t[0], t[1]), b = volume6(p, q, t[1], t[2]), c = volume6(p, q, t[2], t[0]);
  return (a > 0 && b > 0 && c > 0) || (a < 0 && b < 0 && c < 0);
}

bool cross(const std::array<Vector3d, 3>& s, const std::array<Vector3d, 3>& t) {
  for (std::size_t k = 0; k < 3; ++k)
    if (edge_meets(s[k], s[(k + 1) % 3], t) || edge_meets(t[k], t[(k + 1) % 3], s)) return true;
  return false;
}

}  // namespace

std::size_t count_crossing_faces(const Mesh& mesh, const Executor& executor) {
  const std::size_t n = mesh.faces.size();
  if (n == 0) return 0;
  // Cells as large as the usual face; long faces stand in many.
  std::vector<double> sizes;
  for (std::size_t f = 0; f < n; f += std::max<std::size_t>(1, n / 5000)) {
    const Face& face = mesh.faces[f];
    Eigen::AlignedBox3f box;
    for (const std::uint32_t v : face) box.extend(mesh.positions[v]);
    sizes.push_back(box.sizes().maxCoeff());
  }
  Eigen::AlignedBox3f whole;
  for (const Eigen::Vector3f& p : mesh.positions)
    if (p.allFinite()) whole.extend(p);
  constexpr double kMostCells = 1 << 20;
  const double cell =
      std::max({1.5 * median(sizes), static_cast<double>(whole.sizes().maxCoeff()) / kMostCells, 1e-12});
  struct Entry {
    std::uint64_t cell;
    std::uint32_t face;
    bool operator<(const Entry& o) const { return cell != o.cell ? cell < o.cell : face < o.face; }
  };
  std::vector<Entry> entries;
  std::vector<std::uint32_t> large;  // faces that stand in too many cells: held against all others one by one
  const auto place = [&](float x, int c) {
    return static_cast<std::uint64_t>(std::max(0.0, std::floor((x - whole.min()[c]) / cell)));
  };
  for (std::uint32_t f = 0; f < n; ++f) {
    Eigen::AlignedBox3f box;
    bool finite = true;
    for (const std::uint32_t v : mesh.faces[f]) {
      finite &= mesh.positions[v].allFinite();
      box.extend(mesh.positions[v]);
    }
    if (!finite) continue;
    constexpr double kMostOfAFace = 4096;
    double covered = 1;
    for (int c = 0; c < 3; ++c) covered *= static_cast<double>(place(box.max()[c], c) - place(box.min()[c], c) + 1);
    if (covered > kMostOfAFace) {
      large.push_back(f);
      continue;
    }
    for (std::uint64_t z = place(box.min().z(), 2); z <= place(box.max().z(), 2); ++z)
      for (std::uint64_t y = place(box.min().y(), 1); y <= place(box.max().y(), 1); ++y)
        for (std::uint64_t x = place(box.min().x(), 0); x <= place(box.max().x(), 0); ++x)
          entries.push_back({x | y << 21 | z << 42, f});
  }
  std::sort(entries.begin(), entries.end());
  std::vector<std::size_t> starts;
  for (std::size_t i = 0; i < entries.size(); ++i)
    if (i == 0 || entries[i].cell != entries[i - 1].cell) starts.push_back(i);
  starts.push_back(entries.size());
  const auto corners = [&](std::uint32_t f) {
    std::array<Vector3d, 3> t;
    for (std::size_t k = 0; k < 3; ++k) t[k] = mesh.positions[mesh.faces[f][k]].cast<double>();
    return t;
  };
  const auto meet = [&](std::uint32_t a, std::uint32_t b) {
    for (const std::uint32_t v : mesh.faces[a])
      for (const std::uint32_t w : mesh.faces[b])
        if (v == w) return false;
    return cross(corners(a), corners(b));
  };
  constexpr std::size_t kGrain = 256;
  const std::size_t cells = starts.size() - 1;
  std::vector<std::vector<std::uint64_t>> found(block_count(cells, kGrain));
  executor.blocks(cells, kGrain, [&](std::size_t block, std::size_t begin, std::size_t end) {
    for (std::size_t c = begin; c < end; ++c)
      for (std::size_t i = starts[c]; i < starts[c + 1]; ++i)
        for (std::size_t k = i + 1; k < starts[c + 1]; ++k) {
          if (meet(entries[i].face, entries[k].face))
            found[block].push_back(std::uint64_t{entries[i].face} << 32 | entries[k].face);
        }
  });
  found.resize(found.size() + large.size());
  const std::size_t before = found.size() - large.size();
  executor.blocks(large.size(), 1, [&](std::size_t block, std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i)
      for (std::uint32_t f = 0; f < n; ++f)
        if (f != large[i] && meet(std::min(f, large[i]), std::max(f, large[i])))
          found[before + block].push_back(std::uint64_t{std::min(f, large[i])} << 32 | std::max(f, large[i]));
  });
  std::vector<std::uint64_t> all;
  for (const auto& part : found) all.insert(all.end(), part.begin(), part.end());
  std::sort(all.begin(), all.end());
  return static_cast<std::size_t>(std::unique(all.begin(), all.end()) - all.begin());
}

}  // namespace icefield
