// The faces about a vertex, and vertices in which several fans of them meet.
#pragma once
#include <span>
#include <vector>

#include "icefield/surface/mesh.h"

namespace icefield {

struct VertexFaces {
  std::vector<std::uint32_t> first, faces;
  explicit VertexFaces(const Mesh& mesh);
  std::span<const std::uint32_t> of(std::uint32_t v) const {
    return {faces.data() + first[v], faces.data() + first[v + 1]};
  }
};

// Faces that share an edge at the vertex with no third one are of one fan. By face of `around`; their number in
// `count`.
std::vector<std::uint32_t> fans_at(const Mesh& mesh, std::uint32_t v, std::span<const std::uint32_t> around,
                                   std::uint32_t& count);

// A vertex like another one; its number.
std::uint32_t repeat_vertex(Mesh& mesh, std::uint32_t v);

// Each fan gets a vertex of its own. How many were made.
std::size_t part_fans(Mesh& mesh);

}  // namespace icefield
