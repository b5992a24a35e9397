// A solid made hollow, as for printing.
#pragma once
#include <optional>
#include <string>

#include "icefield/base/monitor.h"
#include "icefield/base/parallel.h"
#include "icefield/surface/mesh.h"

namespace icefield {

struct HollowOptions {
  double wall = 0;   // thickness that is left everywhere, units of the mesh
  double drain = 0;  // diameter of a round hole from the hollow to the outside; 0: none
  // From the middle of the hollow this way, or from the place below.
  Eigen::Vector3d drain_along = -Eigen::Vector3d::UnitZ();
  std::optional<Eigen::Vector3d> drain_through;  // a place that its axis goes through, block frame
  double step = 0;                               // of the grid that the hollow is found on; 0: half of the wall
};

struct HollowSummary {
  std::string outcome = "nothing done yet";
  std::size_t hollows = 0;                  // rooms inside, not connected with each other
  double step = 0;                          // of the grid
  double wall_least = 0, wall_largest = 0;  // from the hollow's surface to the outer one
  double volume_before = 0, volume_after = 0;
  std::size_t faces = 0;  // added
  bool drained = false;
};

// What lies deeper than the wall's thickness beneath the surface is taken out: on a grid, so that corners of the hollow
// are rounded by about a step. Its surface is FaceKind::cut, without colours of its own; the outer one stays as it is,
// but around the drain hole. The mesh is to be closed, manifold and oriented, else nothing is done and the outcome says
// so, as where no room is left between the walls. Rooms that the drain does not reach stay closed, and count in
// `hollows`. The same for any number of threads. Throws Error(usage) for a wall that is not above 0 and for a direction
// without length, Error(interrupted).
HollowSummary hollow(Mesh& mesh, const HollowOptions& options, const Executor& executor = Executor(),
                     Monitor& monitor = silent_monitor());

}  // namespace icefield
