// The edges of a mesh one after the other, in little memory.
#pragma once
#include <algorithm>
#include <span>
#include <vector>

#include "icefield/surface/mesh.h"

namespace icefield {

// Calls visit(low, high, faces) for each edge, by its vertices in order, with the numbers of its faces in order. A part
// of the mesh's edges at a time is looked up. `expect`: is told how many edges there are, about. `most`: sides of faces
// at a time, unless one vertex has more.
template <class Visit, class Expect>
void visit_edges(const Mesh& mesh, const Visit& visit, const Expect& expect, std::size_t most = 16'000'000) {
  struct Side {
    std::uint32_t low, high, face;
  };
  // Sorted by the lower vertex with a count, then by the higher one within it.
  std::vector<std::uint32_t> upto(mesh.positions.size() + 1, 0);
  for (const Face& f : mesh.faces)
    for (std::size_t k = 0; k < 3; ++k) ++upto[std::min(f[k], f[(k + 1) % 3]) + 1];
  for (std::size_t v = 1; v < upto.size(); ++v) upto[v] += upto[v - 1];
  expect(mesh.faces.size() / 2 * 3 + mesh.faces.size() / 8);
  std::vector<Side> sides;
  std::vector<std::uint32_t> faces, next;
  for (std::size_t begin = 0, end = 0; begin < mesh.positions.size(); begin = end) {
    for (end = begin + 1; end < mesh.positions.size() && upto[end + 1] - upto[begin] <= most;) ++end;
    sides.resize(upto[end] - upto[begin]);
    next.assign(upto.begin() + static_cast<std::ptrdiff_t>(begin), upto.begin() + static_cast<std::ptrdiff_t>(end));
    for (std::uint32_t f = 0; f < mesh.faces.size(); ++f)
      for (std::size_t k = 0; k < 3; ++k) {
        const std::uint32_t a = mesh.faces[f][k], b = mesh.faces[f][(k + 1) % 3], low = std::min(a, b);
        if (low >= begin && low < end) sides[next[low - begin]++ - upto[begin]] = {low, std::max(a, b), f};
      }
    for (std::size_t v = begin; v < end; ++v)
      std::sort(sides.begin() + (upto[v] - upto[begin]), sides.begin() + (upto[v + 1] - upto[begin]),
                [](const Side& a, const Side& b) { return a.high != b.high ? a.high < b.high : a.face < b.face; });
    for (std::size_t i = 0; i < sides.size();) {
      faces.clear();
      const Side& first = sides[i];
      for (; i < sides.size() && sides[i].low == first.low && sides[i].high == first.high; ++i)
        faces.push_back(sides[i].face);
      visit(first.low, first.high, std::span<const std::uint32_t>(faces));
    }
  }
}

template <class Visit>
void visit_edges(const Mesh& mesh, const Visit& visit) {
  visit_edges(mesh, visit, [](std::size_t) {});
}

}  // namespace icefield
