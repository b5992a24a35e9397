#include "icefield/orient/given.h"

#include <fmt/format.h>

#include <algorithm>

#include "icefield/base/error.h"
#include "src/orient/growing_block.h"
#include "src/orient/orient_input.h"
#include "src/orient/unposed.h"

namespace icefield {
namespace {

std::vector<std::uint32_t> observations_of_photos(const Block& block) {
  std::vector<std::uint32_t> count(block.photos.size(), 0);
  for (const Observation& o : block.observations) ++count[o.photo.value];
  return count;
}

}  // namespace

OrientResult orient_given(std::span<const OrientPhoto> photos, std::span<const CameraPrior> cameras,
                          std::span<const PairMatches> pairs, std::span<const std::optional<Pose>> given,
                          GivenPoses use, const OrientOptions& options, const Executor& executor, Monitor& monitor) {
  const std::size_t known = static_cast<std::size_t>(
      std::count_if(given.begin(), given.end(), [](const std::optional<Pose>& pose) { return pose.has_value(); }));
  if (known < 2)
    throw Error(ErrorKind::usage, "given poses", fmt::format("are of {} photos that take part", known),
                "give those of two photos or more");
  const OrientInput input = prepare_input(photos, cameras, pairs, options, executor, monitor);
  Block held;
  for (const CameraPrior& prior : cameras) held.cameras.push_back(prior.camera);
  for (std::size_t i = 0; i < photos.size(); ++i) {
    if (!given[i]) continue;
    if (!(cameras[photos[i].camera.value].camera.focal() > 0))
      throw Error(ErrorKind::usage, photos[i].name, "has a pose and no focal length",
                  "give its camera: `icefield photos --camera`, or poses as JSON with their cameras");
    held.photos.push_back({PhotoIndex(i), photos[i].camera, *given[i]});
  }
  const auto tracks = tracks_of(input);
  OrientResult result;
  result.summary.photos = photos.size();
  for (const PairMatches& pair : pairs) result.summary.pairs += pair.verified();
  GrowingBlock growing(input, tracks, held.cameras);
  Block block;
  if (use == GivenPoses::fixed) {
    growing.hold(held);
    block = growing.to_block();
  } else {
    growing.take(held);
    growing.grow(std::vector<bool>(photos.size(), true), photos.size(), [] {});
    growing.finish();
    result.summary.adjustments = growing.adjustments();
    result.summary.held = growing.held();
    block = growing.to_block();
    std::vector<Eigen::Vector3d> now, then;
    for (const PosedPhoto& photo : block.photos)
      if (given[photo.photo.value]) now.push_back(photo.pose.centre), then.push_back(given[photo.photo.value]->centre);
    if (const auto onto = fit_similarity(now, then)) transform(block, *onto);
  }
  const std::vector<std::uint32_t> count = observations_of_photos(block);
  std::vector<bool> posed(photos.size(), false);
  for (std::size_t k = 0; k < block.photos.size(); ++k) {
    posed[block.photos[k].photo.value] = true;
    if (count[k] < static_cast<std::uint32_t>(options.min_resection_points))
      result.doubtful.push_back({block.photos[k].photo, fmt::format("{} tie points fit its given pose", count[k])});
  }
  for (std::size_t i = 0; i < photos.size(); ++i) {
    if (posed[i]) {
      ++result.summary.posed;
      continue;
    }
    std::string reason = use == GivenPoses::fixed ? "no pose was given" : reason_without_pairs(input, PhotoIndex(i));
    if (reason.empty()) reason = growing.failure(PhotoIndex(i));
    result.unposed.push_back({PhotoIndex(i), std::move(reason)});
  }
  if (use == GivenPoses::fixed) {
    BlockPrecision precision;
    precision.outcome = "the poses were given, and are taken as exact";
    result.precision.push_back(std::move(precision));
  } else {
    result.precision.push_back(
        precision_of(block, final_adjust_options(block, cameras, options, result.summary.held), executor, monitor));
  }
  result.summary.blocks = 1;
  result.summary.outcome = fmt::format(
      "{} of {} photos have {}{}", result.summary.posed, photos.size(),
      use == GivenPoses::fixed ? "their given pose" : "a pose, in the frame of the given ones",
      block.points.empty() ? "; no tie point fits them: they are in another convention, or of other photos" : "");
  result.blocks.push_back(std::move(block));
  return result;
}

}  // namespace icefield
