#include "src/adjust/check_problem.h"

#include <fmt/format.h>

#include <cmath>

namespace icefield {
namespace {

[[noreturn]] void bad(const std::string& what, const char* fault, const char* remedy) {
  throw Error(ErrorKind::usage, what, fault, remedy);
}

void check_index(std::size_t index, std::size_t count, const char* what, const char* fault, const char* remedy) {
  if (index >= count) bad(fmt::format("{} {}", what, index), fault, remedy);
}

void check_freedoms(const Block& block, const AdjustOptions& options) {
  if (!options.free_by_camera.empty() && options.free_by_camera.size() != block.cameras.size())
    bad("the free parameters by camera", "are not as many as the block's cameras",
        "give a list for each camera, or none at all");
  for (const CameraPriorTerm& prior : options.priors) {
    check_index(prior.camera.value, block.cameras.size(), "the camera of a prior,", "is no camera of the block",
                "give an index into the block's cameras");
    const auto parameters = camera_parameters(block.cameras[prior.camera.value].model);
    if (prior.parameter < 0 || static_cast<std::size_t>(prior.parameter) >= parameters.size())
      bad(fmt::format("parameter {} of camera {}", prior.parameter, prior.camera.value), "is none of its model",
          "give its place in camera_parameters(model)");
    if (!(prior.sigma > 0))
      bad(fmt::format("the prior of parameter {} of camera {}", prior.parameter, prior.camera.value),
          "has a standard deviation that is not above 0", "leave the parameter out of those that are free to hold it");
  }
}

void check_datum(const Block& block, const AdjustOptions& options) {
  constexpr const char *kNoPhoto = "is no photo of the block", *kGivePhoto = "give an index into the block's photos";
  for (const std::uint32_t photo : options.fixed_photos)
    check_index(photo, block.photos.size(), "the fixed photo", kNoPhoto, kGivePhoto);
  for (const PositionPrior& prior : options.position_priors)
    check_index(prior.photo, block.photos.size(), "the photo of a known position,", kNoPhoto, kGivePhoto);
  for (const DirectionPrior& prior : options.direction_priors) {
    check_index(prior.photo, block.photos.size(), "the photo of a known direction,", kNoPhoto, kGivePhoto);
    if (!(prior.sigma > 0) || std::abs(prior.seen.norm() - 1) > 1e-6 || std::abs(prior.direction.norm() - 1) > 1e-6)
      bad(fmt::format("the known direction of photo {}", prior.photo),
          "is no unit vector, or its standard deviation is not above 0",
          "give directions of length 1 and the deviation in radians");
  }
  for (const PointPrior& prior : options.point_priors)
    check_index(prior.point, block.points.size(), "the known point", "is no point of the block",
                "give an index into the block's points");
  for (const ScaleBar& bar : options.scale_bars) {
    const std::string what = fmt::format("the scale bar of points {} and {}", bar.first, bar.second);
    if (bar.first >= block.points.size() || bar.second >= block.points.size())
      bad(what, "has an end that is no point of the block", "give indices into the block's points");
    if (bar.first == bar.second) bad(what, "has one point at both ends", "give two points");
    if (!(bar.length > 0 && bar.sigma > 0))
      bad(what, "has a length or standard deviation that is not above 0", "give both in the block's units");
  }
}

}  // namespace

const Block& check_problem(const Block& block, const AdjustOptions& options) {
  check_block(block);
  if (!(options.observation_sigma_px > 0))
    bad("the standard deviation of an observation", "is not above 0", "give it in pixels");
  check_freedoms(block, options);
  check_datum(block, options);
  return block;
}

}  // namespace icefield
