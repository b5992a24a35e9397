// Seams between pictures, blended by bands.
#pragma once
#include "icefield/base/parallel.h"
#include "icefield/photo/image.h"

namespace icefield {

// What one picture adds to a composite: `differs` (3 channels) is its colour less the composite's where it has one and
// is not itself what the composite shows there, else 0; `mask` is 1 where the composite shows it. The differences are
// taken over by bands, each over its own width across the mask's border (Burt and Adelson, "A multiresolution spline
// with application to image mosaics", 1983); sides are multiples of 2^levels.
ImageF blend_in(const ImageF& differs, const ImageF& mask, int levels, const Executor& executor);

// How far from a cell others have a part in what is added there, cells; a multiple of 2^levels.
inline int blend_reach(int levels) {
  return levels > 0 ? 4 << levels : 0;
}

}  // namespace icefield
