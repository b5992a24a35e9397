#include "icefield/surface/sample_mesh.h"

#include <algorithm>
#include <cmath>

#include "icefield/base/error.h"
#include "icefield/base/random.h"

namespace icefield {

using Eigen::Vector3f;

PointCloud sample_mesh(const Mesh& mesh, double spacing, const Executor& executor) {
  check_arrays(mesh);
  if (!(spacing > 0)) throw Error(ErrorKind::usage, "spacing", "is not above 0", "give it in the units of the mesh");
  // Of each face as many as its share of the area asks for, its part of a point carried on to the next one.
  std::vector<std::uint64_t> first(mesh.faces.size() + 1, 0);
  double sum = 0;
  for (std::size_t f = 0; f < mesh.faces.size(); ++f) {
    sum += face_area(mesh, f) / (spacing * spacing);
    first[f + 1] = static_cast<std::uint64_t>(std::llround(sum));
  }
  PointCloud cloud;
  cloud.origin = mesh.origin;
  cloud.datum = mesh.datum;
  const std::size_t n = first.back();
  cloud.positions.resize(n);
  cloud.normals.resize(n);
  if (!mesh.colours.empty()) cloud.colours.resize(n);
  if (!mesh.errors.empty()) cloud.errors.resize(n);
  executor.blocks(mesh.faces.size(), 4096, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t f = begin; f < end; ++f) {
      if (first[f] == first[f + 1]) continue;
      CounterRandom random(combine_keys(91, f));
      const Face& face = mesh.faces[f];
      const Vector3f normal = face_normal(mesh, f);
      for (std::uint64_t i = first[f]; i < first[f + 1]; ++i) {
        const double r = std::sqrt(random.uniform(0, 1)), s = random.uniform(0, 1);
        const auto a = static_cast<float>(1 - r), b = static_cast<float>(r * (1 - s)), c = static_cast<float>(r * s);
        cloud.positions[i] = a * mesh.positions[face[0]] + b * mesh.positions[face[1]] + c * mesh.positions[face[2]];
        cloud.normals[i] = normal;
        if (!mesh.colours.empty())
          for (std::size_t k = 0; k < 3; ++k)
            cloud.colours[i][k] = static_cast<std::uint8_t>(a * static_cast<float>(mesh.colours[face[0]][k]) +
                                                            b * static_cast<float>(mesh.colours[face[1]][k]) +
                                                            c * static_cast<float>(mesh.colours[face[2]][k]) + 0.5f);
        if (!mesh.errors.empty())
          cloud.errors[i] = a * mesh.errors[face[0]] + b * mesh.errors[face[1]] + c * mesh.errors[face[2]];
      }
    }
  });
  return cloud;
}

}  // namespace icefield
