#include "icefield/surface/smooth.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>

#include "icefield/base/error.h"
#include "src/surface/vertex_fans.h"

namespace icefield {

using Eigen::Vector3d;
using Eigen::Vector3f;

void smooth(Mesh& mesh, const SmoothOptions& options, std::span<const std::uint8_t> region, const Executor& executor,
            Monitor& monitor) {
  check_arrays(mesh);
  if (!(options.edge_angle > 0) || options.normal_rounds < 0 || options.vertex_rounds < 0 ||
      (!region.empty() && region.size() != mesh.positions.size()))
    throw Error(ErrorKind::usage, "smooth",
                "is asked for with an angle that is not above 0, or a region of other vertices",
                "give the angle in radians, and one entry for each vertex");
  const std::size_t n = mesh.faces.size();
  if (n == 0) return;
  constexpr std::size_t kGrain = 4096;
  const Executor watched = executor.watching(monitor);
  const VertexFaces around(mesh);
  std::vector<std::uint8_t> free(mesh.positions.size(), 1);
  const MeshEdges edges = edges_of(mesh);
  double lengths = 0;
  for (const MeshEdges::Edge& e : edges.edges) {
    if (e.count != 2) free[e.low] = free[e.high] = 0;
    lengths += (mesh.positions[e.low] - mesh.positions[e.high]).norm();
  }
  for (std::size_t v = 0; v < region.size(); ++v) free[v] = free[v] && region[v];
  const double usual = lengths / static_cast<double>(edges.edges.size());
  const double near = 1 / (2 * usual * usual), alike = 1 / (2 * options.edge_angle * options.edge_angle);

  std::vector<Vector3d> normals(n), middles(n), next(n);
  std::vector<double> areas(n);
  for (std::size_t f = 0; f < n; ++f) {
    normals[f] = face_normal(mesh, f).cast<double>();
    areas[f] = face_area(mesh, f);
    middles[f].setZero();
    for (const std::uint32_t v : mesh.faces[f]) middles[f] += mesh.positions[v].cast<double>() / 3;
  }
  for (int round = 0; round < options.normal_rounds; ++round) {
    monitor.progress("smooth", static_cast<std::size_t>(round), static_cast<std::size_t>(options.normal_rounds));
    watched.blocks(n, kGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t f = begin; f < end; ++f) {
        Vector3d sum = areas[f] * normals[f];
        for (const std::uint32_t v : mesh.faces[f])
          for (const std::uint32_t g : around.of(v)) {
            if (g == f) continue;  // those across an edge count twice: they are nearer
            const double w = areas[g] * std::exp(-near * (middles[g] - middles[f]).squaredNorm() -
                                                 alike * (normals[g] - normals[f]).squaredNorm());
            sum += w * normals[g];
          }
        next[f] = sum.norm() > 0 ? Vector3d(sum.normalized()) : normals[f];
      }
    });
    normals.swap(next);
  }
  std::vector<Vector3f> places = mesh.positions;
  for (int round = 0; round < options.vertex_rounds; ++round) {
    watched.blocks(mesh.positions.size(), kGrain, [&](std::size_t, std::size_t begin, std::size_t end) {
      for (std::size_t v = begin; v < end; ++v) {
        places[v] = mesh.positions[v];
        const auto of = around.of(static_cast<std::uint32_t>(v));
        if (!free[v] || of.empty()) continue;
        const Vector3d at = mesh.positions[v].cast<double>();
        Vector3d sum = Vector3d::Zero();
        double weights = 0;
        for (const std::uint32_t f : of) {
          Vector3d middle = Vector3d::Zero();
          for (const std::uint32_t w : mesh.faces[f]) middle += mesh.positions[w].cast<double>() / 3;
          sum += areas[f] * normals[f] * normals[f].dot(middle - at);
          weights += areas[f];
        }
        if (weights > 0) places[v] = (at + sum / weights).cast<float>();
      }
    });
    mesh.positions.swap(places);
  }
  monitor.progress("smooth", static_cast<std::size_t>(options.normal_rounds),
                   static_cast<std::size_t>(options.normal_rounds));
  if (!mesh.normals.empty()) set_normals(mesh);
}

}  // namespace icefield
