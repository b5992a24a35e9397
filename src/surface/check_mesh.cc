#include "icefield/surface/check_mesh.h"

#include <fmt/format.h>

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <deque>
#include <numeric>

#include "src/surface/crossing_faces.h"
#include "src/surface/vertex_fans.h"

namespace icefield {

using Eigen::Vector3d;
using Eigen::Vector3f;

namespace {

bool degenerate(const Mesh& mesh, std::size_t face) {
  const Face& f = mesh.faces[face];
  return f[0] == f[1] || f[1] == f[2] || f[2] == f[0] || !(face_area(mesh, face) > 0);
}

Face in_order(Face f) {
  std::sort(f.begin(), f.end());
  return f;
}

// Whether the face goes from a to b.
bool goes(const Face& face, std::uint32_t a, std::uint32_t b) {
  for (std::size_t k = 0; k < 3; ++k)
    if (face[k] == a && face[(k + 1) % 3] == b) return true;
  return false;
}

std::size_t count_doubled_places(const Mesh& mesh) {
  std::vector<std::uint32_t> order(mesh.positions.size());
  std::iota(order.begin(), order.end(), 0u);
  const auto less = [&](std::uint32_t a, std::uint32_t b) {
    const Vector3f &p = mesh.positions[a], &q = mesh.positions[b];
    return std::lexicographical_compare(p.data(), p.data() + 3, q.data(), q.data() + 3);
  };
  std::erase_if(order, [&](std::uint32_t v) { return !mesh.positions[v].allFinite(); });
  std::sort(order.begin(), order.end(), less);
  std::size_t doubled = 0;
  for (std::size_t i = 1; i < order.size(); ++i) doubled += mesh.positions[order[i]] == mesh.positions[order[i - 1]];
  return doubled;
}

// Rings of open edges, each in the order that closes the surface.
std::vector<std::vector<std::uint32_t>> open_rings(const Mesh& mesh, const MeshEdges& edges) {
  // Along the hole the edge runs against its face.
  std::vector<std::pair<std::uint32_t, std::uint32_t>> next;
  for (const MeshEdges::Edge& e : edges.edges)
    if (e.count == 1)
      next.emplace_back(goes(mesh.faces[edges.faces[e.first]], e.low, e.high) ? std::pair(e.high, e.low)
                                                                              : std::pair(e.low, e.high));
  std::sort(next.begin(), next.end());
  std::vector<std::uint8_t> used(next.size(), 0);
  std::vector<std::vector<std::uint32_t>> rings;
  for (std::size_t i = 0; i < next.size(); ++i) {
    if (used[i]) continue;
    std::vector<std::uint32_t> ring;
    std::size_t at = i;
    while (!used[at]) {
      used[at] = 1;
      ring.push_back(next[at].first);
      auto on = std::lower_bound(next.begin(), next.end(), std::pair(next[at].second, 0u));
      while (on != next.end() && on->first == next[at].second && used[static_cast<std::size_t>(on - next.begin())])
        ++on;
      if (on == next.end() || on->first != next[at].second) break;
      at = static_cast<std::size_t>(on - next.begin());
    }
    rings.push_back(std::move(ring));
  }
  return rings;
}

}  // namespace

std::string MeshCheck::in_a_line() const {
  return fmt::format("{} faces, {}, {}, {}", faces, closed() ? "closed" : fmt::format("{} open rings", holes),
                     manifold() ? "manifold" : "not manifold", oriented() ? "oriented" : "not oriented");
}

MeshCheck check_mesh(const Mesh& mesh, bool intersections, const Executor& executor) {
  check_arrays(mesh);
  MeshCheck check;
  check.vertices = mesh.positions.size(), check.faces = mesh.faces.size();
  for (const Vector3f& p : mesh.positions) check.not_finite += !p.allFinite();
  const VertexFaces around(mesh);
  for (std::uint32_t v = 0; v < mesh.positions.size(); ++v) {
    const auto faces = around.of(v);
    if (faces.empty()) ++check.unused_vertices;
    std::uint32_t fans = 0;
    if (faces.size() > 1) fans_at(mesh, v, faces, fans);
    check.crowded_vertices += fans > 1;
  }
  check.doubled_vertices = count_doubled_places(mesh);
  std::vector<Face> sorted;
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) {
    check.degenerate_faces += degenerate(mesh, f);
    sorted.push_back(in_order(mesh.faces[f]));
  }
  std::sort(sorted.begin(), sorted.end());
  for (std::size_t f = 1; f < sorted.size(); ++f) check.doubled_faces += sorted[f] == sorted[f - 1];
  const MeshEdges edges = edges_of(mesh);
  for (const MeshEdges::Edge& e : edges.edges) {
    if (e.low == e.high) continue;
    check.open_edges += e.count == 1;
    check.crowded_edges += e.count > 2;
    if (e.count == 2)
      check.flipped_edges += goes(mesh.faces[edges.faces[e.first]], e.low, e.high) ==
                             goes(mesh.faces[edges.faces[e.first + 1]], e.low, e.high);
  }
  check.holes = open_rings(mesh, edges).size();
  const MeshPieces pieces = pieces_of(mesh);
  check.pieces = pieces.faces.size();
  for (const double a : pieces.areas) check.area += a;
  if (intersections) {
    check.self_intersections = count_crossing_faces(mesh, executor);
    check.self_intersections_known = true;
  }
  return check;
}

namespace {

void merge_places(Mesh& mesh, MeshRepair& repair) {
  std::vector<std::uint32_t> order(mesh.positions.size()), to(mesh.positions.size());
  std::iota(order.begin(), order.end(), 0u);
  std::iota(to.begin(), to.end(), 0u);
  std::erase_if(order, [&](std::uint32_t v) { return !mesh.positions[v].allFinite(); });
  std::sort(order.begin(), order.end(), [&](std::uint32_t a, std::uint32_t b) {
    const Vector3f &p = mesh.positions[a], &q = mesh.positions[b];
    for (int c = 0; c < 3; ++c)
      if (p[c] != q[c]) return p[c] < q[c];
    return a < b;
  });
  for (std::size_t i = 1; i < order.size(); ++i)
    if (mesh.positions[order[i]] == mesh.positions[order[i - 1]]) {
      to[order[i]] = to[order[i - 1]];
      ++repair.vertices_merged;
    }
  if (repair.vertices_merged == 0) return;
  for (Face& f : mesh.faces)
    for (std::uint32_t& v : f) v = to[v];
}

void remove_faces(Mesh& mesh, MeshRepair& repair) {
  std::vector<std::uint32_t> order(mesh.faces.size());
  std::iota(order.begin(), order.end(), 0u);
  std::vector<Face> sorted;
  sorted.reserve(mesh.faces.size());
  for (const Face& f : mesh.faces) sorted.push_back(in_order(f));
  std::sort(order.begin(), order.end(),
            [&](std::uint32_t a, std::uint32_t b) { return sorted[a] != sorted[b] ? sorted[a] < sorted[b] : a < b; });
  std::vector<std::uint8_t> keep(mesh.faces.size(), 1);
  for (std::size_t i = 0; i < order.size(); ++i) {
    const std::uint32_t f = order[i];
    bool finite = true;
    for (const std::uint32_t v : mesh.faces[f]) finite &= mesh.positions[v].allFinite();
    if (!finite || degenerate(mesh, f) || (i > 0 && sorted[f] == sorted[order[i - 1]])) {
      keep[f] = 0;
      ++repair.faces_removed;
    }
  }
  std::size_t place = 0;
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) {
    if (!keep[f]) continue;
    mesh.faces[place] = mesh.faces[f];
    if (!mesh.kinds.empty()) mesh.kinds[place] = mesh.kinds[f];
    ++place;
  }
  mesh.faces.resize(place);
  if (!mesh.kinds.empty()) mesh.kinds.resize(place);
}

// Each piece, connected by edges of two faces, goes around one way: that of most of its area.
void turn_faces(Mesh& mesh, MeshRepair& repair) {
  const MeshEdges edges = edges_of(mesh);
  struct Link {
    std::uint32_t face, other;
    bool same;  // both go around the same way
  };
  std::vector<Link> links;
  for (const MeshEdges::Edge& e : edges.edges) {
    if (e.count != 2) continue;
    const std::uint32_t a = edges.faces[e.first], b = edges.faces[e.first + 1];
    const bool same = goes(mesh.faces[a], e.low, e.high) != goes(mesh.faces[b], e.low, e.high);
    links.push_back({a, b, same});
    links.push_back({b, a, same});
  }
  std::sort(links.begin(), links.end(),
            [](const Link& x, const Link& y) { return x.face != y.face ? x.face < y.face : x.other < y.other; });
  std::vector<std::uint8_t> seen(mesh.faces.size(), 0), turned(mesh.faces.size(), 0);
  std::vector<std::uint32_t> piece;
  for (std::uint32_t start = 0; start < mesh.faces.size(); ++start) {
    if (seen[start]) continue;
    piece.assign(1, start);
    seen[start] = 1;
    double area_turned = 0, area_all = 0;
    for (std::size_t i = 0; i < piece.size(); ++i) {
      const std::uint32_t f = piece[i];
      const double a = face_area(mesh, f);
      area_all += a;
      if (turned[f]) area_turned += a;
      for (auto l = std::lower_bound(links.begin(), links.end(), f,
                                     [](const Link&link, std::uint32_t face) { return link.face < face; });
           l != links.end() && l->face == f; ++l)
        if (!seen[l->other]) {
          seen[l->other] = 1;
          turned[l->other] = turned[f] == (l->same ? 1 : 0);
          piece.push_back(l->other);
        }
    }
    const bool others = 2 * area_turned > area_all;
    for (const std::uint32_t f : piece)
      if ((turned[f] != 0) != others) {
        std::swap(mesh.faces[f][1], mesh.faces[f][2]);
        ++repair.faces_turned;
      }
  }
}

// Edges whose two faces still go around different ways, as on a surface with one side: their faces are parted there.
bool part_flipped(Mesh& mesh, MeshRepair& repair) {
  const MeshEdges edges = edges_of(mesh);
  std::vector<std::uint8_t> bad(mesh.faces.size(), 0);
  bool any = false;
  for (const MeshEdges::Edge& e : edges.edges) {
    if (e.count != 2) continue;
    const std::uint32_t a = edges.faces[e.first], b = edges.faces[e.first + 1];
    if (goes(mesh.faces[a], e.low, e.high) == goes(mesh.faces[b], e.low, e.high)) bad[std::max(a, b)] = 1, any = true;
  }
  if (!any) return false;
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) {
    if (!bad[f]) continue;
    for (std::uint32_t& v : mesh.faces[f]) {
      v = repeat_vertex(mesh, v);
      ++repair.vertices_parted;
    }
  }
  return true;
}

}  // namespace

MeshRepair repair_mesh(Mesh& mesh) {
  check_arrays(mesh);
  MeshRepair repair;
  merge_places(mesh, repair);
  remove_faces(mesh, repair);
  repair.vertices_parted += part_fans(mesh);
  turn_faces(mesh, repair);
  if (part_flipped(mesh, repair)) repair.vertices_parted += part_fans(mesh);
  const std::size_t before = mesh.positions.size();
  drop_unused_vertices(mesh);
  repair.vertices_removed =
      before - mesh.positions.size() - std::min(before - mesh.positions.size(), repair.vertices_merged);
  return repair;
}

std::vector<MeshHole> holes_of(const Mesh& mesh) {
  std::vector<MeshHole> holes;
  for (std::vector<std::uint32_t>& ring : open_rings(mesh, edges_of(mesh))) {
    MeshHole hole;
    Vector3d across = Vector3d::Zero();
    for (const std::uint32_t v : ring) hole.middle += mesh.positions[v].cast<double>();
    hole.middle /= static_cast<double>(ring.size());
    for (std::size_t i = 0; i < ring.size(); ++i) {
      const Vector3d a = mesh.positions[ring[i]].cast<double>() - hole.middle,
                     b = mesh.positions[ring[(i + 1) % ring.size()]].cast<double>() - hole.middle;
      hole.perimeter += (b - a).norm();
      across += 0.5 * a.cross(b);
    }
    hole.area = across.norm();
    hole.vertices = std::move(ring);
    holes.push_back(std::move(hole));
  }
  std::stable_sort(holes.begin(), holes.end(),
                   [](const MeshHole& a, const MeshHole& b) { return a.perimeter > b.perimeter; });
  return holes;
}

}  // namespace icefield
