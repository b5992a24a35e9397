#include "icefield/surface/simplify.h"

#include <fmt/format.h>

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <numeric>
#include <queue>

#include "icefield/base/error.h"

namespace icefield {
namespace {

using Eigen::Vector3d;
using Eigen::Vector3f;

constexpr std::uint32_t kNone = 0xffffffffu;

// Area-weighted sum of squared distances from planes: x'Ax - 2 b'x + c.
struct Quadric {
  double xx = 0, xy = 0, xz = 0, yy = 0, yz = 0, zz = 0, bx = 0, by = 0, bz = 0, c = 0, weight = 0;

  void add(const Quadric& o) {
    xx += o.xx, xy += o.xy, xz += o.xz, yy += o.yy, yz += o.yz, zz += o.zz;
    bx += o.bx, by += o.by, bz += o.bz, c += o.c, weight += o.weight;
  }
  // Distance from the plane through p across n, unit.
  void add_plane(const Vector3d& n, const Vector3d& p, double w) {
    const double d = n.dot(p);
    xx += w * n.x() * n.x(), xy += w * n.x() * n.y(), xz += w * n.x() * n.z();
    yy += w * n.y() * n.y(), yz += w * n.y() * n.z(), zz += w * n.z() * n.z();
    bx += w * n.x() * d, by += w * n.y() * d, bz += w * n.z() * d;
    c += w * d * d;
  }
  // Distance from a point.
  void add_point(const Vector3d& p, double w) {
    xx += w, yy += w, zz += w;
    bx += w * p.x(), by += w * p.y(), bz += w * p.z();
    c += w * p.squaredNorm();
  }
  double at(const Vector3d& p) const {
    const double x = p.x(), y = p.y(), z = p.z();
    return std::max(
        0.0, x * (xx * x + 2 * (xy * y + xz * z - bx)) + y * (yy * y + 2 * (yz * z - by)) + z * (zz * z - 2 * bz) + c);
  }
  // The place of the least value; the hold to the vertices keeps it from running away.
  Vector3d least(const Vector3d& otherwise) const {
    const double a = yy * zz - yz * yz, b = xz * yz - xy * zz, d = xy * yz - xz * yy;
    const double determinant = xx * a + xy * b + xz * d;
    const double size = xx + yy + zz;
    if (!(determinant > 1e-12 * size * size * size)) return otherwise;
    const double e = xx * zz - xz * xz, f = xy * xz - xx * yz, g = xx * yy - xy * xy;
    return Vector3d(a * bx + b * by + d * bz, b * bx + e * by + f * bz, d * bx + f * by + g * bz) / determinant;
  }
};

struct Candidate {
  float cost;
  std::uint32_t from, to;                     // the edge: from < to
  std::uint32_t from_stamp, to_stamp;         // of the vertices when it was judged
  std::uint32_t way = 0;                      // where the vertex goes: 0 the best place, then the middle and both ends
  bool operator<(const Candidate& o) const {  // the least cost first
    if (cost != o.cost) return cost > o.cost;
    return from != o.from ? from > o.from : to != o.to ? to > o.to : way > o.way;
  }
};

std::string outcome_of(const SimplifySummary& summary) {
  return fmt::format("{} of {} faces are left", summary.faces_after, summary.faces_before);
}

class Simplifying {
 public:
  // Named vertices stay where they are: a name for each vertex, kNone for those that may move.
  Simplifying(Mesh& mesh, const SimplifyOptions& options, Monitor& monitor, std::vector<std::uint32_t> names = {})
      : mesh_(mesh), options_(options), monitor_(monitor), names_(std::move(names)) {}

  // Of the vertices that are left, in their order.
  std::vector<std::uint32_t> take_names() { return std::move(names_); }

  SimplifySummary run() {
    SimplifySummary summary;
    summary.faces_before = summary.faces_after = mesh_.faces.size();
    if (mesh_.faces.empty()) {
      summary.outcome = "has no faces";
      return summary;
    }
    region_ = options_.regions;
    budgets_ = region_.empty() ? std::vector<std::size_t>{options_.faces} : options_.region_faces;
    left_.assign(budgets_.size(), 0);
    for (const Face& f : mesh_.faces) ++left_[region_of(f)];
    const std::size_t wanted = std::accumulate(budgets_.begin(), budgets_.end(), std::size_t{0});
    if (!any_over()) {
      summary.outcome = "has no more faces than are wanted";
      return summary;
    }
    link_faces();
    make_quadrics();
    fill_queue();
    std::size_t left = mesh_.faces.size();
    std::size_t steps = 0;
    const double most = options_.error > 0 ? options_.error * options_.error : 1e300;
    std::size_t at_last = left, steps_at_last = 0;
    while (any_over()) {
      // What could not go may do so after much has changed around.
      constexpr double kMuch = 0.7;
      const bool empty = queue_.empty();
      if (empty || static_cast<double>(left) < kMuch * static_cast<double>(at_last)) {
        if (empty && (rejected_.empty() || steps == steps_at_last)) break;
        for (const Candidate& c : rejected_) queue_.push(c);
        rejected_.clear();
        at_last = left, steps_at_last = steps;
        continue;
      }
      const Candidate best = queue_.top();
      queue_.pop();
      if (stamp_[best.from] != best.from_stamp || stamp_[best.to] != best.to_stamp) continue;
      if (!in_budget(best.from, best.to)) continue;
      const Placed placed = place(best.from, best.to, best.way);
      if (placed.error2 > most) continue;
      if (!may_go(best.from, best.to, placed.position)) {
        Candidate other = best;
        other.way = best.way < kWays - 1 ? best.way + 1 : 0;
        other.cost = static_cast<float>(place(other.from, other.to, other.way).cost);
        if (other.way > 0)
          queue_.push(other);
        else
          rejected_.push_back(other);
        continue;
      }
      left -= remove_edge(best.from, best.to, placed.position);
      summary.error = std::max(summary.error, std::sqrt(placed.error2));
      if ((++steps & 0x3fff) == 0) {
        monitor_.progress("simplify", summary.faces_before - left,
                          summary.faces_before - std::min(wanted, summary.faces_before));
        if (monitor_.cancelled()) throw Error(ErrorKind::interrupted, "simplify", "was interrupted", "run it again");
      }
    }
    finish();
    summary.faces_after = mesh_.faces.size();
    summary.outcome = outcome_of(summary);
    return summary;
  }

 private:
  struct Placed {
    Vector3d position;
    double cost = 0, error2 = 0;
  };

  std::size_t region_of(const Face& f) const {
    return region_.empty() ? 0 : std::min({region_[f[0]], region_[f[1]], region_[f[2]]});
  }
  bool any_over() const {
    for (std::size_t r = 0; r < left_.size(); ++r)
      if (over(r)) return true;
    return false;
  }
  // A region without a budget goes on as far as the error allows.
  bool over(std::size_t r) const { return left_[r] > budgets_[r] && (budgets_[r] > 0 || options_.error > 0); }
  bool in_budget(std::uint32_t u, std::uint32_t v) const {
    if (region_.empty()) return true;
    // The faces that go may be of a lower region than both.
    bool spare = over(region_[u]) && over(region_[v]);
    faces_at(u, [&](std::uint32_t f, std::uint32_t) {
      const Face& face = mesh_.faces[f];
      if (face[0] == v || face[1] == v || face[2] == v) spare = spare && over(region_of(face));
    });
    if (!spare) return false;
    if (region_[u] == region_[v]) return true;
    // Faces of the higher region come to the lower one: no more than it has to spare.
    const std::uint32_t high = region_[u] > region_[v] ? u : v;
    std::size_t moved = 0;
    faces_at(high, [&](std::uint32_t f, std::uint32_t) { moved += region_of(mesh_.faces[f]) == region_[high]; });
    return left_[region_[high]] >= budgets_[region_[high]] + moved;
  }

  Vector3d at(std::uint32_t v) const { return mesh_.positions[v].cast<double>(); }

  // Corners of faces in a ring for each vertex: corner 3f + k.
  void link_faces() {
    const std::size_t n = mesh_.positions.size();
    first_.assign(n, kNone);
    next_.resize(3 * mesh_.faces.size());
    for (std::size_t f = mesh_.faces.size(); f-- > 0;)
      for (std::size_t k = 3; k-- > 0;) {
        const std::uint32_t v = mesh_.faces[f][k], c = static_cast<std::uint32_t>(3 * f + k);
        next_[c] = first_[v];
        first_[v] = c;
      }
    gone_.assign(mesh_.faces.size(), 0);
    stamp_.assign(n, 0);
    mark_.assign(n, 0);
  }
  template <class Visit>
  void faces_at(std::uint32_t v, const Visit& visit) const {
    for (std::uint32_t c = first_[v]; c != kNone; c = next_[c])
      if (!gone_[c / 3]) visit(c / 3, c % 3);
  }

  void make_quadrics() {
    quadrics_.assign(mesh_.positions.size(), Quadric());
    border_.assign(mesh_.positions.size(), 0);
    constexpr double kHold = 1e-3;  // of a vertex to its place, against the planes about it
    for (std::size_t f = 0; f < mesh_.faces.size(); ++f) {
      const Face& face = mesh_.faces[f];
      const Vector3d a = at(face[0]), n2 = (at(face[1]) - a).cross(at(face[2]) - a);
      const double twice = n2.norm();
      if (!(twice > 0)) continue;
      const double dear =
          options_.dearness.empty()
              ? 1.0
              : (options_.dearness[face[0]] + options_.dearness[face[1]] + options_.dearness[face[2]]) / 3.0;
      const double w = twice / 6 * dear;  // a third of its area to each corner
      for (const std::uint32_t v : face) {
        quadrics_[v].add_plane(n2 / twice, a, w);
        quadrics_[v].add_point(at(v), kHold * w);
        quadrics_[v].weight += w;
      }
    }
    const MeshEdges edges = edges_of(mesh_);
    for (const MeshEdges::Edge& e : edges.edges) {
      if (e.count == 2) continue;
      border_[e.low] = border_[e.high] = 1;
      const Vector3d along = at(e.high) - at(e.low);
      for (std::uint32_t k = 0; k < e.count; ++k) {
        const Vector3d across = along.cross(face_normal(mesh_, edges.faces[e.first + k]).cast<double>());
        if (!(across.norm() > 0)) continue;
        const double w = options_.border_weight * along.squaredNorm() / 2;
        for (const std::uint32_t v : {e.low, e.high}) quadrics_[v].add_plane(across.normalized(), at(e.low), w);
      }
    }
  }

  static constexpr std::uint32_t kWays = 4;
  Placed place(std::uint32_t u, std::uint32_t v, std::uint32_t way = 0) const {
    Quadric q = quadrics_[u];
    q.add(quadrics_[v]);
    const Vector3d a = at(u), b = at(v);
    Placed placed;
    if (stays(u)) way = 2;
    if (stays(v)) way = 3;
    placed.position = way == 0 ? q.least(0.5 * (a + b)) : way == 1 ? Vector3d(0.5 * (a + b)) : way == 2 ? a : b;
    // Far away from an edge nothing of its vertices holds.
    const double length2 = (a - b).squaredNorm();
    if (way == 0 && !((placed.position - 0.5 * (a + b)).squaredNorm() < 4 * length2)) {
      placed.position = 0.5 * (a + b);
      for (const Vector3d& end : {a, b})
        if (q.at(end) < q.at(placed.position)) placed.position = end;
    }
    placed.cost = q.at(placed.position);
    placed.error2 = q.weight > 0 ? placed.cost / q.weight : 0;
    return placed;
  }

  bool stays(std::uint32_t v) const { return !names_.empty() && names_[v] != kNone; }

  void consider(std::uint32_t u, std::uint32_t v) {
    if (u > v) std::swap(u, v);
    if (stays(u) && stays(v)) return;
    queue_.push({static_cast<float>(place(u, v).cost), u, v, stamp_[u], stamp_[v]});
  }

  void fill_queue() {
    std::vector<Candidate> all;
    const MeshEdges edges = edges_of(mesh_);
    all.reserve(edges.edges.size());
    for (const MeshEdges::Edge& e : edges.edges) {
      if (e.low == e.high || e.count > 2 || (stays(e.low) && stays(e.high))) continue;
      all.push_back({static_cast<float>(place(e.low, e.high).cost), e.low, e.high, 0, 0});
    }
    queue_ = std::priority_queue<Candidate>(std::less<Candidate>(), std::move(all));
  }

  // Whether the surface stays manifold, and no face turns over or becomes a sliver worse than it was.
  bool may_go(std::uint32_t u, std::uint32_t v, const Vector3d& to) {
    ++round_;
    std::size_t shared = 0, common = 0;
    faces_at(u, [&](std::uint32_t f, std::uint32_t) {
      const Face& face = mesh_.faces[f];
      shared += face[0] == v || face[1] == v || face[2] == v;
      for (const std::uint32_t w : face) mark_[w] = round_;
    });
    if (shared == 0 || shared > 2) return false;
    const std::uint32_t seen = round_++;
    faces_at(v, [&](std::uint32_t f, std::uint32_t) {
      for (const std::uint32_t w : mesh_.faces[f]) {
        if (w == u || w == v || mark_[w] != seen) continue;
        mark_[w] = round_;
        ++common;
      }
    });
    if (common != shared) return false;
    if (stays(u) || stays(v)) {
      // No new edge between two that stay: others may have it already.
      const std::uint32_t held = stays(u) ? u : v, loose = stays(u) ? v : u;
      ++round_;
      faces_at(held, [&](std::uint32_t f, std::uint32_t) {
        for (const std::uint32_t w : mesh_.faces[f]) mark_[w] = round_;
      });
      bool known = true;
      faces_at(loose, [&](std::uint32_t f, std::uint32_t) {
        for (const std::uint32_t w : mesh_.faces[f]) known = known && (!stays(w) || mark_[w] == round_);
      });
      if (!known) return false;
    }
    // A vertex between three faces of which two go would be left between two that lie on each other.
    bool thin = false;
    faces_at(u, [&](std::uint32_t f, std::uint32_t) {
      const Face& face = mesh_.faces[f];
      if (face[0] != v && face[1] != v && face[2] != v) return;
      for (const std::uint32_t w : face) {
        if (w == u || w == v || border_[w]) continue;
        std::size_t faces = 0;
        faces_at(w, [&](std::uint32_t, std::uint32_t) { ++faces; });
        thin |= faces <= 3;
      }
    });
    if (thin) return false;
    // Two borders that meet in an edge between them would touch.
    if (shared == 2 && border_[u] && border_[v]) return false;
    bool good = true;
    const auto keeps_faces = [&](std::uint32_t from, std::uint32_t other) {
      faces_at(from, [&](std::uint32_t f, std::uint32_t k) {
        if (!good) return;
        const Face& face = mesh_.faces[f];
        if (face[0] == other || face[1] == other || face[2] == other) return;
        const Vector3d a = at(face[(k + 1) % 3]), b = at(face[(k + 2) % 3]), was = at(from);
        const Vector3d before = (a - was).cross(b - was), after = (a - to).cross(b - to);
        const double n = before.norm(), m = after.norm();
        constexpr double kTurn = 0.2, kSliver = 0.01;
        if (!(m > 0) || (n > 0 && before.dot(after) < kTurn * n * m)) {
          good = false;
          return;
        }
        const auto shape = [&](const Vector3d& p, double area2) {
          return area2 / ((a - p).squaredNorm() + (b - p).squaredNorm() + (a - b).squaredNorm());
        };
        good = shape(to, m) > std::min(kSliver, 0.9 * shape(was, n));
      });
    };
    keeps_faces(u, v);
    if (good) keeps_faces(v, u);
    return good;
  }

  template <class T>
  static T between(const T& a, const T& b, double t) {
    return static_cast<T>(a + t * (b - a));
  }

  std::size_t remove_edge(std::uint32_t u, std::uint32_t v, const Vector3d& to) {
    const Vector3d a = at(u), b = at(v);
    const double length2 = (b - a).squaredNorm();
    const double t = length2 > 0 ? std::clamp((to - a).dot(b - a) / length2, 0.0, 1.0) : 0.5;
    if (!mesh_.colours.empty())
      for (std::size_t c = 0; c < 3; ++c)
        mesh_.colours[u][c] = static_cast<std::uint8_t>(
            std::lround(mesh_.colours[u][c] + t * (mesh_.colours[v][c] - mesh_.colours[u][c])));
    if (!mesh_.support.empty()) mesh_.support[u] = between(mesh_.support[u], mesh_.support[v], t);
    if (!mesh_.errors.empty()) mesh_.errors[u] = between(mesh_.errors[u], mesh_.errors[v], t);
    mesh_.positions[u] = to.cast<float>();
    quadrics_[u].add(quadrics_[v]);
    border_[u] |= border_[v];
    if (stays(v)) names_[u] = names_[v];
    const auto faces_of_both = [&](const auto& visit) {
      faces_at(u, [&](std::uint32_t f, std::uint32_t) { visit(f); });
      faces_at(v, [&](std::uint32_t f, std::uint32_t) {
        const Face& face = mesh_.faces[f];
        if (face[0] != u && face[1] != u && face[2] != u) visit(f);
      });
    };
    if (!region_.empty()) {
      faces_of_both([&](std::uint32_t f) { --left_[region_of(mesh_.faces[f])]; });
      region_[u] = std::min(region_[u], region_[v]);
    }
    std::size_t removed = 0;
    std::uint32_t last = kNone;
    for (std::uint32_t c = first_[v]; c != kNone; c = next_[c]) {
      last = c;
      const std::uint32_t f = c / 3;
      if (gone_[f]) continue;
      Face& face = mesh_.faces[f];
      if (face[0] == u || face[1] == u || face[2] == u) {
        gone_[f] = 1;
        ++removed;
      } else {
        face[c % 3] = u;
      }
    }
    // The faces of v join those of u.
    if (last != kNone) next_[last] = first_[u], first_[u] = first_[v];
    first_[v] = kNone;
    ++stamp_[v];
    ++stamp_[u];
    compact(u);
    neighbours_.clear();
    ++round_;
    mark_[u] = round_;
    faces_at(u, [&](std::uint32_t f, std::uint32_t) {
      for (const std::uint32_t w : mesh_.faces[f])
        if (mark_[w] != round_) mark_[w] = round_, neighbours_.push_back(w);
    });
    for (const std::uint32_t w : neighbours_) consider(u, w);
    if (region_.empty())
      left_[0] -= removed;
    else
      faces_at(u, [&](std::uint32_t f, std::uint32_t) { ++left_[region_of(mesh_.faces[f])]; });
    return removed;
  }
  // Corners of faces that are gone leave the ring.
  void compact(std::uint32_t v) {
    std::uint32_t* link = &first_[v];
    while (*link != kNone) {
      if (gone_[*link / 3])
        *link = next_[*link];
      else
        link = &next_[*link];
    }
  }

  void finish() {
    std::size_t place = 0;
    for (std::size_t f = 0; f < mesh_.faces.size(); ++f) {
      if (gone_[f]) continue;
      mesh_.faces[place] = mesh_.faces[f];
      if (!mesh_.kinds.empty()) mesh_.kinds[place] = mesh_.kinds[f];
      ++place;
    }
    mesh_.faces.resize(place);
    if (!mesh_.kinds.empty()) mesh_.kinds.resize(place);
    if (!names_.empty()) {
      std::vector<std::uint8_t> used(names_.size(), 0);
      for (const Face& f : mesh_.faces)
        for (const std::uint32_t v : f) used[v] = 1;
      std::size_t kept = 0;
      for (std::size_t v = 0; v < names_.size(); ++v)
        if (used[v]) names_[kept++] = names_[v];
      names_.resize(kept);
    }
    drop_unused_vertices(mesh_);
    if (!mesh_.normals.empty()) set_normals(mesh_);
  }

  Mesh& mesh_;
  const SimplifyOptions& options_;
  Monitor& monitor_;
  std::vector<std::uint32_t> first_, next_, stamp_, mark_, neighbours_;
  std::vector<std::uint8_t> gone_, border_;
  std::vector<std::uint32_t> names_;
  std::vector<std::uint8_t> region_;         // by vertex; empty: all one
  std::vector<std::size_t> budgets_, left_;  // faces by region
  std::vector<Quadric> quadrics_;
  std::priority_queue<Candidate> queue_;
  std::vector<Candidate> rejected_;
  std::uint32_t round_ = 0;
};

// Faces in blocks of no more than `most`, halved across their longest side: by block the faces' numbers, in order.
std::vector<std::vector<std::uint32_t>> blocks_of_faces(const Mesh& mesh, std::size_t most) {
  std::vector<std::vector<std::uint32_t>> blocks, open(1);
  open[0].resize(mesh.faces.size());
  std::iota(open[0].begin(), open[0].end(), 0u);
  const auto middle = [&](std::uint32_t f, int axis) {
    const Face& face = mesh.faces[f];
    return mesh.positions[face[0]][axis] + mesh.positions[face[1]][axis] + mesh.positions[face[2]][axis];
  };
  while (!open.empty()) {
    std::vector<std::uint32_t> block = std::move(open.back());
    open.pop_back();
    if (block.size() <= most) {
      std::sort(block.begin(), block.end());
      blocks.push_back(std::move(block));
      continue;
    }
    Eigen::AlignedBox3f box;
    for (const std::uint32_t f : block) box.extend(mesh.positions[mesh.faces[f][0]]);
    int axis = 0;
    box.sizes().maxCoeff(&axis);
    const auto half = block.begin() + static_cast<std::ptrdiff_t>(block.size() / 2);
    std::nth_element(block.begin(), half, block.end(), [&](std::uint32_t f, std::uint32_t g) {
      const float a = middle(f, axis), b = middle(g, axis);
      return a != b ? a < b : f < g;
    });
    open.emplace_back(half, block.end());
    block.erase(half, block.end());
    open.push_back(std::move(block));
  }
  return blocks;
}

template <class T>
void take_row(const std::vector<T>& from, std::size_t i, std::vector<T>& to) {
  if (!from.empty()) to.push_back(from[i]);
}
template <class T>
void put_row(const std::vector<T>& from, std::size_t i, std::vector<T>& to, std::size_t at) {
  if (from.empty()) return;
  if (to.size() <= at) to.resize(at + 1);
  to[at] = from[i];
}

// Each block by itself, its vertices that other blocks share held in place: what lies between them goes with the whole
// mesh afterwards.
void simplify_blocks(Mesh& mesh, const SimplifyOptions& options, std::size_t most, double share,
                     const Executor& executor, Monitor& monitor) {
  const std::vector<std::vector<std::uint32_t>> blocks = blocks_of_faces(mesh, most);
  // The block of a vertex; kShared: of several.
  constexpr std::uint32_t kShared = kNone - 1;
  std::vector<std::uint32_t> home(mesh.positions.size(), kNone);
  for (std::uint32_t b = 0; b < blocks.size(); ++b)
    for (const std::uint32_t f : blocks[b])
      for (const std::uint32_t v : mesh.faces[f]) home[v] = home[v] == kNone || home[v] == b ? b : kShared;
  struct Part {
    Mesh mesh;
    std::vector<std::uint32_t> names;
  };
  std::vector<Part> parts(blocks.size());
  executor.run("simplify blocks", blocks.size(), monitor, [&](std::size_t b) {
    Part& part = parts[b];
    std::vector<std::uint32_t> source;
    source.reserve(3 * blocks[b].size());
    for (const std::uint32_t f : blocks[b]) source.insert(source.end(), mesh.faces[f].begin(), mesh.faces[f].end());
    std::sort(source.begin(), source.end());
    source.erase(std::unique(source.begin(), source.end()), source.end());
    for (const std::uint32_t v : source) {
      part.mesh.positions.push_back(mesh.positions[v]);
      take_row(mesh.colours, v, part.mesh.colours);
      take_row(mesh.support, v, part.mesh.support);
      take_row(mesh.errors, v, part.mesh.errors);
      part.names.push_back(home[v] == kShared ? v : kNone);
    }
    for (const std::uint32_t f : blocks[b]) {
      Face face = mesh.faces[f];
      for (std::uint32_t& v : face)
        v = static_cast<std::uint32_t>(std::lower_bound(source.begin(), source.end(), v) - source.begin());
      part.mesh.faces.push_back(face);
      take_row(mesh.kinds, f, part.mesh.kinds);
    }
    SimplifyOptions own;
    // Amidst vertices that stay, what is left must not be much coarser than they are.
    constexpr std::size_t kForEach = 8;
    const auto held =
        part.names.size() - static_cast<std::size_t>(std::count(part.names.begin(), part.names.end(), kNone));
    own.faces = std::max(static_cast<std::size_t>(share * static_cast<double>(blocks[b].size())), kForEach * held);
    own.border_weight = options.border_weight;
    Simplifying work(part.mesh, own, silent_monitor(), std::move(part.names));
    work.run();
    part.names = work.take_names();
  });
  Mesh joined;
  joined.origin = mesh.origin, joined.datum = mesh.datum;
  // Shared vertices first, then block by block.
  std::vector<std::uint32_t>& place = home;
  std::uint32_t count = 0;
  for (std::uint32_t v = 0; v < place.size(); ++v) place[v] = place[v] == kShared ? count++ : kNone;
  const bool with_normals = !mesh.normals.empty();
  mesh = Mesh();
  for (Part& part : parts) {
    std::vector<std::uint32_t> to(part.names.size());
    for (std::size_t v = 0; v < to.size(); ++v) {
      to[v] = part.names[v] == kNone ? count++ : place[part.names[v]];
      put_row(part.mesh.positions, v, joined.positions, to[v]);
      put_row(part.mesh.colours, v, joined.colours, to[v]);
      put_row(part.mesh.support, v, joined.support, to[v]);
      put_row(part.mesh.errors, v, joined.errors, to[v]);
    }
    for (std::size_t f = 0; f < part.mesh.faces.size(); ++f) {
      const Face& face = part.mesh.faces[f];
      joined.faces.push_back({to[face[0]], to[face[1]], to[face[2]]});
      take_row(part.mesh.kinds, f, joined.kinds);
    }
    part = Part();
  }
  mesh = std::move(joined);
  if (with_normals) mesh.normals.resize(mesh.positions.size());  // made anew at the end
}

}  // namespace

SimplifySummary simplify(Mesh& mesh, const SimplifyOptions& options, Monitor& monitor, const Executor& executor) {
  check_arrays(mesh);
  if (options.error < 0 || !(options.border_weight >= 0) ||
      (!options.dearness.empty() && options.dearness.size() != mesh.positions.size()) ||
      (!options.regions.empty() && options.regions.size() != mesh.positions.size()))
    throw Error(ErrorKind::usage, "simplify",
                "is asked for with a negative error or border weight, or with a dearness or region that is not by "
                "vertex",
                "give each at least 0, and one for each vertex");
  for (const std::uint8_t r : options.regions)
    if (r >= options.region_faces.size())
      throw Error(ErrorKind::usage, "simplify", "is asked for with a region that has no budget",
                  "give the faces of each region");
  // What takes long and much memory goes in blocks, down to this many times the faces that are wanted.
  constexpr double kAbove = 2;
  const double share = kAbove * static_cast<double>(options.faces) / static_cast<double>(mesh.faces.size());
  const std::size_t before = mesh.faces.size();
  if (before > options.many && share < 0.5 && options.faces > 0 && !(options.error > 0) && options.dearness.empty() &&
      options.regions.empty())
    simplify_blocks(mesh, options, std::max<std::size_t>(1, options.many / 8), share, executor, monitor);
  SimplifySummary summary = Simplifying(mesh, options, monitor).run();
  if (summary.faces_before == before) return summary;
  if (summary.faces_after == summary.faces_before && !mesh.normals.empty()) set_normals(mesh);
  summary.faces_before = before;
  summary.outcome = outcome_of(summary);
  return summary;
}

}  // namespace icefield
