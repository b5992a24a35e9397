// A texture carried over to another mesh of the same surface.
#pragma once
#include "icefield/surface/bake.h"

namespace icefield {

// Colours alone, on as many pages of the same size as the old texture has, at the most. `mesh` gets normals where it
// has none. Faces of `painted` with a coordinate that is no number take no part. Throws as `bake` does.
Baked repaint(Mesh& mesh, const Mesh& painted, const Texture& texture, const Executor& executor = Executor(),
              Monitor& monitor = silent_monitor());

}  // namespace icefield
