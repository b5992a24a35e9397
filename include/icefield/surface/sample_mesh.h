// Points spread over a mesh.
#pragma once
#include "icefield/base/parallel.h"
#include "icefield/cloud/cloud.h"
#include "icefield/surface/mesh.h"

namespace icefield {

// As many as there are squares of `spacing` in the surface, each at a place of its own drawn evenly by area, with the
// face's normal, colours between those of its vertices, and errors. The same for any number of threads.
PointCloud sample_mesh(const Mesh& mesh, double spacing, const Executor& executor = Executor());

}  // namespace icefield
