// Masks of photos from a mesh: what of it they see.
#pragma once
#include <functional>

#include "icefield/base/parallel.h"
#include "icefield/block/block.h"
#include "icefield/photo/image.h"
#include "icefield/surface/mesh.h"

namespace icefield {

struct MeshMaskOptions {
  // Pixels of the photo. Gaps of the mesh up to twice `close_px` wide are closed, then all of it grows by `grow_px`,
  // for what the mesh lacks at its rims.
  double close_px = 12, grow_px = 6;
  int longest = 1500;  // pixels along the longer side that rays are sent for; the rest lies between them
};

// For each photo of the block a mask of its size, 255 where the mesh is to be seen and 0 elsewhere, given to `take` in
// their order. Lenses' distortion is in it. The mesh in the frame of the block. The same for any number of threads.
// Throws Error(usage) for options below 0 and a mesh without faces, Error(interrupted).
void mesh_masks(const Mesh& mesh, const Block& block, const MeshMaskOptions& options,
                const std::function<void(std::size_t photo, const ImageU8& mask)>& take,
                const Executor& executor = Executor(), Monitor& monitor = silent_monitor());

}  // namespace icefield
