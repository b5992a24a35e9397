#include "icefield/surface/close_holes.h"

#include <fmt/format.h>

#include <Eigen/Geometry>
#include <Eigen/SparseCholesky>
#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>

#include "icefield/base/error.h"
#include "icefield/surface/check_mesh.h"
#include "src/surface/vertex_fans.h"

namespace icefield {
namespace {

using Eigen::Vector3d;
using Eigen::Vector3f;

constexpr std::uint32_t kNone = 0xffffffffu;
constexpr std::size_t kWhole = 250;          // longest ring whose triangulations are all weighed
constexpr std::size_t kMostNew = 2'000'000;  // vertices of a patch

using EdgeKey = std::pair<std::uint32_t, std::uint32_t>;
EdgeKey key_of(std::uint32_t a, std::uint32_t b) {
  return a < b ? EdgeKey(a, b) : EdgeKey(b, a);
}

// A patch over one ring.
class Patch {
 public:
  Patch(const Mesh& mesh, const std::vector<std::uint32_t>& ring, const VertexFaces& around)
      : mesh_(mesh), ring_(ring), around_(around) {
    for (const std::uint32_t v : ring) {
      places_.push_back(mesh.positions[v].cast<double>());
      std::vector<std::uint32_t> linked;
      for (const std::uint32_t f : around.of(v))
        linked.insert(linked.end(), mesh.faces[f].begin(), mesh.faces[f].end());
      std::sort(linked.begin(), linked.end());
      linked_.push_back(std::move(linked));
    }
  }

  // False: nothing sensible closes it.
  bool make() {
    // A ring that meets itself in a vertex was parted before.
    std::vector<std::uint32_t> all(ring_.size());
    std::iota(all.begin(), all.end(), 0u);
    triangulate(all);
    if (faces_.empty() || !possible_) return false;
    find_sizes();
    refine();
    bend();
    return true;
  }

  // Vertices by number: those below ring().size() are the ring's.
  const std::vector<Vector3d>& places() const { return places_; }
  const std::vector<Face>& faces() const { return faces_; }
  std::size_t rim() const { return ring_.size(); }

 private:
  static Vector3d across(const Vector3d& a, const Vector3d& b, const Vector3d& c) { return (b - a).cross(c - a); }

  // The normal of the mesh's face at an edge of the ring, i to i + 1.
  Vector3d outer_normal(std::uint32_t i, std::uint32_t j) const {
    const std::uint32_t a = ring_[i], b = ring_[j];
    for (const std::uint32_t f : around_.of(a))
      for (const std::uint32_t v : mesh_.faces[f])
        if (v == b) return face_normal(mesh_, f).cast<double>();
    return Vector3d::Zero();
  }

  // Whether the mesh has an edge between two vertices of the ring: the patch must not have it as well.
  bool linked(std::uint32_t i, std::uint32_t k) const {
    return std::binary_search(linked_[i].begin(), linked_[i].end(), ring_[k]);
  }

  struct Weight {
    double bend = 0, area = 0;  // largest turn between two faces (1 - cosine), and all areas
    bool operator<(const Weight& o) const { return bend != o.bend ? bend < o.bend : area < o.area; }
  };

  // The triangulation of a closed line of ring vertices that bends least. A long one is parted where it comes near to
  // itself.
  void triangulate(const std::vector<std::uint32_t>& line) {
    const std::size_t n = line.size();
    if (n < 3) return;
    if (n == 3) {
      faces_.push_back({line[0], line[1], line[2]});
      return;
    }
    if (n > kWhole) {
      part(line);
      return;
    }
    const auto at = [&](std::size_t i) -> const Vector3d& { return places_[line[i]]; };
    constexpr double kNever = 1e200;
    std::vector<Weight> weight(n * n);
    std::vector<std::uint32_t> apex(n * n, kNone);
    // Of the face beyond an edge of the line.
    std::vector<Vector3d> beyond(n);
    for (std::size_t i = 0; i < n; ++i) {
      const std::uint32_t a = line[i], b = line[(i + 1) % n];
      const bool on_ring = b == (a + 1) % ring_.size();
      beyond[i] = on_ring ? outer_normal(a, b) : Vector3d(Vector3d::Zero());
    }
    const auto turn = [](const Vector3d& p, const Vector3d& q) {
      return p.isZero() || q.isZero() ? 0.0 : 1 - p.dot(q);
    };
    const auto normal_beyond = [&](std::size_t i, std::size_t k) {
      if (k == i + 1) return beyond[i];
      const Vector3d v = across(at(i), at(apex[i * n + k]), at(k));
      return v.norm() > 0 ? Vector3d(v.normalized()) : v;
    };
    for (std::size_t gap = 2; gap < n; ++gap)
      for (std::size_t i = 0; i + gap < n; ++i) {
        const std::size_t k = i + gap;
        Weight best{1e300, 1e300};
        for (std::size_t m = i + 1; m < k; ++m) {
          const Vector3d v = across(at(i), at(m), at(k));
          const double twice = v.norm();
          Weight w;
          const Weight &a = weight[i * n + m], &b = weight[m * n + k];
          w.bend = std::max(a.bend, b.bend);
          if (!(twice > 0)) {
            w.bend = std::max(w.bend, 2.0);
          } else {
            const Vector3d normal = v / twice;
            w.bend = std::max({w.bend, turn(normal, normal_beyond(i, m)), turn(normal, normal_beyond(m, k))});
            if (gap == n - 1) w.bend = std::max(w.bend, turn(normal, beyond[n - 1]));
          }
          // Angles that differ by less than a few degrees are alike.
          if (w.bend < kNever) w.bend = std::round(w.bend * 50) / 50;
          if (gap + 1 < n && linked(line[i], line[k])) w.bend = kNever;
          w.area = a.area + b.area + 0.5 * twice;
          if (w < best) best = w, apex[i * n + k] = static_cast<std::uint32_t>(m);
        }
        weight[i * n + k] = best;
      }
    if (!(weight[n - 1].bend < kNever)) {
      possible_ = false;
      return;
    }
    std::vector<std::pair<std::size_t, std::size_t>> open = {{0, n - 1}};
    while (!open.empty()) {
      const auto [i, k] = open.back();
      open.pop_back();
      if (k < i + 2) continue;
      const std::size_t m = apex[i * n + k];
      faces_.push_back({line[i], line[m], line[k]});
      open.emplace_back(i, m);
      open.emplace_back(m, k);
    }
  }

  // Along the chord that is shortest against the way around.
  void part(const std::vector<std::uint32_t>& line) {
    const std::size_t n = line.size();
    std::vector<double> along(n + 1, 0);
    for (std::size_t i = 0; i < n; ++i)
      along[i + 1] = along[i] + (places_[line[i]] - places_[line[(i + 1) % n]]).norm();
    double least = 1e300;
    std::size_t from = 0, to = n / 2;
    const std::size_t step = std::max<std::size_t>(1, n / 400);
    for (std::size_t i = 0; i < n; i += step)
      for (std::size_t k = i + n / 8 + 2; k < n && n - k + i > n / 8 + 1; k += step) {
        const double way = std::min(along[k] - along[i], along[n] - along[k] + along[i]);
        const double share = (places_[line[i]] - places_[line[k]]).norm() / std::max(1e-300, way);
        if (share < least && !linked(line[i], line[k])) least = share, from = i, to = k;
      }
    std::vector<std::uint32_t> first(line.begin() + static_cast<std::ptrdiff_t>(from),
                                     line.begin() + static_cast<std::ptrdiff_t>(to) + 1),
        second(line.begin() + static_cast<std::ptrdiff_t>(to), line.end());
    second.insert(second.end(), line.begin(), line.begin() + static_cast<std::ptrdiff_t>(from) + 1);
    triangulate(first);
    triangulate(second);
  }

  // Of each vertex of the ring the usual length of an edge of the mesh there.
  void find_sizes() {
    for (const std::uint32_t v : ring_) {
      double sum = 0;
      std::size_t count = 0;
      for (const std::uint32_t f : around_.of(v))
        for (const std::uint32_t w : mesh_.faces[f])
          if (w != v) sum += (mesh_.positions[w] - mesh_.positions[v]).norm(), ++count;
      sizes_.push_back(count > 0 ? sum / static_cast<double>(count) : 0);
    }
  }

  void link() {
    sides_.clear();
    for (std::uint32_t f = 0; f < faces_.size(); ++f) link(f);
  }
  void link(std::uint32_t f) {
    for (std::size_t k = 0; k < 3; ++k) {
      auto& side =
          sides_.try_emplace(key_of(faces_[f][k], faces_[f][(k + 1) % 3]), std::pair(kNone, kNone)).first->second;
      (side.first == kNone ? side.first : side.second) = f;
    }
  }
  void relink(const EdgeKey& edge, std::uint32_t before, std::uint32_t now) {
    auto& side = sides_.at(edge);
    (side.first == before ? side.first : side.second) = now;
  }

  // The edge between two faces goes the other way where that makes their angles larger (in the sense of Delaunay).
  bool flip(const EdgeKey& edge) {
    const auto found = sides_.find(edge);
    if (found == sides_.end() || found->second.first == kNone || found->second.second == kNone) return false;
    const auto [f, g] = found->second;
    const auto apex = [&](const Face& face) {
      for (const std::uint32_t v : face)
        if (v != edge.first && v != edge.second) return v;
      return kNone;
    };
    const std::uint32_t p = apex(faces_[f]), q = apex(faces_[g]);
    if (p == kNone || q == kNone || p == q || sides_.contains(key_of(p, q))) return false;
    if (p < ring_.size() && q < ring_.size() && linked(p, q)) return false;
    const auto angle = [&](std::uint32_t at, std::uint32_t a, std::uint32_t b) {
      const Vector3d u = places_[a] - places_[at], v = places_[b] - places_[at];
      return std::atan2(u.cross(v).norm(), u.dot(v));
    };
    if (angle(p, edge.first, edge.second) + angle(q, edge.first, edge.second) <= std::numbers::pi + 1e-9) return false;
    // f goes from a to b along the edge.
    std::uint32_t a = edge.first, b = edge.second;
    bool forwards = false;
    for (std::size_t k = 0; k < 3; ++k) forwards |= faces_[f][k] == a && faces_[f][(k + 1) % 3] == b;
    if (!forwards) std::swap(a, b);
    const Vector3d n = across(places_[a], places_[b], places_[p]) + across(places_[b], places_[a], places_[q]);
    if (across(places_[a], places_[q], places_[p]).dot(n) <= 0 ||
        across(places_[b], places_[p], places_[q]).dot(n) <= 0)
      return false;
    sides_.erase(found);
    faces_[f] = {a, q, p};
    faces_[g] = {b, p, q};
    relink(key_of(a, q), g, f);
    relink(key_of(b, p), f, g);
    sides_[key_of(p, q)] = {f, g};
    return true;
  }

  void refine() {
    link();
    for (int round = 0; round < 40; ++round) {
      const std::size_t before = faces_.size();
      for (std::uint32_t f = 0; f < before && places_.size() < kMostNew; ++f) {
        const Face face = faces_[f];
        Vector3d middle = Vector3d::Zero();
        double size = 0;
        for (const std::uint32_t v : face) middle += places_[v] / 3, size += sizes_[v] / 3;
        bool large = true;
        for (const std::uint32_t v : face) {
          const double d = std::numbers::sqrt2 * (places_[v] - middle).norm();
          large &= d > size && d > sizes_[v];
        }
        if (!large) continue;
        const auto made = static_cast<std::uint32_t>(places_.size());
        places_.push_back(middle);
        sizes_.push_back(size);
        const auto second = static_cast<std::uint32_t>(faces_.size()), third = second + 1;
        faces_[f] = {face[0], face[1], made};
        faces_.push_back({face[1], face[2], made});
        faces_.push_back({face[2], face[0], made});
        relink(key_of(face[1], face[2]), f, second);
        relink(key_of(face[2], face[0]), f, third);
        sides_[key_of(face[0], made)] = {f, third};
        sides_[key_of(face[1], made)] = {f, second};
        sides_[key_of(face[2], made)] = {second, third};
      }
      const bool parted = faces_.size() > before;
      for (int pass = 0; pass < 10; ++pass) {
        std::vector<EdgeKey> edges;
        for (const auto& [edge, side] : sides_)
          if (side.second != kNone) edges.push_back(edge);
        bool any = false;
        for (const EdgeKey& edge : edges) any |= flip(edge);
        if (!any) break;
      }
      if (!parted) break;
    }
  }

  // Of all places of the new vertices those at which each vertex, and each of the rim, lies nearest to the middle of
  // its neighbours: a thin plate, since the rim has neighbours in the mesh as well.
  void bend() {
    const std::size_t rim = ring_.size(), fresh = places_.size() - rim;
    if (fresh == 0) return;
    std::vector<std::vector<std::uint32_t>> near(places_.size());
    for (const auto& [edge, side] : sides_) {
      near[edge.first].push_back(edge.second);
      near[edge.second].push_back(edge.first);
    }
    std::vector<Eigen::Triplet<double>> entries;
    Eigen::MatrixXd right(static_cast<Eigen::Index>(places_.size()), 3);
    right.setZero();
    for (std::uint32_t v = 0; v < places_.size(); ++v) {
      // The mesh's own neighbours of a vertex of the rim, but for those along it.
      Vector3d outside = Vector3d::Zero();
      std::size_t count = near[v].size();
      if (v < rim) {
        std::vector<std::uint32_t> others;
        for (const std::uint32_t f : around_.of(ring_[v]))
          for (const std::uint32_t w : mesh_.faces[f])
            if (w != ring_[v] && w != ring_[(v + 1) % rim] && w != ring_[(v + rim - 1) % rim]) others.push_back(w);
        std::sort(others.begin(), others.end());
        others.erase(std::unique(others.begin(), others.end()), others.end());
        for (const std::uint32_t w : others) outside += mesh_.positions[w].cast<double>();
        count += others.size();
      }
      const double share = 1.0 / static_cast<double>(std::max<std::size_t>(1, count));
      const auto row = static_cast<Eigen::Index>(v);
      right.row(row) += share * outside.transpose();
      const auto add = [&](std::uint32_t w, double weight) {
        if (w < rim)
          right.row(row) -= weight * places_[w].transpose();
        else
          entries.emplace_back(static_cast<int>(v), static_cast<int>(w - rim), weight);
      };
      add(v, 1);
      for (const std::uint32_t w : near[v]) add(w, -share);
    }
    Eigen::SparseMatrix<double> plate(static_cast<Eigen::Index>(places_.size()), static_cast<Eigen::Index>(fresh));
    plate.setFromTriplets(entries.begin(), entries.end());
    const Eigen::SparseMatrix<double> normal = plate.transpose() * plate;
    Eigen::SimplicialLDLT<Eigen::SparseMatrix<double>> solver(normal);
    if (solver.info() != Eigen::Success) return;
    const Eigen::MatrixXd solved = solver.solve(plate.transpose() * right);
    if (!solved.allFinite()) return;
    for (std::size_t i = 0; i < fresh; ++i) places_[rim + i] = solved.row(static_cast<Eigen::Index>(i)).transpose();
  }

  const Mesh& mesh_;
  const std::vector<std::uint32_t>& ring_;
  const VertexFaces& around_;
  std::vector<Vector3d> places_;
  std::vector<double> sizes_;
  std::vector<Face> faces_;
  std::vector<std::vector<std::uint32_t>> linked_;  // by vertex of the ring: those of the mesh's faces about it
  bool possible_ = true;
  std::map<EdgeKey, std::pair<std::uint32_t, std::uint32_t>> sides_;
};

// New vertices take what the rim carries, weighted by the inverse square of the distance.
void carry(Mesh& mesh, const std::vector<std::uint32_t>& ring, std::size_t first) {
  if (mesh.colours.empty() && mesh.errors.empty() && mesh.support.empty()) return;
  const std::size_t step = std::max<std::size_t>(1, ring.size() / 200);
  for (std::size_t v = first; v < mesh.positions.size(); ++v) {
    Vector3d colour = Vector3d::Zero();
    double weights = 0, error = 0;
    for (std::size_t i = 0; i < ring.size(); i += step) {
      const std::uint32_t r = ring[i];
      const double w = 1 / (1e-12 + (mesh.positions[r] - mesh.positions[v]).squaredNorm());
      weights += w;
      if (!mesh.colours.empty())
        for (std::size_t c = 0; c < 3; ++c) colour[static_cast<Eigen::Index>(c)] += w * mesh.colours[r][c];
      if (!mesh.errors.empty()) error += w * mesh.errors[r];
    }
    if (!mesh.colours.empty()) {
      std::array<std::uint8_t, 3> bytes;
      for (std::size_t c = 0; c < 3; ++c)
        bytes[c] = static_cast<std::uint8_t>(std::lround(colour[static_cast<Eigen::Index>(c)] / weights));
      mesh.colours.push_back(bytes);
    }
    if (!mesh.errors.empty()) mesh.errors.push_back(static_cast<float>(error / weights));
    if (!mesh.support.empty()) mesh.support.push_back(0);
  }
}

}  // namespace

CloseHolesSummary close_holes(Mesh& mesh, const CloseHolesOptions& options, Monitor& monitor) {
  check_arrays(mesh);
  CloseHolesSummary summary;
  const std::vector<MeshHole> holes = holes_of(mesh);
  summary.holes = holes.size();
  std::vector<std::uint8_t> wanted(holes.size(), options.numbers.empty());
  for (const std::uint32_t number : options.numbers) {
    if (number >= holes.size())
      throw Error(ErrorKind::usage, fmt::format("hole {}", number), "does not exist",
                  fmt::format("the mesh has {} holes, from 0", holes.size()));
    wanted[number] = 1;
  }
  const bool with_normals = !mesh.normals.empty();
  if (mesh.kinds.empty()) mesh.kinds.assign(mesh.faces.size(), FaceKind::measured);
  const VertexFaces around(mesh);
  const std::size_t own = mesh.positions.size();
  for (std::size_t h = 0; h < holes.size(); ++h) {
    monitor.progress("holes", h, holes.size());
    if (monitor.cancelled()) throw Error(ErrorKind::interrupted, "holes", "were interrupted", "run it again");
    const std::vector<std::uint32_t>& ring = holes[h].vertices;
    if (!wanted[h] || (options.max_perimeter > 0 && holes[h].perimeter > options.max_perimeter)) continue;
    Patch patch(mesh, ring, around);
    if (ring.size() < 3 || !patch.make()) {
      ++summary.not_closed;
      continue;
    }
    const std::size_t first = mesh.positions.size();
    for (std::size_t v = patch.rim(); v < patch.places().size(); ++v)
      mesh.positions.push_back(patch.places()[v].cast<float>());
    if (with_normals) mesh.normals.resize(mesh.positions.size(), Vector3f::UnitZ());
    carry(mesh, ring, first);
    for (const Face& face : patch.faces()) {
      Face whole;
      for (std::size_t k = 0; k < 3; ++k)
        whole[k] = face[k] < patch.rim() ? ring[face[k]] : static_cast<std::uint32_t>(first + face[k] - patch.rim());
      mesh.faces.push_back(whole);
      mesh.kinds.push_back(FaceKind::closed);
      summary.area += face_area(mesh, mesh.faces.size() - 1);
    }
    summary.faces += patch.faces().size();
    ++summary.closed;
  }
  if (with_normals && mesh.positions.size() >= own) set_normals(mesh);
  return summary;
}

}  // namespace icefield
