// Which photos of a block are its weakest.
#pragma once
#include <cstdint>
#include <vector>

#include "icefield/orient/orient.h"

namespace icefield {

struct PhotoQuality {
  PosedIndex photo;
  double rms_px = 0;                   // of its residuals
  double place_gsd = 0, turn_deg = 0;  // standard deviations, as in BlockPrecision; 0 where they are not known
};

// All photos of the block, the worst first: by how far residuals or place (pixels on the subject, GSD) are over the
// middle of the block, whichever is farther.
std::vector<PhotoQuality> photos_by_quality(const BlockStatistics& statistics, const BlockPrecision& precision);

}  // namespace icefield
