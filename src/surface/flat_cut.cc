#include "icefield/surface/flat_cut.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <map>
#include <unordered_map>

#include "icefield/base/error.h"
#include "src/surface/part_by_field.h"
#include "src/surface/triangulate_rings.h"

namespace icefield {

using Eigen::Vector2d;
using Eigen::Vector3d;
using Eigen::Vector3f;

namespace {

class FlatCut {
 public:
  FlatCut(Mesh& mesh, const Plane& plane) : mesh_(mesh), normal_(plane.normal.normalized()) {
    Eigen::AlignedBox3d box;
    for (std::size_t v = 0; v < mesh.positions.size(); ++v) box.extend(mesh.position(v));
    const double size = box.isEmpty() ? 1 : box.diagonal().norm();
    // No vertex comes so near to the plane that rounding could put it on the other side: of some planes close together
    // the first that keeps away, or the one that keeps away farthest.
    heights_.resize(mesh.positions.size());
    const auto measure = [&](double up) {
      double nearest = size;
      for (std::size_t v = 0; v < heights_.size(); ++v) {
        heights_[v] = normal_.dot(mesh.position(v)) - plane.distance / plane.normal.norm() - up;
        nearest = std::min(nearest, std::abs(heights_[v]));
      }
      return nearest;
    };
    constexpr int kPlanes = 40;
    constexpr double kAway = 1e-6, kStep = 2e-6;
    double best = 0, farthest = -1;
    for (int k = 0; k < kPlanes && farthest < kAway * size; ++k)
      if (const double nearest = measure(k * kStep * size); nearest > farthest)
        farthest = nearest, best = k * kStep * size;
    measure(best);
  }

  FlatCutSummary run(bool closed) {
    const std::size_t before = mesh_.positions.size();
    part_faces();
    summary_.rings = chain_rings(way_).size();
    if (closed) {
      drop_walls(static_cast<std::uint32_t>(before));
      close_base();
    }
    drop_unused_vertices(mesh_);
    summary_.outcome =
        mesh_.empty()                                     ? "nothing lies on that side"
        : summary_.rings == 0 && summary_.faces_base == 0 ? "the plane does not meet the mesh"
        : summary_.rings_outside > 0
            ? "cut; a part of the base stays open: what lies there is not within the surface but around it"
            : "cut";
    return summary_;
  }

 private:
  void part_faces() {
    FieldParts parts = part_by_field(mesh_, heights_);
    summary_.faces_gone = parts.faces_gone, summary_.faces_parted = parts.faces_parted;
    way_ = std::move(parts.way);
  }
  // From each vertex of the plane to the next, as the faces that are left have it; those that do not come back are left
  // out.
  static std::vector<std::vector<std::uint32_t>> chain_rings(std::map<std::uint32_t, std::vector<std::uint32_t>> way) {
    std::vector<std::vector<std::uint32_t>> rings;
    for (auto& [start, on] : way)
      while (!on.empty()) {
        std::vector<std::uint32_t> ring{start};
        std::uint32_t v = start;
        while (true) {
          const auto next = way.find(v);
          if (next == way.end() || next->second.empty()) {
            ring.clear();
            break;
          }
          v = next->second.back();
          next->second.pop_back();
          if (v == start) break;
          ring.push_back(v);
        }
        if (ring.size() < 3) continue;
        // The base goes along them the other way.
        std::reverse(ring.begin(), ring.end());
        rings.push_back(std::move(ring));
      }
    return rings;
  }
  // From open rims straight down to the plane; `first`: of the vertices that lie in it.
  void drop_walls(std::uint32_t first) {
    way_.clear();
    std::unordered_map<std::uint32_t, std::uint32_t> foot;
    const auto foot_of = [&](std::uint32_t v) {
      if (v >= first) return v;
      const auto known = foot.find(v);
      if (known != foot.end()) return known->second;
      const std::uint32_t below = add_between(mesh_, v, v, 0);
      mesh_.positions[below] -= (heights_[v] * normal_).cast<float>();
      foot.emplace(v, below);
      return below;
    };
    const MeshEdges edges = edges_of(mesh_);
    const std::size_t faces = mesh_.faces.size();
    if (mesh_.kinds.empty()) mesh_.kinds.assign(faces, FaceKind::measured);
    const auto add = [&](std::uint32_t a, std::uint32_t b, std::uint32_t c) {
      mesh_.faces.push_back({a, b, c});
      mesh_.kinds.push_back(FaceKind::cut);
      ++summary_.faces_wall;
    };
    for (const MeshEdges::Edge& e : edges.edges) {
      if (e.count != 1) continue;
      const Face& face = mesh_.faces[edges.faces[e.first]];
      std::uint32_t a = e.low, b = e.high;
      for (std::size_t k = 0; k < 3; ++k)
        if (face[k] == e.high && face[(k + 1) % 3] == e.low) a = e.high, b = e.low;
      const std::uint32_t under_a = foot_of(a), under_b = foot_of(b);
      if (under_a != a) add(b, a, under_a);
      if (under_b != b) add(b, under_a, under_b);
      way_[under_a].push_back(under_b);
    }
    rings_ = chain_rings(way_);
  }
  void close_base() {
    // Seen from beneath.
    const Vector3d x = normal_.unitOrthogonal(), y = -normal_.cross(x);
    std::vector<Vector2d> places(mesh_.positions.size(), Vector2d::Zero());
    for (const auto& ring : rings_)
      for (const std::uint32_t v : ring) {
        const Vector3d p = mesh_.positions[v].cast<double>();
        places[v] = Vector2d(x.dot(p), y.dot(p));
      }
    for (const auto& t : triangulate_rings(places, rings_, summary_.rings_outside)) {
      mesh_.faces.push_back(t);
      mesh_.kinds.push_back(FaceKind::cut);
      ++summary_.faces_base;
      summary_.base_area += face_area(mesh_, mesh_.faces.size() - 1);
    }
  }

  Mesh& mesh_;
  Vector3d normal_;
  std::vector<double> heights_;
  std::map<std::uint32_t, std::vector<std::uint32_t>> way_;
  std::vector<std::vector<std::uint32_t>> rings_;
  FlatCutSummary summary_;
};

}  // namespace

FlatCutSummary cut_flat(Mesh& mesh, const Plane& plane, bool closed) {
  check_arrays(mesh);
  if (!(plane.normal.norm() > 0) || !plane.normal.allFinite() || !std::isfinite(plane.distance))
    throw Error(ErrorKind::usage, "cut", "is asked for along a plane without a normal", "give a normal that is not 0");
  return FlatCut(mesh, plane).run(closed);
}

}  // namespace icefield
