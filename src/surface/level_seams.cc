#include "src/surface/level_seams.h"

#include <Eigen/IterativeLinearSolvers>
#include <Eigen/SparseCore>
#include <algorithm>
#include <cmath>
#include <numeric>

#include "src/surface/photo_samples.h"

namespace icefield {

using Eigen::Vector2d;
using Eigen::Vector3d;
using Eigen::Vector3f;

Seams::Seams(const Mesh& mesh, const MeshEdges& edges, const std::vector<Chart>& charts,
             const std::vector<std::uint32_t>& chart_of_face)
    : charts_(charts) {
  // Vertices of each chart get numbers, chart by chart.
  node_.resize(3 * mesh.faces.size());
  std::vector<std::uint32_t> number(mesh.positions.size(), kUnseen), used;
  for (std::uint32_t c = 0; c < charts.size(); ++c) {
    used.clear();
    for (const std::uint32_t f : charts[c].faces)
      for (std::size_t k = 0; k < 3; ++k) {
        const std::uint32_t v = mesh.faces[f][k];
        if (number[v] == kUnseen) {
          number[v] = static_cast<std::uint32_t>(vertex_of_node_.size());
          vertex_of_node_.push_back(v);
          chart_of_node_.push_back(c);
          used.push_back(v);
        }
        node_[3 * static_cast<std::size_t>(f) + k] = number[v];
      }
    for (const std::uint32_t v : used) number[v] = kUnseen;
  }
  corrections_.assign(vertex_of_node_.size(), Vector3f::Zero());
  std::uint32_t places = 0;
  std::vector<std::uint32_t> count(charts.size() + 1, 0);
  for (const MeshEdges::Edge& e : edges.edges) {
    if (e.count != 2) continue;
    const std::uint32_t a = chart_of_face[edges.faces[e.first]], b = chart_of_face[edges.faces[e.first + 1]];
    if (a == b || charts[a].photo == kUnseen || charts[b].photo == kUnseen) continue;
    const double length = (mesh.positions[e.low] - mesh.positions[e.high]).norm(),
                 texel = std::min(charts[a].texel / charts[a].scale, charts[b].texel / charts[b].scale);
    Seam seam{e.low, e.high, {a, b}, places, 0};
    seam.places = static_cast<std::uint32_t>(std::clamp(std::ceil(texel > 0 ? length / texel : 2), 2.0, 64.0));
    places += seam.places;
    seams_.push_back(seam);
    ++count[a + 1], ++count[b + 1];
  }
  colours_.assign(places, {Vector3f::Zero(), Vector3f::Zero()});
  std::partial_sum(count.begin(), count.end(), count.begin());
  starts_ = count;
  sides_.resize(2 * seams_.size());
  for (std::uint32_t s = 0; s < seams_.size(); ++s)
    for (const bool second : {false, true}) sides_[count[seams_[s].charts[second]]++] = {s, second};
}

void Seams::sample(std::uint32_t photo, const ImageU8& pixels, const Mesh& mesh, const Block& block,
                   const Vector3f& gain, const Executor& executor) {
  const PosedPhoto& posed = block.photos[photo];
  const Camera& camera = block.camera_of(posed);
  executor.blocks(seams_.size(), 256, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t s = begin; s < end; ++s) {
      const Seam& seam = seams_[s];
      for (const bool second : {false, true}) {
        const Chart& chart = charts_[seam.charts[second]];
        if (chart.photo != photo) continue;
        const Vector3d a = mesh.position(seam.low), b = mesh.position(seam.high);
        // About as blurred as the texture, and a little more: single pixels do not say how two photos differ.
        const auto reach = static_cast<float>(0.75 / chart.scale);
        for (std::uint32_t i = 0; i < seam.places; ++i) {
          const double t = (i + 0.5) / seam.places;
          const auto p = project(camera, posed.pose.to_camera((1 - t) * a + t * b));
          if (!p) continue;
          Vector3f sum = Vector3f::Zero();
          for (int dy = -1; dy <= 1; ++dy)
            for (int dx = -1; dx <= 1; ++dx)
              sum += rgb_bilinear(pixels, static_cast<float>(p->x()) + reach * static_cast<float>(dx),
                                  static_cast<float>(p->y()) + reach * static_cast<float>(dy));
          colours_[seam.first + i][second] = (sum / 9).cwiseProduct(gain);
        }
      }
    }
  });
}

Vector3f Seams::rest(const Seam& seam, std::uint32_t place, bool second) const {
  const auto& c = colours_[seam.first + place];
  const Vector3f half = 0.5f * (c[1] - c[0]);
  return second ? Vector3f(-half) : half;
}

void Seams::level(const Mesh& mesh, TextureSummary& summary, Monitor& monitor) {
  const auto mean_step = [&] {
    double sum = 0;
    std::size_t count = 0;
    for (const Seam& seam : seams_)
      for (std::uint32_t i = 0; i < seam.places; ++i, ++count)
        sum += static_cast<double>((colours_[seam.first + i][0] - colours_[seam.first + i][1]).cwiseAbs().mean());
    return count > 0 ? sum / static_cast<double>(count) : 0;
  };
  summary.seam_before = summary.seam_after = mean_step();
  if (seams_.empty()) return;
  monitor.progress("level seams", 0, 3);
  const std::size_t n = vertex_of_node_.size();
  // Nodes of seams: by the seam's vertex and chart. Looked up by the charts' own faces.
  std::vector<std::vector<std::pair<std::uint32_t, std::uint32_t>>> of_vertex(mesh.positions.size());
  for (std::uint32_t i = 0; i < n; ++i) of_vertex[vertex_of_node_[i]].emplace_back(chart_of_node_[i], i);
  const auto node_of = [&](std::uint32_t vertex, std::uint32_t chart) {
    for (const auto& [c, node] : of_vertex[vertex])
      if (c == chart) return node;
    return kUnseen;
  };
  // Of each pair of nodes at a seam: what the second should be corrected by more than the first, as the places between
  // say that lie nearest to the vertex.
  struct Pair {
    std::uint32_t a, b;
    Vector3f difference;  // of the colours, first minus second
    float weight;
  };
  std::vector<Pair> pairs;
  for (const Seam& seam : seams_)
    for (const bool at_high : {false, true}) {
      const std::uint32_t v = at_high ? seam.high : seam.low;
      Pair pair{node_of(v, seam.charts[0]), node_of(v, seam.charts[1]), Vector3f::Zero(), 0};
      for (std::uint32_t i = 0; i < seam.places; ++i) {
        const float t = (static_cast<float>(i) + 0.5f) / static_cast<float>(seam.places), w = at_high ? t : 1 - t;
        pair.difference += w * (colours_[seam.first + i][0] - colours_[seam.first + i][1]);
        pair.weight += w;
      }
      pair.difference /= pair.weight;
      pairs.push_back(pair);
    }
  // Weights: a step at a seam against one between neighbours within a chart, and against any correction at all, so that
  // what is far from all seams keeps the photo's brightness.
  constexpr double kStep = 20, kAny = 2e-3;
  std::vector<Eigen::Triplet<double>> entries;
  Eigen::MatrixXd right = Eigen::MatrixXd::Zero(static_cast<Eigen::Index>(n), 3);
  std::vector<double> diagonal(n, kAny);
  const auto join = [&](std::uint32_t a, std::uint32_t b, double weight) {
    diagonal[a] += weight, diagonal[b] += weight;
    entries.emplace_back(static_cast<int>(a), static_cast<int>(b), -weight);
    entries.emplace_back(static_cast<int>(b), static_cast<int>(a), -weight);
  };
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) {
    if (charts_[chart_of_node_[node_[3 * f]]].photo == kUnseen) continue;
    for (std::size_t k = 0; k < 3; ++k) join(node_[3 * f + k], node_[3 * f + (k + 1) % 3], 0.5);
  }
  for (const Pair& pair : pairs) {
    join(pair.a, pair.b, kStep);
    for (int c = 0; c < 3; ++c) {
      right(static_cast<Eigen::Index>(pair.a), c) -= kStep * static_cast<double>(pair.difference[c]);
      right(static_cast<Eigen::Index>(pair.b), c) += kStep * static_cast<double>(pair.difference[c]);
    }
  }
  for (std::size_t i = 0; i < n; ++i) entries.emplace_back(static_cast<int>(i), static_cast<int>(i), diagonal[i]);
  Eigen::SparseMatrix<double> matrix(static_cast<Eigen::Index>(n), static_cast<Eigen::Index>(n));
  matrix.setFromTriplets(entries.begin(), entries.end());
  entries = {};
  Eigen::ConjugateGradient<Eigen::SparseMatrix<double>, Eigen::Lower | Eigen::Upper> solver;
  solver.setTolerance(1e-4);
  solver.setMaxIterations(1000);
  solver.compute(matrix);
  for (int c = 0; c < 3; ++c) {
    const Eigen::VectorXd x = solver.solve(right.col(c));
    for (std::size_t i = 0; i < n; ++i) corrections_[i][c] = static_cast<float>(x(static_cast<Eigen::Index>(i)));
    monitor.progress("level seams", static_cast<std::size_t>(c) + 1, 3);
    monitor.check();
  }
  for (const Seam& seam : seams_)
    for (const bool second : {false, true}) {
      const Vector3f a = corrections_[node_of(seam.low, seam.charts[second])],
                     b = corrections_[node_of(seam.high, seam.charts[second])];
      for (std::uint32_t i = 0; i < seam.places; ++i) {
        const float t = (static_cast<float>(i) + 0.5f) / static_cast<float>(seam.places);
        colours_[seam.first + i][second] += (1 - t) * a + t * b;
      }
    }
  summary.seam_after = mean_step();
}

}  // namespace icefield
