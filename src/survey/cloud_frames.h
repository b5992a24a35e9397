// Clouds between the frame of a block and the coordinates of its files.
#pragma once
#include "icefield/cloud/cloud.h"
#include "icefield/world/world_frame.h"

namespace icefield {

// With the frame's origin as its own, and the datum.
PointCloud cloud_in_world(const PointCloud& cloud, const WorldFrame& frame, const Datum& datum);
// The way back; its origin is 0.
PointCloud cloud_in_block(PointCloud cloud, const WorldFrame& frame);

}  // namespace icefield
