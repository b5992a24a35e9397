// Meshes with faces of one size.
#pragma once
#include <string>

#include "icefield/base/monitor.h"
#include "icefield/base/parallel.h"
#include "icefield/surface/mesh.h"

namespace icefield {

struct RemeshOptions {
  double edge = 0;          // length that edges come near to, units of the mesh
  int rounds = 6;           // of parting, joining, turning and evening out
  double edge_angle = 0.8;  // radians: where faces meet at more than this, the edge stays where it is
};

struct RemeshSummary {
  std::string outcome = "nothing done yet";
  std::size_t faces_before = 0, faces_after = 0;
  double edge_mean = 0;
  double edges_near_percent = 0;  // of edges from 4/5 to 4/3 of the length asked for
};

// Edges longer than 4/3 of the length are parted and those shorter than 4/5 of it joined, edges are turned so that six
// faces meet in a vertex, and vertices move along the surface to the middle of their neighbours and back onto the mesh
// as it was (Botsch and Kobbelt, "A remeshing approach to multiresolution modeling", 2004). Borders and edges keep
// their course. A manifold mesh stays one. Colours, support and errors follow; kinds are those of the nearest face
// before; normals are made anew where there were some. The same for any number of threads. Throws Error(usage) for a
// length that is not above 0, and for one that makes more than 200 million faces, Error(interrupted).
RemeshSummary remesh(Mesh& mesh, const RemeshOptions& options, const Executor& executor = Executor(),
                     Monitor& monitor = silent_monitor());

}  // namespace icefield
