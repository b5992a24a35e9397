#include "src/surface/vertex_fans.h"

#include <algorithm>
#include <numeric>

namespace icefield {
namespace {

constexpr std::uint32_t kNone = 0xffffffffu;

template <class T>
void repeat_row(std::vector<T>& rows, std::uint32_t from) {
  if (!rows.empty()) rows.push_back(T(rows[from]));
}

}  // namespace

VertexFaces::VertexFaces(const Mesh& mesh) : first(mesh.positions.size() + 1, 0), faces(3 * mesh.faces.size()) {
  for (const Face& f : mesh.faces)
    for (const std::uint32_t v : f) ++first[v + 1];
  std::partial_sum(first.begin(), first.end(), first.begin());
  std::vector<std::uint32_t> next(first.begin(), first.end() - 1);
  for (std::uint32_t f = 0; f < mesh.faces.size(); ++f)
    for (const std::uint32_t v : mesh.faces[f]) faces[next[v]++] = f;
}

std::vector<std::uint32_t> fans_at(const Mesh& mesh, std::uint32_t v, std::span<const std::uint32_t> around,
                                   std::uint32_t& count) {
  struct Spoke {
    std::uint32_t other, face;
  };
  std::vector<Spoke> spokes;
  for (std::uint32_t i = 0; i < around.size(); ++i)
    for (const std::uint32_t w : mesh.faces[around[i]])
      if (w != v) spokes.push_back({w, i});
  std::sort(spokes.begin(), spokes.end(),
            [](const Spoke& a, const Spoke& b) { return a.other != b.other ? a.other < b.other : a.face < b.face; });
  std::vector<std::uint32_t> root(around.size());
  std::iota(root.begin(), root.end(), 0u);
  const auto find = [&](std::uint32_t i) {
    while (root[i] != i) i = root[i] = root[root[i]];
    return i;
  };
  for (std::size_t i = 0; i < spokes.size();) {
    std::size_t end = i;
    while (end < spokes.size() && spokes[end].other == spokes[i].other) ++end;
    if (end - i == 2) {
      const std::uint32_t a = find(spokes[i].face), b = find(spokes[i + 1].face);
      root[std::max(a, b)] = std::min(a, b);
    }
    i = end;
  }
  std::vector<std::uint32_t> fan(around.size()), number(around.size(), kNone);
  count = 0;
  for (std::uint32_t i = 0; i < around.size(); ++i) {
    const std::uint32_t r = find(i);
    if (number[r] == kNone) number[r] = count++;
    fan[i] = number[r];
  }
  return fan;
}

std::uint32_t repeat_vertex(Mesh& mesh, std::uint32_t v) {
  const auto made = static_cast<std::uint32_t>(mesh.positions.size());
  repeat_row(mesh.positions, v);
  repeat_row(mesh.normals, v);
  repeat_row(mesh.colours, v);
  repeat_row(mesh.support, v);
  repeat_row(mesh.errors, v);
  return made;
}

std::size_t part_fans(Mesh& mesh) {
  const VertexFaces around(mesh);
  const auto vertices = static_cast<std::uint32_t>(mesh.positions.size());
  // Fans are found in the mesh as it was.
  struct Part {
    std::uint32_t vertex, face, fan;
  };
  std::vector<Part> parts;
  for (std::uint32_t v = 0; v < vertices; ++v) {
    const auto of = around.of(v);
    std::uint32_t fans = 0;
    if (of.size() < 2) continue;
    const std::vector<std::uint32_t> fan = fans_at(mesh, v, of, fans);
    if (fans < 2) continue;
    for (std::uint32_t i = 0; i < of.size(); ++i)
      if (fan[i] > 0) parts.push_back({v, of[i], fan[i]});
  }
  std::sort(parts.begin(), parts.end(), [](const Part& a, const Part& b) {
    return a.vertex != b.vertex ? a.vertex < b.vertex : a.fan != b.fan ? a.fan < b.fan : a.face < b.face;
  });
  std::size_t made = 0;
  std::uint32_t now = kNone;
  for (std::size_t i = 0; i < parts.size(); ++i) {
    if (i == 0 || parts[i].vertex != parts[i - 1].vertex || parts[i].fan != parts[i - 1].fan)
      now = repeat_vertex(mesh, parts[i].vertex), ++made;
    for (std::uint32_t& v : mesh.faces[parts[i].face])
      if (v == parts[i].vertex) v = now;
  }
  return made;
}

}  // namespace icefield
