#include "icefield/surface/remesh.h"

#include <fmt/format.h>

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <set>

#include "icefield/base/error.h"
#include "icefield/surface/split_edges.h"
#include "src/surface/face_tree.h"
#include "src/surface/vertex_fans.h"

namespace icefield {
namespace {

using Eigen::Vector3d;
using Eigen::Vector3f;

constexpr double kLongest = 4.0 / 3, kShortest = 4.0 / 5;

// What a vertex may do.
enum class Freedom : std::uint8_t { surface, line, none };

class Remeshing {
 public:
  Remeshing(Mesh& mesh, const RemeshOptions& options, const Executor& executor, Monitor& monitor)
      : mesh_(mesh),
        options_(options),
        executor_(executor.watching(monitor)),
        monitor_(monitor),
        before_(mesh),
        tree_(before_) {
    mesh_.kinds.clear();
  }

  void run() {
    for (int round = 0; round < options_.rounds; ++round) {
      monitor_.progress("remesh", static_cast<std::size_t>(round), static_cast<std::size_t>(options_.rounds));
      monitor_.check();
      part_long_edges();
      join_short_edges();
      turn_edges();
      even_out();
    }
    if (!before_.kinds.empty()) {
      mesh_.kinds.resize(mesh_.faces.size());
      executor_.blocks(mesh_.faces.size(), 1024, [&](std::size_t, std::size_t begin, std::size_t end) {
        for (std::size_t f = begin; f < end; ++f) {
          Vector3f middle = Vector3f::Zero();
          for (const std::uint32_t v : mesh_.faces[f]) middle += mesh_.positions[v] / 3;
          mesh_.kinds[f] = before_.kinds[tree_.nearest(middle).face];
        }
      });
    }
    if (!before_.normals.empty()) set_normals(mesh_);
    monitor_.progress("remesh", static_cast<std::size_t>(options_.rounds), static_cast<std::size_t>(options_.rounds));
  }

 private:
  Vector3d at(std::uint32_t v) const { return mesh_.positions[v].cast<double>(); }
  double length(std::uint32_t a, std::uint32_t b) const { return (at(a) - at(b)).norm(); }

  void part_long_edges() {
    const double limit = kLongest * options_.edge;
    // Middles first, then again, until nothing is too long.
    const MeshSplit split = split_long_edges(
        mesh_, [&](const Vector3d&) { return limit; }, std::max<std::size_t>(mesh_.faces.size(), 200'000'000));
    if (!split.empty()) mesh_ = apply_split(mesh_, split);
  }

  // Edges that keep their course: borders, and where faces meet at an angle. A vertex with two of them slides along,
  // one with another number of them stays.
  void find_lines() {
    edges_ = edges_of(mesh_);
    line_.assign(edges_.edges.size(), 0);
    std::vector<std::uint32_t> lines(mesh_.positions.size(), 0);
    const double flat = std::cos(options_.edge_angle);
    for (std::size_t e = 0; e < edges_.edges.size(); ++e) {
      const MeshEdges::Edge& edge = edges_.edges[e];
      line_[e] =
          edge.count != 2 ||
          face_normal(mesh_, edges_.faces[edge.first]).dot(face_normal(mesh_, edges_.faces[edge.first + 1])) < flat;
      lines[edge.low] += line_[e], lines[edge.high] += line_[e];
    }
    freedom_.assign(mesh_.positions.size(), Freedom::surface);
    for (std::size_t v = 0; v < lines.size(); ++v)
      if (lines[v] > 0) freedom_[v] = lines[v] == 2 ? Freedom::line : Freedom::none;
    // A line that turns sharply has a corner.
    std::vector<std::array<std::uint32_t, 2>> along(mesh_.positions.size());
    std::vector<std::uint8_t> known(mesh_.positions.size(), 0);
    for (std::size_t e = 0; e < edges_.edges.size(); ++e) {
      if (!line_[e]) continue;
      const MeshEdges::Edge& edge = edges_.edges[e];
      if (freedom_[edge.low] == Freedom::line) along[edge.low][known[edge.low]++] = edge.high;
      if (freedom_[edge.high] == Freedom::line) along[edge.high][known[edge.high]++] = edge.low;
    }
    constexpr double kStraight = -0.7;  // cosine of the angle between both ways
    for (std::uint32_t v = 0; v < known.size(); ++v)
      if (known[v] == 2 &&
          (at(along[v][0]) - at(v)).normalized().dot((at(along[v][1]) - at(v)).normalized()) > kStraight)
        freedom_[v] = Freedom::none;
  }

  // The shortest first; each vertex takes part in one joining of a round at the most.
  void join_short_edges() {
    for (int pass = 0; pass < 4; ++pass) {
      find_lines();
      const VertexFaces around(mesh_);
      std::vector<std::uint32_t> short_ones;
      for (std::uint32_t e = 0; e < edges_.edges.size(); ++e)
        if (length(edges_.edges[e].low, edges_.edges[e].high) < kShortest * options_.edge) short_ones.push_back(e);
      std::sort(short_ones.begin(), short_ones.end(), [&](std::uint32_t a, std::uint32_t b) {
        const double p = length(edges_.edges[a].low, edges_.edges[a].high),
                     q = length(edges_.edges[b].low, edges_.edges[b].high);
        return p != q ? p < q : a < b;
      });
      std::vector<std::uint8_t> touched(mesh_.positions.size(), 0);
      std::vector<std::uint32_t> becomes(mesh_.positions.size());
      for (std::uint32_t v = 0; v < becomes.size(); ++v) becomes[v] = v;
      std::size_t joined = 0;
      for (const std::uint32_t e : short_ones) {
        std::uint32_t keep = edges_.edges[e].low, go = edges_.edges[e].high;
        if (freedom_[go] < freedom_[keep]) std::swap(keep, go);  // the freer one goes
        // Lines are joined along themselves alone; what stays in place does not go.
        if (freedom_[go] == Freedom::none || (freedom_[go] == Freedom::line && !line_[e])) {
          std::swap(keep, go);
          if (freedom_[go] == Freedom::none || (freedom_[go] == Freedom::line && !line_[e])) continue;
        }
        const Vector3d to = freedom_[keep] == freedom_[go] ? Vector3d(0.5 * (at(keep) + at(go))) : at(keep);
        if (!may_join(keep, go, to, around, touched)) continue;
        for (const std::uint32_t v : {keep, go})
          for (const std::uint32_t f : around.of(v))
            for (const std::uint32_t w : mesh_.faces[f]) touched[w] = 1;
        becomes[go] = keep;
        const double span = length(keep, go), share = span > 0 ? (to - at(keep)).norm() / span : 0;
        blend(keep, go, share);
        mesh_.positions[keep] = to.cast<float>();
        ++joined;
      }
      if (joined == 0) break;
      std::size_t place = 0;
      for (Face f : mesh_.faces) {
        for (std::uint32_t& v : f) v = becomes[v];
        if (f[0] != f[1] && f[1] != f[2] && f[2] != f[0]) mesh_.faces[place++] = f;
      }
      mesh_.faces.resize(place);
      drop_unused_vertices(mesh_);
    }
  }

  void blend(std::uint32_t keep, std::uint32_t go, double share) {
    if (!mesh_.colours.empty())
      for (std::size_t c = 0; c < 3; ++c)
        mesh_.colours[keep][c] = static_cast<std::uint8_t>(
            std::lround(mesh_.colours[keep][c] + share * (mesh_.colours[go][c] - mesh_.colours[keep][c])));
    const auto mix = [&](std::vector<float>& of) {
      if (!of.empty()) of[keep] += static_cast<float>(share) * (of[go] - of[keep]);
    };
    mix(mesh_.support), mix(mesh_.errors);
  }

  bool may_join(std::uint32_t keep, std::uint32_t go, const Vector3d& to, const VertexFaces& around,
                const std::vector<std::uint8_t>& touched) {
    // Nothing around has changed in this pass.
    std::vector<std::uint32_t>& ring = ring_;
    ring.clear();
    std::size_t shared = 0, common = 0;
    for (const std::uint32_t f : around.of(keep)) {
      const Face& face = mesh_.faces[f];
      shared += face[0] == go || face[1] == go || face[2] == go;
      for (const std::uint32_t w : face) {
        if (touched[w]) return false;
        if (w != keep && w != go) ring.push_back(w);
      }
    }
    std::sort(ring.begin(), ring.end());
    ring.erase(std::unique(ring.begin(), ring.end()), ring.end());
    std::vector<std::uint32_t>& others = others_;
    others.clear();
    for (const std::uint32_t f : around.of(go))
      for (const std::uint32_t w : mesh_.faces[f]) {
        if (touched[w]) return false;
        if (w != keep && w != go) others.push_back(w);
      }
    std::sort(others.begin(), others.end());
    others.erase(std::unique(others.begin(), others.end()), others.end());
    for (const std::uint32_t w : others) {
      if (!std::binary_search(ring.begin(), ring.end(), w)) {
        if ((to - at(w)).norm() > kLongest * options_.edge) return false;  // it would be parted again
        continue;
      }
      ++common;
      if (around.of(w).size() <= 3) return false;
    }
    if (shared == 0 || shared > 2 || common != shared) return false;
    for (const std::uint32_t w : ring)
      if ((to - at(w)).norm() > kLongest * options_.edge) return false;
    const auto stays = [&](std::uint32_t from, std::uint32_t other) {
      for (const std::uint32_t f : around.of(from)) {
        const Face& face = mesh_.faces[f];
        if (face[0] == other || face[1] == other || face[2] == other) continue;
        std::array<Vector3d, 3> was, is;
        for (std::size_t k = 0; k < 3; ++k) was[k] = at(face[k]), is[k] = face[k] == from ? to : was[k];
        if (turns_over(was, is)) return false;
      }
      return true;
    };
    return stays(keep, go) && stays(go, keep);
  }
  static bool turns_over(const std::array<Vector3d, 3>& was, const std::array<Vector3d, 3>& is) {
    const Vector3d before = (was[1] - was[0]).cross(was[2] - was[0]), after = (is[1] - is[0]).cross(is[2] - is[0]);
    constexpr double kTurn = 0.5;
    return !(after.norm() > 0) || before.dot(after) < kTurn * before.norm() * after.norm();
  }

  // Edges whose other diagonal brings the numbers of faces nearer to six (to four on a line).
  void turn_edges() {
    find_lines();
    std::vector<int> valence(mesh_.positions.size(), 0);
    for (const MeshEdges::Edge& e : edges_.edges) ++valence[e.low], ++valence[e.high];
    std::vector<std::uint8_t> touched(mesh_.faces.size(), 0);
    const auto off = [&](std::uint32_t v, int change) {
      const int wanted = freedom_[v] == Freedom::surface ? 6 : 5;
      return std::abs(valence[v] + change - wanted);
    };
    // Edges that there are: one is not made twice.
    const auto there = [&](std::uint32_t a, std::uint32_t b) {
      const auto key = std::minmax(a, b);
      const auto found =
          std::lower_bound(edges_.edges.begin(), edges_.edges.end(), std::pair(key.first, key.second),
                           [](const MeshEdges::Edge& e, const auto& k) { return std::pair(e.low, e.high) < k; });
      return found != edges_.edges.end() && found->low == key.first && found->high == key.second;
    };
    std::set<std::pair<std::uint32_t, std::uint32_t>> made;
    for (std::size_t e = 0; e < edges_.edges.size(); ++e) {
      const MeshEdges::Edge& edge = edges_.edges[e];
      if (line_[e] || edge.count != 2) continue;
      const std::uint32_t f = edges_.faces[edge.first], g = edges_.faces[edge.first + 1];
      if (touched[f] || touched[g]) continue;
      const auto opposite = [&](std::uint32_t face) {
        for (const std::uint32_t v : mesh_.faces[face])
          if (v != edge.low && v != edge.high) return v;
        return edge.low;
      };
      const std::uint32_t c = opposite(f), d = opposite(g);
      const std::pair<std::uint32_t, std::uint32_t> key = std::minmax(c, d);
      if (c == d || there(c, d) || made.count(key) > 0) continue;
      const int now = off(edge.low, 0) + off(edge.high, 0) + off(c, 0) + off(d, 0),
                then = off(edge.low, -1) + off(edge.high, -1) + off(c, 1) + off(d, 1);
      if (then >= now) continue;
      // f goes around from a to b over c.
      std::uint32_t a = edge.low, b = edge.high;
      for (std::size_t k = 0; k < 3; ++k)
        if (mesh_.faces[f][k] == edge.high && mesh_.faces[f][(k + 1) % 3] == edge.low) std::swap(a, b);
      const Vector3d n =
          (at(b) - at(a)).cross(at(c) - at(a)).normalized() + (at(a) - at(b)).cross(at(d) - at(b)).normalized();
      const Vector3d first = (at(d) - at(a)).cross(at(c) - at(a)), second = (at(c) - at(b)).cross(at(d) - at(b));
      constexpr double kFlat = 0.6;
      if (!(first.dot(n) > kFlat * first.norm() * n.norm()) || !(second.dot(n) > kFlat * second.norm() * n.norm()))
        continue;
      mesh_.faces[f] = {a, d, c};
      mesh_.faces[g] = {b, c, d};
      touched[f] = touched[g] = 1;
      --valence[a], --valence[b], ++valence[c], ++valence[d];
      made.insert(key);
    }
  }

  // To the middle of the neighbours along the surface, then onto the mesh as it was.
  void even_out() {
    find_lines();
    std::vector<std::uint32_t> first(mesh_.positions.size() + 1, 0), neighbours;
    std::vector<std::uint8_t> of_line;
    for (const MeshEdges::Edge& e : edges_.edges) ++first[e.low + 1], ++first[e.high + 1];
    for (std::size_t v = 1; v < first.size(); ++v) first[v] += first[v - 1];
    neighbours.resize(first.back()), of_line.resize(first.back());
    std::vector<std::uint32_t> next(first.begin(), first.end() - 1);
    for (std::size_t e = 0; e < edges_.edges.size(); ++e) {
      const MeshEdges::Edge& edge = edges_.edges[e];
      of_line[next[edge.low]] = line_[e], neighbours[next[edge.low]++] = edge.high;
      of_line[next[edge.high]] = line_[e], neighbours[next[edge.high]++] = edge.low;
    }
    Mesh with_normals;
    with_normals.origin = mesh_.origin, with_normals.positions = mesh_.positions, with_normals.faces = mesh_.faces;
    set_normals(with_normals);
    std::vector<Vector3f> moved(mesh_.positions.size());
    executor_.blocks(moved.size(), 1024, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t v = begin; v < end; ++v) {
        moved[v] = mesh_.positions[v];
        if (freedom_[v] == Freedom::none) continue;
        Vector3d sum = Vector3d::Zero();
        int count = 0;
        for (std::uint32_t k = first[v]; k < first[v + 1]; ++k) {
          if (freedom_[v] == Freedom::line && !of_line[k]) continue;
          sum += at(neighbours[k]);
          ++count;
        }
        if (count == 0) continue;
        Vector3d way = sum / count - mesh_.positions[v].cast<double>();
        if (freedom_[v] == Freedom::surface) {
          const Vector3d n = with_normals.normals[v].cast<double>();
          way -= n.dot(way) * n;
          moved[v] = tree_.nearest((mesh_.positions[v].cast<double>() + way).cast<float>()).place;
        } else {
          // Along its line, which it stays on: to the nearer neighbour's side of it.
          constexpr double kSlide = 0.5;
          Vector3d along = Vector3d::Zero();
          for (std::uint32_t k = first[v]; k < first[v + 1]; ++k) {
            const Vector3d to = at(neighbours[k]) - mesh_.positions[v].cast<double>();
            if (of_line[k] && to.dot(way) > 0 && to.norm() > 0) along = to.normalized();
          }
          moved[v] += (kSlide * way.dot(along) * along).cast<float>();
        }
      }
    });
    // Where a face would turn over, its vertices stay.
    for (int again = 0; again < 3; ++again) {
      bool all = true;
      for (const Face& f : mesh_.faces) {
        std::array<Vector3d, 3> was, is;
        for (std::size_t k = 0; k < 3; ++k) was[k] = at(f[k]), is[k] = moved[f[k]].cast<double>();
        if (!turns_over(was, is)) continue;
        all = false;
        for (const std::uint32_t v : f) moved[v] = mesh_.positions[v];
      }
      if (all) break;
    }
    for (const Face& f : mesh_.faces) {
      std::array<Vector3d, 3> was, is;
      for (std::size_t k = 0; k < 3; ++k) was[k] = at(f[k]), is[k] = moved[f[k]].cast<double>();
      if (turns_over(was, is)) return;  // this round moves nothing
    }
    mesh_.positions = std::move(moved);
  }

  Mesh& mesh_;
  const RemeshOptions& options_;
  const Executor executor_;
  Monitor& monitor_;
  const Mesh before_;
  const FaceTree tree_;
  MeshEdges edges_;
  std::vector<std::uint8_t> line_;  // by edge
  std::vector<Freedom> freedom_;    // by vertex
  std::vector<std::uint32_t> ring_, others_;
};

}  // namespace

RemeshSummary remesh(Mesh& mesh, const RemeshOptions& options, const Executor& executor, Monitor& monitor) {
  check_arrays(mesh);
  RemeshSummary summary;
  summary.faces_before = summary.faces_after = mesh.faces.size();
  if (!(options.edge > 0) || options.rounds < 0 || !(options.edge_angle > 0))
    throw Error(ErrorKind::usage, "remesh", "is asked for with a length or an angle that is not above 0",
                "give a length in the mesh's units");
  if (mesh.empty()) {
    summary.outcome = "has no face";
    return summary;
  }
  // An even triangle's area.
  const double faces = area(mesh) / (0.433 * options.edge * options.edge);
  if (faces > 2e8)
    throw Error(ErrorKind::usage, "remesh", fmt::format("would make about {:.2g} faces", faces),
                "give a greater length");
  Remeshing(mesh, options, executor, monitor).run();
  summary.faces_after = mesh.faces.size();
  const MeshEdges edges = edges_of(mesh);
  std::size_t near = 0;
  for (const MeshEdges::Edge& e : edges.edges) {
    const double length = (mesh.positions[e.low] - mesh.positions[e.high]).cast<double>().norm();
    summary.edge_mean += length / static_cast<double>(edges.edges.size());
    near += length >= kShortest * options.edge && length <= kLongest * options.edge;
  }
  summary.edges_near_percent = 100.0 * static_cast<double>(near) / static_cast<double>(edges.edges.size());
  summary.outcome = fmt::format("{} faces became {}", summary.faces_before, summary.faces_after);
  return summary;
}

}  // namespace icefield
