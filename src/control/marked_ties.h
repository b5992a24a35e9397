// Tie points of a block joined by marks, which the control has as well.
#pragma once
#include <optional>
#include <vector>

#include "icefield/control/georeference.h"

namespace icefield {

// The block without those tie points, so that each mark counts once.
struct MarkedTies {
  Block without;
  std::vector<std::uint32_t> place;  // by tie point of the block: in `without`, or nowhere
  std::vector<std::uint32_t> point;  // by tie point of the block: the control's point that it is, or nowhere
  std::vector<bool> ties;            // by point of the control
};

// Nothing where the block has none. Check points stay as they are: their marks hold the halves together, and their
// coordinates take no part.
std::optional<MarkedTies> marked_ties(const Block& block, const Control& control);

// All tie points of the block again, those that were taken out where the control has them now.
void put_ties_back(const Block& block, const MarkedTies& ties, Georeferenced& result);

}  // namespace icefield
