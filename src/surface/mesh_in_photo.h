// A mesh as a photo would show it: the nearest depth, and the face, of each pixel.
#pragma once
#include <limits>

#include "icefield/base/parallel.h"
#include "icefield/block/block.h"
#include "icefield/photo/image.h"
#include "icefield/surface/mesh.h"

namespace icefield {

struct MeshInPhoto {
  static constexpr std::uint32_t kNoFace = 0xffffffffu;
  static constexpr float kNoDepth = std::numeric_limits<float>::infinity();
  ImageF depth;                // along the optical axis
  Image<std::uint32_t> faces;  // from either side; empty where not asked for
};

// Of the photo shrunk `shrink` times. Corners are projected as the lens does and faces filled flat between them: for
// faces that are small against the photo. Those with a corner behind the camera or far outside are left out. The same
// for any number of threads.
MeshInPhoto draw_in_photo(const Mesh& mesh, const Camera& camera, const Pose& pose, int shrink, bool with_faces,
                          const Executor& executor);

}  // namespace icefield
