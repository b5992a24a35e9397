#include "icefield/adjust/lens.h"

#include <algorithm>
#include <cmath>

#include "icefield/adjust/uncertainty.h"

namespace icefield {

std::vector<CameraPriorTerm> lens_priors(CameraIndex index, const Camera& around, double focal_percent,
                                         const LensPriors& priors) {
  std::vector<CameraPriorTerm> terms;
  const auto add = [&](int parameter, double sigma) {
    terms.push_back({index, parameter, around.parameters[static_cast<std::size_t>(parameter)], sigma});
  };
  const double side = std::max(around.width, around.height);
  add(0, 0.01 * (focal_percent > 0 ? focal_percent : priors.focal_percent) * around.focal());
  for (const int p : {1, 2}) add(p, 0.01 * priors.principal_point_percent * side);
  const auto count = static_cast<int>(camera_parameters(around.model).size());
  for (int p = 3; p < count; ++p)
    add(p, around.model == CameraModel::brown && p >= 6 ? priors.tangential : priors.radial);
  return terms;
}

Camera with_tangential_terms(const Camera& camera) {
  Camera result = camera;
  if (camera.model == CameraModel::pinhole || camera.model == CameraModel::radial) result.model = CameraModel::brown;
  return result;
}

LensResult adjust_lenses(const Block& block, const AdjustOptions& options, const Executor& executor, Monitor& monitor) {
  LensResult result;
  AdjustOptions own = options;
  if (own.free_by_camera.empty()) own.free_by_camera.assign(block.cameras.size(), options.free_parameters);
  result.adjusted = adjust(block, own, executor, monitor);
  if (!result.adjusted.summary.valid) return result;
  const Uncertainty uncertain = uncertainty(result.adjusted.block, own, {}, executor, monitor);
  Block start = result.adjusted.block;
  for (const CameraPriorTerm& prior : own.priors) {
    const std::uint32_t c = prior.camera.value;
    if (!uncertain.valid || c >= uncertain.cameras.size()) continue;
    const CameraUncertainty& camera = uncertain.cameras[c];
    const auto at = std::find(camera.parameters.begin(), camera.parameters.end(), prior.parameter);
    if (at == camera.parameters.end()) continue;
    const double sigma = camera.deviation(static_cast<std::size_t>(at - camera.parameters.begin()));
    if (sigma < 0.5 * prior.sigma) continue;
    own.free_by_camera[c][static_cast<std::size_t>(prior.parameter)] = false;
    start.cameras[c].parameters[static_cast<std::size_t>(prior.parameter)] = prior.value;
    result.held.push_back({prior.camera, prior.parameter, prior.value, sigma, prior.sigma});
  }
  if (!result.held.empty()) result.adjusted = adjust(start, own, executor, monitor);
  return result;
}

}  // namespace icefield
