#include "src/surface/part_by_field.h"

#include <algorithm>
#include <cmath>
#include <unordered_map>

namespace icefield {

using Eigen::Vector3f;

std::uint32_t add_between(Mesh& mesh, std::uint32_t a, std::uint32_t b, double share_of_b) {
  const auto share = static_cast<float>(share_of_b);
  const auto mixed = [&](const Vector3f& p, const Vector3f& q) { return Vector3f((1 - share) * p + share * q); };
  const auto index = static_cast<std::uint32_t>(mesh.positions.size());
  mesh.positions.push_back(mixed(mesh.positions[a], mesh.positions[b]));
  if (!mesh.normals.empty()) {
    const Vector3f n = mixed(mesh.normals[a], mesh.normals[b]);
    mesh.normals.push_back(n.norm() > 0 ? Vector3f(n.normalized()) : mesh.normals[a]);
  }
  if (!mesh.colours.empty()) {
    std::array<std::uint8_t, 3> colour;
    for (std::size_t c = 0; c < 3; ++c)
      colour[c] = static_cast<std::uint8_t>(
          std::lround((1 - share_of_b) * mesh.colours[a][c] + share_of_b * mesh.colours[b][c]));
    mesh.colours.push_back(colour);
  }
  if (!mesh.support.empty()) mesh.support.push_back((1 - share) * mesh.support[a] + share * mesh.support[b]);
  if (!mesh.errors.empty()) mesh.errors.push_back((1 - share) * mesh.errors[a] + share * mesh.errors[b]);
  return index;
}

FieldParts part_by_field(Mesh& mesh, std::span<const double> field, double least_share) {
  FieldParts parts;
  std::unordered_map<std::uint64_t, std::uint32_t> crossings;
  const auto above = [&](std::uint32_t v) { return field[v] > 0; };
  const auto crossing = [&](std::uint32_t a, std::uint32_t b) {
    if (a > b) std::swap(a, b);
    const std::uint64_t key = static_cast<std::uint64_t>(a) << 32 | b;
    const auto known = crossings.find(key);
    if (known != crossings.end()) return known->second;
    const double share = std::clamp(field[a] / (field[a] - field[b]), least_share, 1 - least_share);
    const std::uint32_t v = add_between(mesh, a, b, share);
    crossings.emplace(key, v);
    return v;
  };
  std::vector<Face> faces;
  std::vector<FaceKind> kinds;
  const auto add = [&](std::size_t from, const Face& face) {
    faces.push_back(face);
    if (!mesh.kinds.empty()) kinds.push_back(mesh.kinds[from]);
  };
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) {
    Face face = mesh.faces[f];
    const auto count = std::count_if(face.begin(), face.end(), above);
    if (count == 3) {
      add(f, face);
      continue;
    }
    ++parts.faces_gone;
    if (count == 0) continue;
    ++parts.faces_parted;
    // The one that is alone on its side comes first.
    while (above(face[0]) == above(face[1]) || above(face[0]) == above(face[2]))
      std::rotate(face.begin(), face.begin() + 1, face.end());
    const std::uint32_t ab = crossing(face[0], face[1]), ca = crossing(face[2], face[0]);
    if (count == 1) {
      add(f, {face[0], ab, ca});
      parts.way[ab].push_back(ca);
    } else {
      // The rest has four corners: parted by the shorter way across.
      const auto length = [&](std::uint32_t p, std::uint32_t q) {
        return (mesh.positions[p] - mesh.positions[q]).squaredNorm();
      };
      if (length(ab, face[2]) <= length(face[1], ca))
        add(f, {ab, face[1], face[2]}), add(f, {ab, face[2], ca});
      else
        add(f, {ab, face[1], ca}), add(f, {face[1], face[2], ca});
      parts.way[ca].push_back(ab);
    }
  }
  mesh.faces = std::move(faces);
  mesh.kinds = std::move(kinds);
  return parts;
}

}  // namespace icefield
