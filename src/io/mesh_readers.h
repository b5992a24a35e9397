// One reader for each format of meshes. All throw Error(input).
#pragma once
#include <filesystem>

#include "icefield/surface/texture.h"

namespace icefield {

Mesh read_mesh_ply(const std::filesystem::path& file);
Mesh read_stl(const std::filesystem::path& file);
// `texture`: filled where the file has one; null: its pictures are not opened.
Mesh read_obj(const std::filesystem::path& file, Texture* texture = nullptr);
Mesh read_glb(const std::filesystem::path& file, Texture* texture = nullptr);

// Corners as shares of a page's width and height become texels; pages that were read are taken for photos.
void scale_places(Texture& texture);

// Corners of one place, normal and colour become one vertex; those that come first stand for the others.
void merge_equal_vertices(Mesh& mesh);

}  // namespace icefield
