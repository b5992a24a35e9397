// Blocks of photos whose poses are known from elsewhere.
#pragma once
#include <optional>
#include <span>

#include "icefield/orient/orient.h"

namespace icefield {

enum class GivenPoses : std::uint8_t {
  none,
  fixed,  // they stay as they are, to the last bit, and so do the cameras
  start,  // they are adjusted with all else, and then laid over where they were as well as one frame goes into another;
          // photos without a given pose are posed by what they share with the others
};

// One block, in the frame of the given poses. `given`: by photo. `cameras`: as they are known. Tie points come from the
// tracks as they do in `orient`; a photo that too few of them hold keeps its given pose all the same, and is named as
// doubtful. Photos without one, with `fixed`, are left out and say so. The outcome says when no tie point fits: then
// the poses are in another convention, or of other photos. Throws Error(usage) for fewer than two given poses and for
// cameras without a focal length, Error(interrupted).
OrientResult orient_given(std::span<const OrientPhoto> photos, std::span<const CameraPrior> cameras,
                          std::span<const PairMatches> pairs, std::span<const std::optional<Pose>> given,
                          GivenPoses use, const OrientOptions& options = {}, const Executor& executor = Executor(),
                          Monitor& monitor = silent_monitor());

}  // namespace icefield
