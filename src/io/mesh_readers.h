// One reader for each format of meshes. All throw Error(input).
#pragma once
#include <filesystem>

#include "icefield/surface/mesh.h"

namespace icefield {

Mesh read_mesh_ply(const std::filesystem::path& file);
Mesh read_obj(const std::filesystem::path& file);
Mesh read_stl(const std::filesystem::path& file);

}  // namespace icefield
