#include "icefield/surface/split_edges.h"

#include <algorithm>

namespace icefield {

using Eigen::Vector3d;
using Eigen::Vector3f;

MeshSplit split_long_edges(const Mesh& mesh, const std::function<double(const Vector3d&)>& limit_at,
                           std::size_t most_faces) {
  check_arrays(mesh);
  MeshSplit split;
  std::vector<Vector3d> places(mesh.positions.size());
  std::vector<double> limits(mesh.positions.size());
  for (std::size_t v = 0; v < places.size(); ++v) places[v] = mesh.position(v), limits[v] = limit_at(places[v]);
  Mesh now;  // edges_of asks for faces and the number of vertices
  now.faces = mesh.faces;
  now.positions.resize(mesh.positions.size());
  std::vector<std::uint32_t> parents(mesh.faces.size());
  for (std::uint32_t f = 0; f < parents.size(); ++f) parents[f] = f;
  const auto too_long = [&](std::uint32_t a, std::uint32_t b) {
    return (places[a] - places[b]).norm() > std::min(limits[a], limits[b]);
  };
  while (now.faces.size() < most_faces) {
    const MeshEdges edges = edges_of(now);
    constexpr std::uint32_t kNone = 0xffffffffu;
    std::vector<std::array<std::uint32_t, 3>> middle_of(now.faces.size(), {kNone, kNone, kNone});
    const std::size_t before = split.middles.size();
    for (const MeshEdges::Edge& e : edges.edges) {
      if (!too_long(e.low, e.high)) continue;
      const auto v = static_cast<std::uint32_t>(places.size());
      split.middles.push_back({e.low, e.high});
      places.push_back(0.5 * (places[e.low] + places[e.high]));
      limits.push_back(limit_at(places.back()));
      for (std::uint32_t k = 0; k < e.count; ++k) {
        const std::uint32_t f = edges.faces[e.first + k];
        for (std::size_t side = 0; side < 3; ++side) {
          const std::uint32_t a = now.faces[f][side], b = now.faces[f][(side + 1) % 3];
          if (std::min(a, b) == e.low && std::max(a, b) == e.high) middle_of[f][side] = v;
        }
      }
    }
    if (split.middles.size() == before) break;
    std::vector<Face> faces;
    std::vector<std::uint32_t> of;
    const auto add = [&](std::uint32_t parent, std::uint32_t a, std::uint32_t b, std::uint32_t c) {
      faces.push_back({a, b, c});
      of.push_back(parent);
    };
    for (std::size_t f = 0; f < now.faces.size(); ++f) {
      // Turned so that the sides with middles come first.
      Face face = now.faces[f];
      std::array<std::uint32_t, 3> middle = middle_of[f];
      const auto count = std::count_if(middle.begin(), middle.end(), [](std::uint32_t v) { return v != kNone; });
      for (int turn = 0; turn < 3; ++turn) {
        const bool first = middle[0] != kNone, second = middle[1] != kNone;
        if (count == 0 || count == 3 || (count == 1 && first) || (count == 2 && first && second)) break;
        std::rotate(face.begin(), face.begin() + 1, face.end());
        std::rotate(middle.begin(), middle.begin() + 1, middle.end());
      }
      const std::uint32_t p = parents[f];
      const auto [a, b, c] = face;
      if (count == 0) {
        add(p, a, b, c);
      } else if (count == 1) {
        add(p, a, middle[0], c), add(p, middle[0], b, c);
      } else if (count == 2) {
        add(p, middle[0], b, middle[1]);
        // The rest has four corners: parted by the shorter way across.
        if ((places[middle[0]] - places[c]).norm() <= (places[a] - places[middle[1]]).norm())
          add(p, a, middle[0], c), add(p, middle[0], middle[1], c);
        else
          add(p, a, middle[0], middle[1]), add(p, a, middle[1], c);
      } else {
        add(p, a, middle[0], middle[2]), add(p, middle[0], b, middle[1]), add(p, middle[2], middle[1], c);
        add(p, middle[0], middle[1], middle[2]);
      }
    }
    now.faces = std::move(faces);
    parents = std::move(of);
    now.positions.resize(places.size());
  }
  if (split.middles.empty()) return split;
  split.faces = std::move(now.faces);
  split.parents = std::move(parents);
  return split;
}

Mesh apply_split(const Mesh& mesh, const MeshSplit& split) {
  Mesh parted = mesh;
  if (split.empty()) return parted;
  for (const auto& [a, b] : split.middles) {
    parted.positions.push_back(0.5f * (parted.positions[a] + parted.positions[b]));
    if (!parted.normals.empty()) {
      const Vector3f sum = parted.normals[a] + parted.normals[b];
      parted.normals.push_back(sum.norm() > 0 ? Vector3f(sum.normalized()) : parted.normals[a]);
    }
    if (!parted.colours.empty()) {
      std::array<std::uint8_t, 3> colour;
      for (std::size_t c = 0; c < 3; ++c)
        colour[c] = static_cast<std::uint8_t>((parted.colours[a][c] + parted.colours[b][c] + 1) / 2);
      parted.colours.push_back(colour);
    }
    if (!parted.support.empty()) parted.support.push_back(0.5f * (parted.support[a] + parted.support[b]));
    if (!parted.errors.empty()) parted.errors.push_back(std::max(parted.errors[a], parted.errors[b]));
  }
  parted.faces = split.faces;
  if (!mesh.kinds.empty()) {
    parted.kinds.clear();
    for (const std::uint32_t parent : split.parents) parted.kinds.push_back(mesh.kinds[parent]);
  }
  return parted;
}

}  // namespace icefield
