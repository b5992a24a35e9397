// Versions of the steps. Raise one when its output changes for the same input: results made before then become stale.
#pragma once

namespace icefield {

constexpr int kPhotoVersion = 4, kFeatureVersion = 6, kPairVersion = 4, kWideVersion = 1, kChoiceVersion = 4,
              kPoseVersion = 14, kGeoreferenceVersion = 4, kDepthVersion = 9, kFuseVersion = 10, kBlockFileVersion = 1,
              kTargetVersion = 1, kMeshVersion = 6, kTextureVersion = 2, kTerrainVersion = 3, kOrthomosaicVersion = 1;

}  // namespace icefield
