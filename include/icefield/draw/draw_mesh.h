// Pictures of meshes.
#pragma once
#include "icefield/draw/draw.h"
#include "icefield/surface/mesh.h"

namespace icefield {

// What is painted on the faces.
enum class MeshPaint {
  colour,   // of the vertices, lit a little
  shape,    // one tone, lit: what the surface alone looks like
  wire,     // the same with the edges of the faces
  support,  // how densely points lie around, on a scale
  error,    // expected error, on a scale
};

struct DrawMeshOptions {
  Side from = Side::perspective;
  MeshPaint paint = MeshPaint::colour;
  bool borders = true;               // open edges as lines
  std::vector<std::uint8_t> marked;  // by face: painted in the tone of what goes; empty: none
};
// Back sides are darker. Throws Error(usage) for a paint that the mesh does not carry.
ImageU8 draw_mesh(const Mesh& mesh, const DrawOptions& options, const DrawMeshOptions& mesh_options = {});

}  // namespace icefield
