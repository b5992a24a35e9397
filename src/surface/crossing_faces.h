// Faces of a mesh that cross each other.
#pragma once
#include "icefield/base/parallel.h"
#include "icefield/surface/mesh.h"

namespace icefield {

// Pairs of faces without a common vertex whose insides or edges meet (an edge of one passes through the other; faces in
// one plane do not count).
std::size_t count_crossing_faces(const Mesh& mesh, const Executor& executor);

}  // namespace icefield
