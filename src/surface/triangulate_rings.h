// Flat regions between closed rings, as triangles.
#pragma once
#include <Eigen/Core>
#include <array>
#include <cstdint>
#include <vector>

namespace icefield {

// Rings as indices of places; those around a region go against the clock, those around holes in it with it. Triangles
// have no other corners than those of the rings, use each side of a ring once, and go against the clock (ear clipping
// with bridges to holes: Eberly, "Triangulation by ear clipping", 2002). Rings around holes that lie in no region are
// left out, and counted. Rings that cross themselves still give as many
// triangles as they have corners, two less.
std::vector<std::array<std::uint32_t, 3>> triangulate_rings(const std::vector<Eigen::Vector2d>& places,
                                                            const std::vector<std::vector<std::uint32_t>>& rings,
                                                            std::size_t& left_out);

}  // namespace icefield
