// Cameras and points as glTF 2.0.
#pragma once
#include <filesystem>

#include "icefield/io/camera_file.h"

namespace icefield {

// A .glb (Khronos, "glTF 2.0 specification", 2021) with y up: each photo a camera node of its name (what the standard's
// camera cannot say, as its principal point and size, in `extras`), the points as one mesh of points with colours.
// Coordinates are those of the file less its origin, which stands in asset.extras. Throws Error(resource) where it
// cannot be written, Error(usage) for more points than the format holds.
void write_scene_glb(const std::filesystem::path& file, const CameraFile& cameras, const PointCloud& points);

}  // namespace icefield
