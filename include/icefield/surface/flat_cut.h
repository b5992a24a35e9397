// A mesh cut flat, as for something that is to stand.
#pragma once
#include <string>

#include "icefield/base/monitor.h"
#include "icefield/surface/mesh.h"
#include "icefield/surface/trim.h"

namespace icefield {

struct FlatCutSummary {
  std::string outcome = "nothing done yet";
  std::size_t faces_gone = 0;     // beneath the plane, whole or in part
  std::size_t faces_parted = 0;   // that the plane goes through
  std::size_t rings = 0;          // where it goes through the surface
  std::size_t rings_outside = 0;  // around what is outside of the solid, with no rim of their own: left open
  std::size_t faces_wall = 0;     // from open rims down to the plane
  std::size_t faces_base = 0;     // of the base
  double base_area = 0;
};

// What lies on the side that the plane's normal points to stays. Faces across are parted in the plane. `closed`: from
// open rims walls go straight down to the plane, and all is closed beneath by flat faces, but for holes within rings (a
// pipe stays one); walls and base are FaceKind::cut. A mesh that was manifold is closed then; walls of rims that
// overhang may cross each other. A plane through vertices is moved by some millionths of the mesh's size. Throws
// Error(usage) for a plane without a normal.
FlatCutSummary cut_flat(Mesh& mesh, const Plane& plane, bool closed);

}  // namespace icefield
