#include "icefield/surface/trim.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <array>
#include <cmath>

#include "icefield/base/random.h"
#include "src/surface/face_tree.h"
#include "src/geometry/decompositions.h"
#include "src/surface/part_by_field.h"
#include "src/surface/vertex_fans.h"
#include "src/surface/visit_edges.h"

namespace icefield {

using Eigen::Vector3d;

namespace {

Vector3d middle_of(const Mesh& mesh, std::size_t face) {
  const Face& f = mesh.faces[face];
  return mesh.origin + (mesh.positions[f[0]].cast<double>() + mesh.positions[f[1]].cast<double>() +
                        mesh.positions[f[2]].cast<double>()) /
                           3;
}

// Faces whose mark is `value`, in pieces: those smaller than an area change it. Returns how many.
std::size_t change_small(const Mesh& mesh, std::vector<std::uint8_t>& marks, std::uint8_t value, double least_area) {
  std::vector<std::uint32_t> from;
  Mesh part;
  part.positions = mesh.positions;
  for (std::uint32_t f = 0; f < mesh.faces.size(); ++f)
    if (marks[f] == value) from.push_back(f), part.faces.push_back(mesh.faces[f]);
  const MeshPieces pieces = pieces_of(part);
  for (std::size_t i = 0; i < from.size(); ++i)
    if (pieces.areas[pieces.piece[i]] < least_area) marks[from[i]] = 1 - value;
  return static_cast<std::size_t>(
      std::count_if(pieces.areas.begin(), pieces.areas.end(), [&](double a) { return a < least_area; }));
}

// Each vertex half way to the mean of those around, so many times.
void smooth_over_edges(const Mesh& mesh, int rounds, std::vector<double>& field) {
  std::vector<std::array<std::uint32_t, 2>> edges;
  visit_edges(
      mesh,
      [&](std::uint32_t low, std::uint32_t high, std::span<const std::uint32_t>) {
        edges.push_back({low, high});
      },
      [&](std::size_t count) { edges.reserve(count); });
  std::vector<double> sum(field.size());
  std::vector<std::uint32_t> neighbours(field.size(), 0);
  for (const auto& [low, high] : edges) ++neighbours[low], ++neighbours[high];
  for (int round = 0; round < rounds; ++round) {
    std::fill(sum.begin(), sum.end(), 0.0);
    for (const auto& [low, high] : edges) sum[low] += field[high], sum[high] += field[low];
    for (std::size_t v = 0; v < field.size(); ++v)
      if (neighbours[v] > 0) field[v] = 0.5 * field[v] + 0.5 * sum[v] / neighbours[v];
  }
}

}  // namespace

Mesh trim_by_support(const Mesh& mesh, const TrimBySupport& wanted, std::size_t* pieces) {
  if (mesh.support.empty() || wanted.min_support <= 0) return mesh;
  // Above 0 where it stays. As a logarithm, since support falls with the square of the distance; within bounds, so that
  // no single vertex pulls far; and smooth over the surface, so that the rim is.
  const std::size_t n = mesh.positions.size();
  std::vector<double> field(n);
  constexpr double kMost = 2;
  for (std::size_t v = 0; v < n; ++v)
    field[v] =
        std::clamp(std::log(std::max(1e-6, static_cast<double>(mesh.support[v])) / wanted.min_support), -kMost, kMost);
  smooth_over_edges(mesh, wanted.smooth_rounds, field);
  if (wanted.small_patch > 0) {
    std::vector<std::uint8_t> keep(mesh.faces.size());
    const auto mark = [&] {
      for (std::size_t f = 0; f < keep.size(); ++f)
        keep[f] =
            std::all_of(mesh.faces[f].begin(), mesh.faces[f].end(), [&](std::uint32_t v) { return field[v] > 0; });
    };
    constexpr double kLittle = 0.05;
    mark();
    std::vector<std::uint8_t> before = keep;
    change_small(mesh, keep, 0, wanted.small_patch);
    for (std::size_t f = 0; f < keep.size(); ++f)
      if (keep[f] && !before[f])
        for (const std::uint32_t v : mesh.faces[f]) field[v] = std::max(field[v], kLittle);
    mark();
    before = keep;
    const std::size_t gone = change_small(mesh, keep, 1, wanted.small_patch);
    for (std::size_t f = 0; f < keep.size(); ++f)
      if (!keep[f] && before[f])
        for (const std::uint32_t v : mesh.faces[f]) field[v] = std::min(field[v], -kLittle);
    if (pieces) *pieces = gone;
  }
  Mesh trimmed = mesh;
  constexpr double kShare = 0.15;  // of an edge: rims without needles
  part_by_field(trimmed, field, kShare);
  drop_unused_vertices(trimmed);
  part_fans(trimmed);
  return trimmed;
}

std::vector<std::uint8_t> faces_with_edges_up_to(const Mesh& mesh, double length) {
  std::vector<std::uint8_t> keep(mesh.faces.size(), 1);
  for (std::size_t f = 0; f < mesh.faces.size(); ++f)
    for (std::size_t k = 0; k < 3; ++k)
      if ((mesh.positions[mesh.faces[f][k]] - mesh.positions[mesh.faces[f][(k + 1) % 3]]).norm() > length) keep[f] = 0;
  return keep;
}

std::vector<std::uint8_t> faces_of_pieces(const Mesh& mesh, std::size_t least_faces, bool largest) {
  const MeshPieces pieces = pieces_of(mesh);
  std::vector<std::uint8_t> keep(mesh.faces.size());
  for (std::size_t f = 0; f < mesh.faces.size(); ++f)
    keep[f] = pieces.faces[pieces.piece[f]] >= least_faces && (!largest || pieces.piece[f] == 0);
  return keep;
}

std::vector<std::uint8_t> faces_within(const Mesh& mesh, const Bounds& bounds) {
  std::vector<std::uint8_t> keep(mesh.faces.size());
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) keep[f] = bounds.contains(middle_of(mesh, f));
  return keep;
}

std::vector<std::uint8_t> faces_selected(const Mesh& mesh, const Selection& selection) {
  std::vector<std::uint8_t> keep(mesh.faces.size());
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) keep[f] = selection.contains(middle_of(mesh, f));
  return keep;
}

std::vector<std::uint8_t> faces_over(const Mesh& mesh, const Plane& plane) {
  std::vector<std::uint8_t> keep(mesh.faces.size());
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) keep[f] = plane.height_of(middle_of(mesh, f)) > 0;
  return keep;
}

std::vector<std::uint8_t> faces_gone(const Mesh& whole, const Mesh& left, const Executor& executor) {
  std::vector<std::uint8_t> gone(whole.faces.size(), 1);
  if (left.empty()) return gone;
  const FaceTree tree(left);
  const Vector3d shift = whole.origin - left.origin;
  executor.blocks(gone.size(), 1024, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t f = begin; f < end; ++f) {
      const Vector3d middle = middle_of(whole, f) - whole.origin;
      constexpr double kSame = 1e-3;  // of the face's size
      double size = 0;
      for (std::size_t k = 0; k < 3; ++k)
        size = std::max(
            size, static_cast<double>(
                      (whole.positions[whole.faces[f][k]] - whole.positions[whole.faces[f][(k + 1) % 3]]).norm()));
      const double within = kSame * size;
      gone[f] = static_cast<double>(tree.nearest((middle + shift).cast<float>()).distance2) > within * within;
    }
  });
  return gone;
}

std::optional<SupportPlane> find_support_plane(const Mesh& mesh, double within) {
  if (mesh.faces.size() < 3) return std::nullopt;
  std::vector<Vector3d> middles, normals;
  std::vector<double> areas;
  double all = 0;
  const std::size_t step = std::max<std::size_t>(1, mesh.faces.size() / 20000);
  for (std::size_t f = 0; f < mesh.faces.size(); f += step) {
    middles.push_back(middle_of(mesh, f));
    normals.push_back(face_normal(mesh, f).cast<double>());
    areas.push_back(face_area(mesh, f));
    all += areas.back();
  }
  CounterRandom random(middles.size());
  std::vector<double> upto;
  double sum = 0;
  for (const double a : areas) upto.push_back(sum += a);
  const auto any = [&] {  // by area
    const auto at = std::lower_bound(upto.begin(), upto.end(), sum * random.uniform(0, 1));
    return std::min(static_cast<std::size_t>(at - upto.begin()), middles.size() - 1);
  };
  constexpr double kLevel = 0.9;  // faces of the plane look along its normal
  double most = 0;
  Plane best;
  for (int sample = 0; sample < 300; ++sample) {
    const Vector3d a = middles[any()], b = middles[any()], c = middles[any()];
    Vector3d normal = (b - a).cross(c - a);
    if (!(normal.norm() > 0)) continue;
    normal.normalize();
    double above = 0, below = 0, in_up = 0, in_down = 0;
    for (std::size_t i = 0; i < middles.size(); ++i) {
      const double h = normal.dot(middles[i] - a), facing = normal.dot(normals[i]);
      if (std::abs(h) > within) {
        (h > 0 ? above : below) += areas[i];
      } else if (std::abs(facing) > kLevel) {
        (facing > 0 ? in_up : in_down) += areas[i];
      }
    }
    // What the subject stands on has it on the side to which the plane's faces look, and nothing on the other.
    const bool up = in_up > in_down;
    const double in = up ? in_up : in_down, under = up ? below : above;
    if (under > 0.02 * all || in <= most) continue;
    most = in;
    best.normal = up ? normal : Vector3d(-normal);
    best.distance = best.normal.dot(a);
  }
  if (most < 0.1 * all) return std::nullopt;
  // By all that lies in it.
  for (int round = 0; round < 4; ++round) {
    Vector3d middle = Vector3d::Zero();
    double weights = 0;
    const auto lies_in = [&](std::size_t i) {
      return std::abs(best.height_of(middles[i])) < within && best.normal.dot(normals[i]) > kLevel;
    };
    for (std::size_t i = 0; i < middles.size(); ++i)
      if (lies_in(i)) middle += areas[i] * middles[i], weights += areas[i];
    if (!(weights > 0)) break;
    middle /= weights;
    Eigen::Matrix3d scatter = Eigen::Matrix3d::Zero();
    for (std::size_t i = 0; i < middles.size(); ++i)
      if (lies_in(i)) scatter += areas[i] * (middles[i] - middle) * (middles[i] - middle).transpose();
    Vector3d normal = spectrum(scatter).vectors.col(0);
    if (normal.dot(best.normal) < 0) normal = -normal;
    best.normal = normal;
    best.distance = normal.dot(middle);
    most = weights;
  }
  return SupportPlane{best, 100 * most / all};
}

}  // namespace icefield
