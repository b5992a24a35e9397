// Long edges of a mesh parted.
#pragma once
#include <array>
#include <cstdint>
#include <functional>
#include <vector>

#include "icefield/surface/mesh.h"

namespace icefield {

// How a mesh is parted: new vertices in the middle of two that come before them, and all faces.
struct MeshSplit {
  std::vector<std::array<std::uint32_t, 2>> middles;  // numbered on from the vertices of the mesh
  std::vector<Face> faces;
  std::vector<std::uint32_t> parents;  // by face: the face of the mesh that it is part of
  bool empty() const { return middles.empty(); }
};

// Until no edge is longer than `limit_at` says of either of its ends (above 0; asked once for each vertex). Faces keep
// their planes, and neighbours stay neighbours. Stops at `most_faces`. Empty where nothing is to be done.
MeshSplit split_long_edges(const Mesh& mesh, const std::function<double(const Eigen::Vector3d&)>& limit_at,
                           std::size_t most_faces);

// What a mesh carries comes in between.
Mesh apply_split(const Mesh& mesh, const MeshSplit& split);

}  // namespace icefield
