#include "src/orient/precision.h"

#include <cmath>

namespace icefield {

void set_lens_freedoms(const std::vector<Camera>& cameras, std::span<const CameraPrior> priors,
                       const OrientOptions& options, std::span<const HeldParameter> held, AdjustOptions& adjusting) {
  for (std::size_t c = 0; c < cameras.size(); ++c) {
    const CameraPrior& prior = priors[c];
    const bool whole = cameras[c].model != prior.camera.model || cameras[c].model == CameraModel::brown ||
                       cameras[c].model == CameraModel::fisheye;
    Camera around = prior.camera;
    around.model = cameras[c].model;
    const bool known = prior.camera.focal() > 0 && prior.focal_uncertainty_percent > 0;
    LensPriors sigmas;
    sigmas.radial = options.radial_sigma;
    for (const CameraPriorTerm& term : lens_priors(CameraIndex(c), around, prior.focal_uncertainty_percent, sigmas))
      if (term.parameter == 0 ? known : whole || term.parameter > 2) adjusting.priors.push_back(term);
    std::vector<bool> free(camera_parameters(around.model).size(), options.free_distortion);
    free[0] = options.free_focal;
    if (!whole) free[1] = free[2] = false;
    for (const HeldParameter& h : held)
      if (h.camera.value == c) free[static_cast<std::size_t>(h.parameter)] = false;
    adjusting.free_by_camera.push_back(std::move(free));
  }
}

AdjustOptions final_adjust_options(const Block& block, std::span<const CameraPrior> priors,
                                   const OrientOptions& options, std::span<const HeldParameter> held) {
  AdjustOptions result;
  result.max_iterations = 40;
  result.cost_tolerance = 1e-8;
  set_lens_freedoms(block.cameras, priors, options, held, result);
  return result;
}

BlockPrecision precision_of(const Block& block, const AdjustOptions& options, const Executor& executor,
                            Monitor& monitor) {
  return precision_from(uncertainty(block, options, {}, executor, monitor));
}

BlockPrecision precision_from(Uncertainty uncertain) {
  BlockPrecision precision;
  precision.known = uncertain.valid;
  precision.outcome = uncertain.outcome;
  precision.sigma_px = uncertain.sigma_px;
  if (!uncertain.valid) return precision;
  for (const Matrix6& pose : uncertain.poses) {
    precision.turn_sigma.push_back(std::sqrt(pose.topLeftCorner<3, 3>().trace()));
    precision.place_sigma.push_back(std::sqrt(pose.bottomRightCorner<3, 3>().trace()));
  }
  precision.cameras = std::move(uncertain.cameras);
  return precision;
}

}  // namespace icefield
