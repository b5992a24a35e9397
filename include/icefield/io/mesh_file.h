// Meshes as files.
#pragma once
#include <filesystem>
#include <string>

#include "icefield/surface/mesh.h"

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
  std::string fingerprint;  // of what the mesh was made from, in a survey: PLY has it in a comment; may be empty
};

// PLY and OBJ have coordinates with the origin added, as double where it is not 0; STL and glTF, which hold floats,
// count from the origin, and glTF says it in asset.extras. The file is there whole or not at all. Throws
// Error(resource) when it cannot be written.
void write_mesh(const std::filesystem::path& file, const Mesh& mesh, MeshFormat format,
                const MeshFileOptions& options = {});

// PLY (ASCII or little-endian), OBJ or STL (both kinds), as they come: faces of more than three corners are parted into
// fans; corners of an STL at one place become one vertex. Coordinates are taken relative to the first vertex where they
// are far from 0. Nothing but this file is opened. Throws Error(input) naming the file, the place and the fault: a face
// with a vertex that there is not, a number that cannot be read, a file that ends too early.
Mesh read_mesh(const std::filesystem::path& file);

}  // namespace icefield
