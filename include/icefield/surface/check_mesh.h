// What is wrong with a mesh, and how to mend it.
#pragma once
#include <cstdint>
#include <string>

#include "icefield/base/parallel.h"
#include "icefield/surface/mesh.h"

namespace icefield {

struct MeshCheck {
  std::size_t vertices = 0, faces = 0, pieces = 0;
  std::size_t not_finite = 0;        // vertices with a coordinate that is no number
  std::size_t unused_vertices = 0;   // of no face
  std::size_t doubled_vertices = 0;  // at the place of another one
  std::size_t degenerate_faces = 0;  // with a vertex twice, or without area
  std::size_t doubled_faces = 0;     // with the vertices of another one
  std::size_t open_edges = 0;        // of one face
  std::size_t holes = 0;             // rings of open edges
  std::size_t crowded_edges = 0;     // of more than two faces
  std::size_t flipped_edges = 0;     // whose two faces go around different ways
  std::size_t crowded_vertices = 0;  // whose faces do not form one fan
  bool self_intersections_known = false;
  std::size_t self_intersections = 0;  // pairs of faces without a common vertex that cross
  double area = 0;

  bool manifold() const { return crowded_edges == 0 && crowded_vertices == 0; }
  bool oriented() const { return flipped_edges == 0; }
  bool closed() const { return open_edges == 0 && faces > 0; }
  std::string in_a_line() const;
};
// `intersections`: also looks for faces that cross each other, which takes longer than all else.
MeshCheck check_mesh(const Mesh& mesh, bool intersections = false, const Executor& executor = Executor());

struct MeshRepair {
  std::size_t faces_removed = 0;     // without area, doubled, with a coordinate that is no number
  std::size_t vertices_merged = 0;   // at one place
  std::size_t vertices_removed = 0;  // of no face
  std::size_t faces_turned = 0;      // to go around as their neighbours do
  std::size_t vertices_parted = 0;   // made of crowded edges and vertices, one for each fan
  bool nothing() const {
    return faces_removed + vertices_merged + vertices_removed + faces_turned + vertices_parted == 0;
  }
};
// Afterwards no vertex stands at another one's place but those that part what met in crowded edges and vertices, no
// face is without area or doubled, and the mesh is manifold and, where it is a surface with two sides, oriented:
// pieces keep the direction that most of their area has.
MeshRepair repair_mesh(Mesh& mesh);

// A ring of open edges, in its order.
struct MeshHole {
  std::vector<std::uint32_t> vertices;
  double perimeter = 0, area = 0;  // of the flat ring, block units (squared)
  Eigen::Vector3d middle = Eigen::Vector3d::Zero();
};
// The longest first. Of a mesh that is manifold.
std::vector<MeshHole> holes_of(const Mesh& mesh);

}  // namespace icefield
