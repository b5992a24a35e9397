// Meshes as files.
#pragma once
#include <filesystem>
#include <string>

#include "icefield/surface/bake.h"

namespace icefield {

enum class MeshFormat {
  ply,  // binary, little-endian; with normals, colours, support, errors, kinds of faces, CRS and origin
  obj,  // text; colours behind the coordinates of a vertex, normals
  stl,  // binary: places of corners alone
  glb,  // glTF 2.0 (Khronos Group, 2017) in one file; metres, y up, as the standard has it
};
// By the extension of a file name. Throws Error(usage) for others.
MeshFormat mesh_format_of(const std::filesystem::path& file);

struct MeshFileOptions {
  // Coordinates (x, y, z) become (x, z, -y). glTF has it always.
  bool y_up = false;
  // Coordinates in the file are those of the mesh times this: 1000 for millimetres of metres. Of glTF always 1.
  double scale = 1;
  // Of what the mesh was made from, in a survey: PLY has it in a comment, glTF in asset.extras; may be empty.
  std::string fingerprint;
  bool png_pages = false;  // else JPEG
  int jpeg_quality = 94;
};

// PLY and OBJ have coordinates with the origin added, as double where it is not 0; STL and glTF, which hold floats,
// count from the origin, and glTF says it in asset.extras. Each file is there whole or not at all.
//
// A texture goes with OBJ (NAME.mtl and NAME_1.jpg ... beside it) and glTF (within it, with what is made up as
// pictures of their own; shown without light, KHR_materials_unlit, since the photos have it in them). Throws
// Error(resource) when a file cannot be written, Error(usage) for a texture and a format that has none.
void write_mesh(const std::filesystem::path& file, const Mesh& mesh, MeshFormat format,
                const MeshFileOptions& options = {}, const Texture* texture = nullptr);

// Of a light mesh with what was baked on it, to be lit: OBJ (NAME_1_normal.png and NAME_1_sky.png beside the colours;
// `norm` in the materials) or glTF (normal and occlusion textures, tangents). Throws as above.
void write_baked_mesh(const std::filesystem::path& file, const Mesh& mesh, MeshFormat format,
                      const MeshFileOptions& options, const Baked& baked);

// PLY (ASCII or little-endian), OBJ, STL (both kinds) or glTF in one file, as they come: faces of more than three
// corners are parted into fans; corners of an STL or glTF at one place become one vertex. Coordinates are taken
// relative to the first vertex where they are far from 0. Nothing but this file is opened. Throws Error(input) naming
// the file, the place and the fault: a face with a vertex that there is not, a number that cannot be read, a file that
// ends too early.
Mesh read_mesh(const std::filesystem::path& file);

struct TexturedMesh {
  Mesh mesh;
  Texture texture;  // empty where the file has none
};
// The same with what is painted on it: of an OBJ the pictures (JPEG, PNG) that its materials name, as far as they lie
// in its folder or below.
TexturedMesh read_textured_mesh(const std::filesystem::path& file);

}  // namespace icefield
