// Any bytes as a PLY, an OBJ and an STL for read_mesh, checked and mended: an Error or a mesh, nothing else.
#include <cstdint>
#include <fstream>

#include "icefield/base/error.h"
#include "icefield/io/mesh_file.h"
#include "icefield/surface/check_mesh.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  for (const char* file :
       {"/dev/shm/icefield-fuzz-mesh.ply", "/dev/shm/icefield-fuzz-mesh.obj", "/dev/shm/icefield-fuzz-mesh.stl"}) {
    std::ofstream(file, std::ios::binary)
        .write(reinterpret_cast<const char*>(data), static_cast<std::streamsize>(size));
    try {
      icefield::Mesh mesh = icefield::read_mesh(file);
      icefield::repair_mesh(mesh);
      (void)icefield::check_mesh(mesh);
    } catch (const icefield::Error&) {
    }
  }
  return 0;
}
