// The table of tiles at the end of a PLY.
#pragma once
#include <string>
#include <vector>

namespace icefield {

// The properties of its element `tile`, all doubles: where its first point stands in the file; the distance of its
// points; its box, the origin included; how many of its points are up to each level (cloud.h).
std::vector<std::string> tile_properties();

}  // namespace icefield
