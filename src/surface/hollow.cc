#include "icefield/surface/hollow.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <limits>

#include "icefield/base/error.h"
#include "icefield/surface/check_mesh.h"
#include "icefield/surface/grid_surface.h"
#include "icefield/surface/simplify.h"
#include "icefield/surface/split_edges.h"
#include "src/surface/face_tree.h"
#include "src/surface/part_by_field.h"

namespace icefield {
namespace {

using Eigen::Vector3d;
using Eigen::Vector3f;

constexpr float kFar = 1e30f;
constexpr std::size_t kMostNodes = 64'000'000;

// How deep the nodes of a grid lie beneath a closed surface: the distance to it, below 0 outside, and far away where it
// is more than `reach`.
class Depths {
 public:
  Depths(const Mesh& mesh, const FaceTree& tree, const Grid& grid, double reach, const Executor& executor,
         Monitor& monitor)
      : mesh_(mesh), tree_(tree), grid_(grid), distances_(grid.size(), kFar) {
    measure(reach, executor, monitor);
    find_sides();
  }
  std::vector<float>& values() { return distances_; }

 private:
  static constexpr int kBlock = 8;

  // In blocks of nodes: one whose middle is far away is far as a whole.
  void measure(double reach, const Executor& executor, Monitor& monitor) {
    std::array<int, 3> blocks;
    for (std::size_t c = 0; c < 3; ++c) blocks[c] = (grid_.nodes[c] + kBlock - 1) / kBlock;
    const double across = 0.5 * std::sqrt(3.0) * kBlock * grid_.step;
    const Vector3d shift = grid_.low - mesh_.origin;
    executor.run("hollow", static_cast<std::size_t>(blocks[2]), monitor, [&](std::size_t bk) {
      for (int bj = 0; bj < blocks[1]; ++bj)
        for (int bi = 0; bi < blocks[0]; ++bi) {
          const int i0 = kBlock * bi, j0 = kBlock * bj, k0 = kBlock * static_cast<int>(bk);
          const Vector3d middle = shift + grid_.step * (Vector3d(i0, j0, k0).array() + 0.5 * (kBlock - 1)).matrix();
          const double far = std::sqrt(static_cast<double>(tree_.nearest(middle.cast<float>()).distance2));
          if (far > reach + across) continue;
          for (int k = k0; k < std::min(k0 + kBlock, grid_.nodes[2]); ++k)
            for (int j = j0; j < std::min(j0 + kBlock, grid_.nodes[1]); ++j)
              for (int i = i0; i < std::min(i0 + kBlock, grid_.nodes[0]); ++i)
                distances_[grid_.index(i, j, k)] =
                    std::sqrt(tree_.nearest((shift + grid_.step * Vector3d(i, j, k)).cast<float>()).distance2);
        }
    });
  }

  // Neighbours that both lie farther from the surface than half a step are on one side of it. Which side such a room is
  // on one of its nodes tells.
  void find_sides() {
    const float half = static_cast<float>(0.5 * grid_.step);
    std::vector<std::uint8_t> seen(grid_.size(), 0);
    std::vector<std::size_t> room;
    for (std::size_t start = 0; start < seen.size(); ++start) {
      if (seen[start]) continue;
      if (!(distances_[start] > half)) {
        distances_[start] = 0;  // too near to tell, and never deep
        continue;
      }
      room.assign(1, start);
      seen[start] = 1;
      std::size_t deepest = start;
      for (std::size_t at = 0; at < room.size(); ++at) {
        const std::size_t n = room[at];
        if (distances_[n] > distances_[deepest]) deepest = n;
        const auto i = static_cast<int>(n % static_cast<std::size_t>(grid_.nodes[0]));
        const auto j =
            static_cast<int>(n / static_cast<std::size_t>(grid_.nodes[0]) % static_cast<std::size_t>(grid_.nodes[1]));
        const auto k =
            static_cast<int>(n / static_cast<std::size_t>(grid_.nodes[0]) / static_cast<std::size_t>(grid_.nodes[1]));
        constexpr int kWays[6][3] = {{-1, 0, 0}, {1, 0, 0}, {0, -1, 0}, {0, 1, 0}, {0, 0, -1}, {0, 0, 1}};
        for (const auto& way : kWays) {
          const int u = i + way[0], v = j + way[1], w = k + way[2];
          if (u < 0 || v < 0 || w < 0 || u >= grid_.nodes[0] || v >= grid_.nodes[1] || w >= grid_.nodes[2]) continue;
          const std::size_t next = grid_.index(u, v, w);
          if (seen[next] || !(distances_[next] > half)) continue;
          seen[next] = 1;
          room.push_back(next);
        }
      }
      if (!inside(deepest))
        for (const std::size_t n : room) distances_[n] = -distances_[n];
    }
  }

  // Most of some rays leave the solid once more than they enter it.
  bool inside(std::size_t node) const {
    const auto i = static_cast<int>(node % static_cast<std::size_t>(grid_.nodes[0]));
    const auto j =
        static_cast<int>(node / static_cast<std::size_t>(grid_.nodes[0]) % static_cast<std::size_t>(grid_.nodes[1]));
    const auto k =
        static_cast<int>(node / static_cast<std::size_t>(grid_.nodes[0]) / static_cast<std::size_t>(grid_.nodes[1]));
    const Vector3f from = (grid_.place(i, j, k) - mesh_.origin).cast<float>();
    int votes = 0;
    for (const Vector3f& along :
         {Vector3f(0.123f, 0.971f, 0.205f), Vector3f(-0.711f, 0.313f, 0.629f), Vector3f(0.402f, -0.558f, 0.726f),
          Vector3f(0.849f, 0.431f, -0.305f), Vector3f(-0.267f, -0.842f, -0.469f)}) {
      FaceTree::Ray ray;
      ray.from = from, ray.along = along, ray.least = 0, ray.most = kFar;
      int leaves = 0;
      while (const auto hit = tree_.first_hit(ray)) {
        leaves += face_normal(mesh_, hit->face).dot(along) > 0 ? 1 : -1;
        ray.least = std::nextafter(hit->distance * (1 + 1e-6f), kFar);
      }
      votes += leaves > 0 ? 1 : -1;
    }
    return votes > 0;
  }

  const Mesh& mesh_;
  const FaceTree& tree_;
  const Grid& grid_;
  std::vector<float> distances_;
};

void append(Mesh& mesh, const Mesh& other) {
  const auto first = static_cast<std::uint32_t>(mesh.positions.size());
  const Vector3f shift = (other.origin - mesh.origin).cast<float>();
  for (const Vector3f& p : other.positions) mesh.positions.push_back(p + shift);
  mesh.kinds.resize(mesh.faces.size(), FaceKind::measured);
  for (const Face& f : other.faces) {
    mesh.faces.push_back({f[0] + first, f[1] + first, f[2] + first});
    mesh.kinds.push_back(FaceKind::cut);
  }
  constexpr std::array<std::uint8_t, 3> kGrey = {128, 128, 128};
  if (!mesh.colours.empty()) mesh.colours.resize(mesh.positions.size(), kGrey);
  if (!mesh.support.empty()) mesh.support.resize(mesh.positions.size(), 0.0f);
  if (!mesh.errors.empty()) mesh.errors.resize(mesh.positions.size(), 0.0f);
}

// A round hole through two surfaces, the inner one first along its axis.
class Drain {
 public:
  Drain(Mesh& mesh, std::size_t outer_faces, const HollowOptions& options)
      : mesh_(mesh),
        outer_faces_(outer_faces),
        radius_(0.5 * options.drain),
        along_(options.drain_along.normalized()) {}

  // Nothing is changed where it says what is in the way.
  std::string cut(const Vector3d& through) {
    axis_ = through - mesh_.origin;
    const Mesh whole = mesh_;
    refine();
    const std::string fault = open();
    if (!fault.empty()) mesh_ = whole;
    return fault;
  }

 private:
  Vector3d at(std::uint32_t v) const { return mesh_.positions[v].cast<double>(); }
  double from_axis(const Vector3d& p) const {
    const Vector3d way = p - axis_;
    return (way - way.dot(along_) * along_).norm();
  }

  // Faces about the axis become small against the hole.
  void refine() {
    const double fine = radius_ / 4;
    const MeshSplit split = split_long_edges(
        mesh_,
        [&](const Vector3d& place) {
          const double away = from_axis(place - mesh_.origin) - 1.5 * radius_;
          return fine + std::max(0.0, away);
        },
        mesh_.faces.size() + 4'000'000);
    if (split.empty()) return;
    std::size_t outer = 0;
    for (const std::uint32_t parent : split.parents) outer += parent < outer_faces_;
    // Faces keep the order of those that they are parts of only in part: outer ones come first again.
    Mesh fine_mesh = apply_split(mesh_, split);
    std::vector<std::uint32_t> order(fine_mesh.faces.size());
    for (std::uint32_t f = 0; f < order.size(); ++f) order[f] = f;
    std::stable_sort(order.begin(), order.end(), [&](std::uint32_t a, std::uint32_t b) {
      return (split.parents[a] < outer_faces_) > (split.parents[b] < outer_faces_);
    });
    Mesh sorted = fine_mesh;
    for (std::size_t f = 0; f < order.size(); ++f) {
      sorted.faces[f] = fine_mesh.faces[order[f]];
      if (!sorted.kinds.empty()) sorted.kinds[f] = fine_mesh.kinds[order[f]];
    }
    mesh_ = std::move(sorted);
    outer_faces_ = outer;
  }

  std::string open() {
    Mesh inner = part(false), outer = part(true);
    const auto out = opened(inner, std::numeric_limits<double>::infinity(), true);
    if (!out.fault.empty()) return out.fault;
    const auto in = opened(outer, out.height, false);
    if (!in.fault.empty()) return in.fault;
    Mesh joined = std::move(outer);
    const auto shift = static_cast<std::uint32_t>(joined.positions.size());
    append(joined, inner);
    std::vector<std::uint32_t> inner_ring = out.ring;
    for (std::uint32_t& v : inner_ring) v += shift;
    bridge(joined, in.ring, inner_ring);
    mesh_ = std::move(joined);
    return "";
  }

  Mesh part(bool outer) const {
    std::vector<std::uint8_t> keep(mesh_.faces.size());
    for (std::size_t f = 0; f < keep.size(); ++f) keep[f] = (f < outer_faces_) == outer;
    return pick_faces(mesh_, keep);
  }

  struct Opened {
    std::vector<std::uint32_t> ring;  // as the faces that are left have it, reversed: as new faces have it
    double height = 0;                // along the axis, of what was taken out
    std::string fault;
  };
  // Takes out the piece of the surface within the cylinder that lies first along the axis behind `behind` (infinite:
  // the last piece of all).
  Opened opened(Mesh& mesh, double behind, bool last) const {
    Opened result;
    std::vector<double> field(mesh.positions.size());
    for (std::size_t v = 0; v < field.size(); ++v)
      field[v] = from_axis(mesh.positions[v].cast<double>() + mesh.origin - mesh_.origin) - radius_;
    // Pieces of the surface within the cylinder, by their place along the axis.
    std::vector<std::uint8_t> within(mesh.faces.size(), 0);
    for (std::size_t f = 0; f < within.size(); ++f)
      for (const std::uint32_t v : mesh.faces[f]) within[f] |= !(field[v] > 0);
    Mesh candidates = mesh;
    candidates.faces.clear(), candidates.kinds.clear();
    std::vector<std::uint32_t> number;
    for (std::uint32_t f = 0; f < within.size(); ++f)
      if (within[f]) candidates.faces.push_back(mesh.faces[f]), number.push_back(f);
    const MeshPieces pieces = pieces_of(candidates);
    std::vector<double> heights(pieces.faces.size(), 0), weights(pieces.faces.size(), 0);
    for (std::size_t f = 0; f < candidates.faces.size(); ++f) {
      const double w = face_area(candidates, f);
      Vector3d middle = Vector3d::Zero();
      for (const std::uint32_t v : candidates.faces[f]) middle += mesh.positions[v].cast<double>() / 3;
      heights[pieces.piece[f]] += w * (middle + mesh.origin - mesh_.origin - axis_).dot(along_);
      weights[pieces.piece[f]] += w;
    }
    std::size_t chosen = pieces.faces.size();
    for (std::size_t p = 0; p < pieces.faces.size(); ++p) {
      heights[p] /= std::max(1e-300, weights[p]);
      const bool fits = last ? chosen == pieces.faces.size() || heights[p] > heights[chosen]
                             : heights[p] > behind && (chosen == pieces.faces.size() || heights[p] < heights[chosen]);
      if (fits) chosen = p;
    }
    if (chosen == pieces.faces.size()) {
      result.fault = "the drain hole's axis does not meet the wall";
      return result;
    }
    result.height = heights[chosen];
    // Elsewhere nothing is within.
    std::vector<std::uint8_t> of_piece(mesh.positions.size(), 0), other(mesh.positions.size(), 0);
    for (std::size_t f = 0; f < candidates.faces.size(); ++f)
      for (const std::uint32_t v : candidates.faces[f]) (pieces.piece[f] == chosen ? of_piece : other)[v] = 1;
    for (std::size_t v = 0; v < field.size(); ++v) {
      if (of_piece[v] && other[v] && !(field[v] > 0)) {
        result.fault = "the drain hole meets the wall where it folds back";
        return result;
      }
      if (!of_piece[v]) field[v] = std::max(field[v], radius_);
    }
    constexpr double kLeastShare =
        0.05;  // of an edge: the rim may be off by a hundredth of the hole, and has no slivers
    const FieldParts parts = part_by_field(mesh, field, kLeastShare);
    // One ring around, and no more.
    if (parts.way.empty()) {
      result.fault = "the drain hole is smaller than the faces of the wall";
      return result;
    }
    std::uint32_t v = parts.way.begin()->first;
    do {
      const auto next = parts.way.find(v);
      if (next == parts.way.end() || next->second.size() != 1) break;
      result.ring.push_back(v);
      v = next->second.front();
    } while (v != parts.way.begin()->first && result.ring.size() <= parts.way.size());
    double turned = 0;
    for (std::size_t i = 0; i < result.ring.size(); ++i)
      turned += turn_between(mesh, result.ring[i], result.ring[(i + 1) % result.ring.size()]);
    if (result.ring.size() != parts.way.size() || std::abs(std::abs(turned) - 2 * M_PI) > 0.1) {
      result.fault = "the drain hole does not go through the wall in one round opening";
      return result;
    }
    drop_unused(mesh, result.ring);
    return result;
  }

  double turn_between(const Mesh& mesh, std::uint32_t a, std::uint32_t b) const {
    const auto across = [&](std::uint32_t v) {
      const Vector3d way = mesh.positions[v].cast<double>() + mesh.origin - mesh_.origin - axis_;
      return Vector3d(way - way.dot(along_) * along_);
    };
    const Vector3d p = across(a), q = across(b);
    return std::atan2(along_.dot(p.cross(q)), p.dot(q));
  }

  // drop_unused_vertices with a ring that follows.
  static void drop_unused(Mesh& mesh, std::vector<std::uint32_t>& ring) {
    std::vector<std::uint8_t> used(mesh.positions.size(), 0);
    for (const Face& f : mesh.faces)
      for (const std::uint32_t v : f) used[v] = 1;
    std::vector<std::uint32_t> number(used.size());
    std::uint32_t count = 0;
    for (std::size_t v = 0; v < used.size(); ++v) {
      number[v] = count;
      count += used[v];
    }
    drop_unused_vertices(mesh);
    for (std::uint32_t& v : ring) v = number[v];
  }

  // The wall of the hole: from one ring to the other, by the shorter way across each time.
  void bridge(Mesh& mesh, const std::vector<std::uint32_t>& outer, const std::vector<std::uint32_t>& inner) const {
    // New faces go along a ring against the faces that are there; the rings run against each other.
    std::vector<std::uint32_t> a(outer.rbegin(), outer.rend()), b = inner;
    const auto place = [&](std::uint32_t v) { return mesh.positions[v].cast<double>(); };
    // From the vertex of b that is nearest to a's first, seen along the axis.
    std::size_t start = 0;
    double nearest = std::numeric_limits<double>::infinity();
    for (std::size_t i = 0; i < b.size(); ++i) {
      const double turn = std::abs(turn_between(mesh, a[0], b[i]));
      if (turn < nearest) nearest = turn, start = i;
    }
    std::rotate(b.begin(), b.begin() + static_cast<std::ptrdiff_t>(start), b.end());
    std::size_t i = 0, j = 0;
    while (i < a.size() || j < b.size()) {
      const std::uint32_t p = a[i % a.size()], q = b[j % b.size()], next_p = a[(i + 1) % a.size()],
                          next_q = b[(j + 1) % b.size()];
      const bool along_a = j == b.size() || (i < a.size() && (place(next_p) - place(q)).squaredNorm() <=
                                                                 (place(next_q) - place(p)).squaredNorm());
      mesh.kinds.push_back(FaceKind::cut);
      if (along_a)
        mesh.faces.push_back({p, next_p, q}), ++i;
      else
        mesh.faces.push_back({p, next_q, q}), ++j;
    }
  }

  Mesh& mesh_;
  std::size_t outer_faces_;
  double radius_;
  Vector3d along_, axis_;
};

void check_options(const HollowOptions& o) {
  if (!(o.wall > 0) || !std::isfinite(o.wall) || !(o.drain >= 0) || !(o.step >= 0) || !(o.drain_along.norm() > 0))
    throw Error(ErrorKind::usage, "hollow", "is asked for without a wall, or with a drain that goes nowhere",
                "give a thickness above 0, in the mesh's units, and a direction");
}

Grid grid_around(const Mesh& mesh, double step) {
  Eigen::AlignedBox3d box;
  for (std::size_t v = 0; v < mesh.positions.size(); ++v) box.extend(mesh.position(v));
  Grid grid;
  grid.step = step;
  grid.low = box.min() - Vector3d::Constant(2 * step);
  for (int c = 0; c < 3; ++c)
    grid.nodes[static_cast<std::size_t>(c)] =
        static_cast<int>(std::min(1e6, std::ceil((box.max() - box.min())[c] / step) + 5));
  return grid;
}

}  // namespace

HollowSummary hollow(Mesh& mesh, const HollowOptions& options, const Executor& executor, Monitor& monitor) {
  check_arrays(mesh);
  check_options(options);
  HollowSummary summary;
  const MeshCheck check = check_mesh(mesh, false, executor);
  if (!check.closed() || !check.manifold() || !check.oriented() || check.not_finite > 0) {
    summary.outcome = "not done: the mesh is not closed, manifold and oriented";
    return summary;
  }
  summary.volume_before = summary.volume_after = volume(mesh);
  double step = options.step > 0 ? options.step : 0.5 * options.wall;
  while (grid_around(mesh, step).size() > kMostNodes) step *= 1.1;
  summary.step = step;
  if (step > options.wall) {
    summary.outcome = "not done: the wall is too thin for a body of this size";
    return summary;
  }
  const Executor watched = executor.watching(monitor);
  const Grid grid = grid_around(mesh, step);
  const FaceTree tree(mesh);
  // The plane through a cell's corners lies a little nearer to the surface than the wall is thick where it bends.
  Depths depths(mesh, tree, grid, options.wall + 2 * step, watched, monitor);
  const float wall = static_cast<float>(options.wall);
  for (float& d : depths.values()) d -= wall;
  Mesh room = grid_surface(grid, depths.values());
  if (room.faces.empty()) {
    summary.outcome = "not done: no room is left between the walls";
    return summary;
  }
  SimplifyOptions lighter;
  lighter.error = 0.02 * options.wall;
  simplify(room, lighter, monitor, executor);
  for (Face& f : room.faces) std::swap(f[1], f[2]);  // solid is on the other side
  const MeshPieces rooms = pieces_of(room);
  summary.hollows = rooms.faces.size();
  double least = std::numeric_limits<double>::infinity(), largest = 0;
  Eigen::AlignedBox3d largest_room;
  for (std::size_t f = 0; f < room.faces.size(); ++f)
    for (const std::uint32_t v : room.faces[f]) {
      if (rooms.piece[f] == 0) largest_room.extend(room.position(v));
      const double d =
          std::sqrt(static_cast<double>(tree.nearest((room.position(v) - mesh.origin).cast<float>()).distance2));
      least = std::min(least, d), largest = std::max(largest, d);
    }
  summary.wall_least = least, summary.wall_largest = largest;
  const bool with_normals = !mesh.normals.empty();
  mesh.normals.clear();
  const std::size_t before = mesh.faces.size();
  append(mesh, room);
  summary.outcome = "hollowed";
  if (options.drain > 0) {
    const Vector3d through = options.drain_through ? *options.drain_through : Vector3d(largest_room.center());
    const std::string fault = Drain(mesh, before, options).cut(through);
    summary.drained = fault.empty();
    if (!fault.empty()) summary.outcome = "hollowed, but not drained: " + fault;
  }
  if (with_normals) set_normals(mesh);
  summary.faces = mesh.faces.size() - before;
  summary.volume_after = volume(mesh);
  return summary;
}

}  // namespace icefield
