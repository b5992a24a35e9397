// Holes closed by smooth patches.
#pragma once
#include <cstdint>
#include <string>
#include <vector>

#include "icefield/base/monitor.h"
#include "icefield/surface/mesh.h"

namespace icefield {

struct CloseHolesOptions {
  double max_perimeter = 0;            // holes with a longer ring stay; 0: none is too long
  std::vector<std::uint32_t> numbers;  // of holes_of, from 0: only these; empty: all
};

struct CloseHolesSummary {
  std::size_t holes = 0, closed = 0;
  std::size_t not_closed = 0;  // short enough, but no patch without a fold was found
  std::size_t faces = 0;       // of the patches
  double area = 0;
};

// Each ring is closed by the triangles that bend least against what is around (Liepa, "Filling holes in meshes", 2003),
// parted until they are as large as the faces around, and bent into the thin plate that goes on smoothly from there.
// Their faces are of FaceKind::closed; colours, errors and support of new vertices are those of the rim, evened out.
// The mesh is to be manifold; it stays so. Throws Error(usage) for a number that there is not, Error(interrupted).
CloseHolesSummary close_holes(Mesh& mesh, const CloseHolesOptions& options = {}, Monitor& monitor = silent_monitor());

}  // namespace icefield
