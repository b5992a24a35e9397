// Meshes parted where a number that its vertices have is 0.
#pragma once
#include <cstdint>
#include <map>
#include <span>
#include <vector>

#include "icefield/surface/mesh.h"

namespace icefield {

// A vertex between two others, with all that they carry; its index.
std::uint32_t add_between(Mesh& mesh, std::uint32_t a, std::uint32_t b, double share_of_b);

struct FieldParts {
  std::size_t faces_gone = 0, faces_parted = 0;  // gone: whole or in part
  // From each new vertex to the next along the new rims, as the faces that are left have it.
  std::map<std::uint32_t, std::vector<std::uint32_t>> way;
};

// What has numbers above 0 stays. New vertices come behind the others, and lie where the number is 0 between both ends
// of an edge, but `least_share` of its length away from either end at least. Vertices that no face needs any more stay.
FieldParts part_by_field(Mesh& mesh, std::span<const double> field, double least_share = 0);

}  // namespace icefield
