#include "icefield/surface/mesh.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numeric>

#include "icefield/base/error.h"
#include "src/surface/vertex_fans.h"
#include "src/surface/visit_edges.h"

namespace icefield {

using Eigen::Vector3d;
using Eigen::Vector3f;

namespace {

constexpr std::uint32_t kLayout = 1;

std::vector<std::array<float, 3>> as_numbers(const std::vector<Vector3f>& vectors) {
  std::vector<std::array<float, 3>> numbers;
  numbers.reserve(vectors.size());
  for (const Vector3f& v : vectors) numbers.push_back({v.x(), v.y(), v.z()});
  return numbers;
}
std::vector<Vector3f> as_vectors(const std::vector<std::array<float, 3>>& numbers) {
  std::vector<Vector3f> vectors;
  vectors.reserve(numbers.size());
  for (const auto& v : numbers) vectors.emplace_back(v[0], v[1], v[2]);
  return vectors;
}

Vector3d across(const Mesh& mesh, std::size_t face) {
  const Face& f = mesh.faces[face];
  const Vector3d a = mesh.positions[f[0]].cast<double>();
  return (mesh.positions[f[1]].cast<double>() - a).cross(mesh.positions[f[2]].cast<double>() - a);
}

template <class T>
void keep_rows(std::vector<T>& rows, const std::vector<std::uint32_t>& from) {
  if (rows.empty()) return;
  std::vector<T> kept;
  kept.reserve(from.size());
  for (const std::uint32_t i : from) kept.push_back(rows[i]);
  rows = std::move(kept);
}

}  // namespace

Bytes Mesh::to_bytes() const {
  ByteWriter out;
  out.put(kLayout).put(origin.x()).put(origin.y()).put(origin.z());
  out.put(datum.crs).put(datum.vertical_crs).put(datum.units).put(datum.axes);
  out.put(as_numbers(positions)).put(faces).put(as_numbers(normals)).put(colours).put(support).put(errors).put(kinds);
  return out.take();
}

Mesh Mesh::from_bytes(std::span<const std::byte> bytes) {
  ByteReader in(bytes);
  if (in.get<std::uint32_t>() != kLayout)
    throw Error(ErrorKind::input, "mesh", "is of another layout", "make it again");
  Mesh mesh;
  for (int c = 0; c < 3; ++c) mesh.origin[c] = in.get<double>();
  mesh.datum.crs = in.get_string(), mesh.datum.vertical_crs = in.get_string(), mesh.datum.units = in.get_string();
  mesh.datum.axes = static_cast<Axes>(std::min<std::uint8_t>(2, in.get<std::uint8_t>()));
  mesh.positions = as_vectors(in.get_array<std::array<float, 3>>());
  mesh.faces = in.get_array<Face>();
  mesh.normals = as_vectors(in.get_array<std::array<float, 3>>());
  mesh.colours = in.get_array<std::array<std::uint8_t, 3>>();
  mesh.support = in.get_array<float>();
  mesh.errors = in.get_array<float>();
  mesh.kinds = in.get_array<FaceKind>();
  in.need_end();
  try {
    check_arrays(mesh);
  } catch (const Error& e) {
    throw Error(ErrorKind::input, "mesh", e.fault(), "make it again");
  }
  return mesh;
}

void check_arrays(const Mesh& mesh) {
  const std::size_t n = mesh.positions.size();
  const auto fits = [](std::size_t size, std::size_t whole) { return size == 0 || size == whole; };
  if (!fits(mesh.normals.size(), n) || !fits(mesh.colours.size(), n) || !fits(mesh.support.size(), n) ||
      !fits(mesh.errors.size(), n) || !fits(mesh.kinds.size(), mesh.faces.size()))
    throw Error(ErrorKind::usage, "mesh", "has arrays of different lengths", "give one entry for each vertex or face");
  for (std::size_t f = 0; f < mesh.faces.size(); ++f)
    for (const std::uint32_t v : mesh.faces[f])
      if (v >= n)
        throw Error(ErrorKind::usage, "mesh", fmt::format("has vertex {} in face {}, and {} vertices", v, f, n),
                    "number vertices from 0");
}

Vector3f face_normal(const Mesh& mesh, std::size_t face) {
  const Vector3d n = across(mesh, face);
  const double length = n.norm();
  return length > 0 ? Vector3f((n / length).cast<float>()) : Vector3f(Vector3f::Zero());
}

double face_area(const Mesh& mesh, std::size_t face) {
  return 0.5 * across(mesh, face).norm();
}

double area(const Mesh& mesh) {
  double sum = 0;
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) sum += face_area(mesh, f);
  return sum;
}

double volume(const Mesh& mesh) {
  double sum = 0;
  if (mesh.positions.empty()) return 0;
  const Vector3d from = mesh.positions[0].cast<double>();
  for (const Face& f : mesh.faces) {
    const Vector3d a = mesh.positions[f[0]].cast<double>() - from, b = mesh.positions[f[1]].cast<double>() - from,
                   c = mesh.positions[f[2]].cast<double>() - from;
    sum += a.dot(b.cross(c));
  }
  return sum / 6;
}

void set_normals(Mesh& mesh) {
  std::vector<Vector3d> sums(mesh.positions.size(), Vector3d::Zero());
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) {
    const Vector3d n = across(mesh, f);
    const double length = n.norm();
    if (!(length > 0)) continue;
    for (std::size_t k = 0; k < 3; ++k) {
      const std::uint32_t v = mesh.faces[f][k];
      const Vector3d at = mesh.positions[v].cast<double>(),
                     a = mesh.positions[mesh.faces[f][(k + 1) % 3]].cast<double>() - at,
                     b = mesh.positions[mesh.faces[f][(k + 2) % 3]].cast<double>() - at;
      sums[v] += std::atan2(a.cross(b).norm(), a.dot(b)) / length * n;
    }
  }
  mesh.normals.resize(sums.size());
  for (std::size_t v = 0; v < sums.size(); ++v) {
    const double length = sums[v].norm();
    mesh.normals[v] = length > 0 ? Vector3f((sums[v] / length).cast<float>()) : Vector3f(Vector3f::UnitZ());
  }
}

void drop_unused_vertices(Mesh& mesh) {
  constexpr std::uint32_t kNone = 0xffffffffu;
  std::vector<std::uint32_t> place(mesh.positions.size(), kNone), from;
  for (const Face& f : mesh.faces)
    for (const std::uint32_t v : f) place[v] = 0;
  for (std::uint32_t v = 0; v < place.size(); ++v)
    if (place[v] != kNone) place[v] = static_cast<std::uint32_t>(from.size()), from.push_back(v);
  if (from.size() == mesh.positions.size()) return;
  keep_rows(mesh.positions, from);
  keep_rows(mesh.normals, from);
  keep_rows(mesh.colours, from);
  keep_rows(mesh.support, from);
  keep_rows(mesh.errors, from);
  for (Face& f : mesh.faces)
    for (std::uint32_t& v : f) v = place[v];
}

Mesh pick_faces(const Mesh& mesh, std::span<const std::uint8_t> keep) {
  Mesh part = mesh;
  part.faces.clear();
  part.kinds.clear();
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) {
    if (!keep[f]) continue;
    part.faces.push_back(mesh.faces[f]);
    if (!mesh.kinds.empty()) part.kinds.push_back(mesh.kinds[f]);
  }
  drop_unused_vertices(part);
  part_fans(part);
  return part;
}

MeshEdges edges_of(const Mesh& mesh) {
  MeshEdges result;
  result.faces.reserve(3 * mesh.faces.size());
  visit_edges(
      mesh,
      [&](std::uint32_t low, std::uint32_t high, std::span<const std::uint32_t> faces) {
        result.edges.push_back(
            {low, high, static_cast<std::uint32_t>(result.faces.size()), static_cast<std::uint32_t>(faces.size())});
        result.faces.insert(result.faces.end(), faces.begin(), faces.end());
      },
      [&](std::size_t edges) { result.edges.reserve(edges); });
  return result;
}

MeshPieces pieces_of(const Mesh& mesh) {
  std::vector<std::uint32_t> root(mesh.faces.size());
  std::iota(root.begin(), root.end(), 0u);
  const auto find = [&](std::uint32_t f) {
    while (root[f] != f) f = root[f] = root[root[f]];
    return f;
  };
  visit_edges(mesh, [&](std::uint32_t, std::uint32_t, std::span<const std::uint32_t> faces) {
    for (std::size_t k = 1; k < faces.size(); ++k) {
      const std::uint32_t a = find(faces[0]), b = find(faces[k]);
      if (a != b) root[std::max(a, b)] = std::min(a, b);
    }
  });
  constexpr std::uint32_t kNone = 0xffffffffu;
  std::vector<std::uint32_t> number(mesh.faces.size(), kNone);
  MeshPieces pieces;
  std::vector<std::uint32_t> by_root;
  for (std::uint32_t f = 0; f < mesh.faces.size(); ++f) {
    const std::uint32_t r = find(f);
    if (number[r] == kNone) {
      number[r] = static_cast<std::uint32_t>(by_root.size());
      by_root.push_back(r);
      pieces.faces.push_back(0);
      pieces.areas.push_back(0);
    }
    ++pieces.faces[number[r]];
    pieces.areas[number[r]] += face_area(mesh, f);
  }
  std::vector<std::uint32_t> order(by_root.size()), place(by_root.size());
  std::iota(order.begin(), order.end(), 0u);
  std::stable_sort(order.begin(), order.end(),
                   [&](std::uint32_t a, std::uint32_t b) { return pieces.areas[a] > pieces.areas[b]; });
  MeshPieces sorted;
  for (std::uint32_t i = 0; i < order.size(); ++i) {
    place[order[i]] = i;
    sorted.faces.push_back(pieces.faces[order[i]]);
    sorted.areas.push_back(pieces.areas[order[i]]);
  }
  sorted.piece.resize(mesh.faces.size());
  for (std::uint32_t f = 0; f < mesh.faces.size(); ++f) sorted.piece[f] = place[number[find(f)]];
  return sorted;
}

}  // namespace icefield
