// The frame of a block that nothing else fixes.
#pragma once
#include "icefield/block/block.h"
#include "icefield/orient/level.h"

namespace icefield {

// Turns a block so that z points up as far as its photos tell, and lays origin and scale by its subject: the middle of
// its points, one unit from a photo to a point.
void make_level(Block& block);

}  // namespace icefield
