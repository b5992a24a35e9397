// What the step `mesh` does with a cloud.
#pragma once
#include "icefield/survey/survey.h"

namespace icefield {

// Fitted, trimmed and lightened by the settings, then checked; all but `block`, `file` and `fresh` of the report is
// filled. Empty where the cloud has no surface: the report says why. Throws Error(interrupted).
Mesh make_mesh(const PointCloud& cloud, const MeshSettings& settings, MeshReport& report, const Executor& executor,
               Monitor& monitor);

// From the coordinates of files to a frame, as textures need it.
Mesh mesh_in_frame(Mesh mesh, const WorldFrame& frame);

}  // namespace icefield
