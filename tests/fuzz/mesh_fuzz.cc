// Any bytes as a PLY, an OBJ, an STL and a glTF for read_textured_mesh, checked and mended: an Error or a mesh, nothing
// else.
#include <cstdint>
#include <fstream>

#include "icefield/base/error.h"
#include "icefield/io/mesh_file.h"
#include "icefield/surface/check_mesh.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  for (const char* file : {"/dev/shm/icefield-fuzz-mesh.ply", "/dev/shm/icefield-fuzz-mesh.obj",
                           "/dev/shm/icefield-fuzz-mesh.stl", "/dev/shm/icefield-fuzz-mesh.glb"}) {
    std::ofstream(file, std::ios::binary)
        .write(reinterpret_cast<const char*>(data), static_cast<std::streamsize>(size));
    try {
      icefield::Mesh mesh = icefield::read_textured_mesh(file).mesh;
      icefield::repair_mesh(mesh);
      (void)icefield::check_mesh(mesh);
    } catch (const icefield::Error&) {
    }
  }
  return 0;
}
