// What comes from outside and would be used as an index or divided by.
#pragma once
#include "icefield/adjust/adjust.h"

namespace icefield {

// Throws Error(usage) naming the first that is not of the block, or not above 0 where it must be. Returns the block.
const Block& check_problem(const Block& block, const AdjustOptions& options);

}  // namespace icefield
