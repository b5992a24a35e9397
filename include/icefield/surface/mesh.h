// Triangle meshes.
#pragma once
#include <Eigen/Core>
#include <array>
#include <cstdint>
#include <span>
#include <vector>

#include "icefield/base/bytes.h"
#include "icefield/block/bounds.h"
#include "icefield/world/datum.h"

namespace icefield {

using Face = std::array<std::uint32_t, 3>;

// What a face rests on.
enum class FaceKind : std::uint8_t {
  measured,  // points of the cloud
  closed,    // nothing: it closes a hole
  cut,       // nothing: it is a flat cut
};

// Arrays by vertex or by face, of one length each, or empty where a mesh does not carry them. Faces go around against
// the clock seen from outside. Positions are float, relative to a double origin.
struct Mesh {
  Eigen::Vector3d origin = Eigen::Vector3d::Zero();
  Datum datum;  // what coordinates mean, the origin added
  std::vector<Eigen::Vector3f> positions;
  std::vector<Face> faces;
  // By vertex.
  std::vector<Eigen::Vector3f> normals;  // unit, outwards
  std::vector<std::array<std::uint8_t, 3>> colours;
  // How densely points lie around a vertex, against what is usual where the nearest ones are: 1 amidst them, falling
  // with the square of the distance to them.
  std::vector<float> support;
  std::vector<float> errors;  // expected error of the position (one standard deviation), its units
  // By face.
  std::vector<FaceKind> kinds;

  Eigen::Vector3d position(std::size_t vertex) const { return origin + positions[vertex].cast<double>(); }
  bool empty() const { return faces.empty(); }
  Bytes to_bytes() const;
  static Mesh from_bytes(std::span<const std::byte> bytes);  // throws Error(input) for anything else
};

// Throws Error(usage) where arrays differ in length or a face has a vertex that there is not.
void check_arrays(const Mesh& mesh);

// Area-weighted and unit; faces without area say nothing.
Eigen::Vector3f face_normal(const Mesh& mesh, std::size_t face);
double face_area(const Mesh& mesh, std::size_t face);
double area(const Mesh& mesh);
// Enclosed volume by the signed sum over faces; means something for a closed mesh alone.
double volume(const Mesh& mesh);
// Vertex normals from the faces around, by their angles (Thuermer and Wuethrich, "Computing vertex normals from
// polygonal facets", 1998).
void set_normals(Mesh& mesh);

// The faces for which `keep` is not 0, with the vertices that they need: one of its own for each fan of them, so that
// what was manifold stays so.
Mesh pick_faces(const Mesh& mesh, std::span<const std::uint8_t> keep);
// Vertices without a face go.
void drop_unused_vertices(Mesh& mesh);

// Which faces meet in each edge.
struct MeshEdges {
  struct Edge {
    std::uint32_t low, high;     // vertices
    std::uint32_t first, count;  // its faces: faces[first .. first + count)
  };
  std::vector<Edge> edges;  // sorted by vertices
  std::vector<std::uint32_t> faces;
};
MeshEdges edges_of(const Mesh& mesh);

// Pieces of a mesh: connected by edges. By face, the largest (by area) first.
struct MeshPieces {
  std::vector<std::uint32_t> piece;  // by face
  std::vector<std::size_t> faces;    // by piece
  std::vector<double> areas;
};
MeshPieces pieces_of(const Mesh& mesh);

}  // namespace icefield
