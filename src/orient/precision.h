// Which parameters of lenses an adjustment of a block frees, and under which priors.
#pragma once
#include <span>
#include <vector>

#include "icefield/orient/orient.h"

namespace icefield {

void set_lens_freedoms(const std::vector<Camera>& cameras, std::span<const CameraPrior> priors,
                       const OrientOptions& options, std::span<const HeldParameter> held, AdjustOptions& adjusting);

// How exact a block is, out of its covariances.
BlockPrecision precision_from(Uncertainty uncertain);

}  // namespace icefield
