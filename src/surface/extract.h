// The surface on which a function over an octree has one value.
#pragma once
#include "icefield/base/parallel.h"
#include "icefield/surface/mesh.h"
#include "src/surface/implicit.h"

namespace icefield {

// Leaves are parted into tetrahedra that meet in whole faces, across levels too: six about the long diagonal of a leaf
// with neighbours no finer than itself (Freudenthal, "Simplizialzerlegungen von beschraenkter Flachheit", 1942), a fan
// about the middle of one that has finer ones. In each the function is linear and cut by a plane (marching tetrahedra:
// Doi and Koide, "An efficient method of triangulating equi-valued surfaces by using tetrahedral cells", 1991). So the
// surface is manifold, oriented, without self-intersection, and closed.
Mesh extract_surface(const Octree& octree, const ImplicitFunction& function, const Executor& executor);

}  // namespace icefield
