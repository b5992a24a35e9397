// Distances between surfaces.
#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>

#include "icefield/base/random.h"
#include "icefield/surface/simplify.h"
#include "src/surface/face_tree.h"

namespace icefield {

using Eigen::Vector3d;
using Eigen::Vector3f;

std::vector<Vector3d> sample_places(const Mesh& mesh, std::size_t samples) {
  std::vector<Vector3d> places;
  if (mesh.faces.empty()) return places;
  std::vector<double> upto(mesh.faces.size());
  double sum = 0;
  for (std::size_t f = 0; f < upto.size(); ++f) upto[f] = sum += face_area(mesh, f);
  places.reserve(samples);
  for (std::size_t i = 0; i < samples; ++i) {
    CounterRandom random(combine_keys(17, i));
    const double at = sum * (static_cast<double>(i) + random.uniform(0, 1)) / static_cast<double>(samples);
    const auto f = std::min<std::size_t>(
        static_cast<std::size_t>(std::lower_bound(upto.begin(), upto.end(), at) - upto.begin()), upto.size() - 1);
    const double r = std::sqrt(random.uniform(0, 1)), s = random.uniform(0, 1);
    const Face& face = mesh.faces[f];
    places.push_back((1 - r) * mesh.position(face[0]) + r * (1 - s) * mesh.position(face[1]) +
                     r * s * mesh.position(face[2]));
  }
  return places;
}

SurfaceDistance distance_to(std::span<const Vector3d> from, const Mesh& to, const Executor& executor) {
  SurfaceDistance result;
  if (from.empty() || to.faces.empty()) return result;
  const FaceTree tree(to);
  std::vector<double> distances(from.size());
  executor.blocks(from.size(), 1024, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i)
      distances[i] = std::sqrt(static_cast<double>(tree.nearest((from[i] - to.origin).cast<float>()).distance2));
  });
  const auto count = static_cast<double>(from.size());
  double squares = 0, all = 0;
  for (const double d : distances) all += d, squares += d * d;
  result.mean = all / count;
  result.rms = std::sqrt(squares / count);
  std::sort(distances.begin(), distances.end());
  result.q95 = distances[(from.size() - 1) * 95 / 100];
  result.largest = distances.back();
  return result;
}

SurfaceDistance distance_to(const Mesh& from, const Mesh& to, std::size_t samples, const Executor& executor) {
  return distance_to(sample_places(from, samples), to, executor);
}

}  // namespace icefield
