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

SurfaceDistance distance_to(const Mesh& from, const Mesh& to, std::size_t samples, const Executor& executor) {
  SurfaceDistance result;
  if (from.faces.empty() || to.faces.empty() || samples == 0) return result;
  std::vector<double> upto(from.faces.size());
  double sum = 0;
  for (std::size_t f = 0; f < upto.size(); ++f) upto[f] = sum += face_area(from, f);
  const FaceTree tree(to);
  const Vector3f shift = (from.origin - to.origin).cast<float>();
  std::vector<double> distances(samples);
  executor.blocks(samples, 1024, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i) {
      CounterRandom random(combine_keys(17, i));
      const double at = sum * (static_cast<double>(i) + random.uniform(0, 1)) / static_cast<double>(samples);
      const auto f = std::min<std::size_t>(
          static_cast<std::size_t>(std::lower_bound(upto.begin(), upto.end(), at) - upto.begin()), upto.size() - 1);
      const double r = std::sqrt(random.uniform(0, 1)), s = random.uniform(0, 1);
      const Face& face = from.faces[f];
      const Vector3d p = (1 - r) * from.positions[face[0]].cast<double>() +
                         r * (1 - s) * from.positions[face[1]].cast<double>() +
                         r * s * from.positions[face[2]].cast<double>();
      distances[i] = std::sqrt(static_cast<double>(tree.nearest(p.cast<float>() + shift).distance2));
    }
  });
  double squares = 0, all = 0;
  for (const double d : distances) all += d, squares += d * d;
  result.mean = all / static_cast<double>(samples);
  result.rms = std::sqrt(squares / static_cast<double>(samples));
  std::sort(distances.begin(), distances.end());
  result.q95 = distances[(samples - 1) * 95 / 100];
  result.largest = distances.back();
  return result;
}

}  // namespace icefield
