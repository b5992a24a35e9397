// What a camera sees of a mesh.
#pragma once
#include "icefield/surface/texture.h"

namespace icefield {

struct MeshPhotograph {
  ImageU8 colour;  // RGB; black where there is nothing
  ImageF depth;    // along the optical axis, units of the mesh; 0: nothing there, or the back of a face
  ImageU8 filled;  // 255 where the texture is made up, not from a photo; all 0 without a texture
};

// By a ray for each pixel, distortion and all. Colours of the texture (may be null), else of the vertices, else grey.
// `rays`: each way in a pixel, for colours. The mesh in the frame of the pose.
MeshPhotograph photograph_mesh(const Mesh& mesh, const Texture* texture, const Camera& camera, const Pose& pose,
                               int rays = 1, const Executor& executor = Executor());

}  // namespace icefield
