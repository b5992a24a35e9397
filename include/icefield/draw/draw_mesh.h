// Pictures of meshes.
#pragma once
#include "icefield/draw/draw.h"
#include "icefield/surface/texture.h"

namespace icefield {

// What is painted on the faces.
enum class MeshPaint {
  colour,   // of the vertices, lit a little
  shape,    // one tone, lit: what the surface alone looks like
  wire,     // the same with the edges of the faces
  support,  // how densely points lie around, on a scale
  error,    // expected error, on a scale
  texture,  // as it is, without light
  patches,  // of the texture, each in a tone of its own; grey where it is made up
};

struct DrawMeshOptions {
  Side from = Side::perspective;
  MeshPaint paint = MeshPaint::colour;
  bool borders = true;               // open edges as lines, but on a texture
  std::vector<std::uint8_t> marked;  // by face: painted in the tone of what goes; empty: none
  const Texture* texture = nullptr;  // of the mesh, for `texture` and `patches`
};
// Back sides are darker. Throws Error(usage) for a paint that the mesh does not carry.
ImageU8 draw_mesh(const Mesh& mesh, const DrawOptions& options, const DrawMeshOptions& mesh_options = {});

}  // namespace icefield
