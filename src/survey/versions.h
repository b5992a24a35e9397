// Versions of the steps. Raise one when its output changes for the same input: results made before then become stale.
#pragma once

namespace icefield {

constexpr int kPhotoVersion = 4, kFeatureVersion = 6, kPairVersion = 3, kChoiceVersion = 3, kPoseVersion = 10,
              kDepthVersion = 8, kFuseVersion = 8, kBlockFileVersion = 1;

}  // namespace icefield
