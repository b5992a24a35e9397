// Photos of two blocks in one.
#pragma once
#include <cstdint>
#include <vector>

#include "icefield/block/block.h"

namespace icefield {

// Photos and cameras of the first block, without points, and those of `second` (in its frame already) that it does not
// have. Cameras of the second serve where the first has no photo of theirs. `place`: where photos of the second stand.
Block photos_of_both(const Block& first, const Block& second, std::vector<std::uint32_t>& place);

}  // namespace icefield
