// Cameras and poses as a file has them, with the photos that their names mean.
#pragma once
#include <filesystem>
#include <memory>
#include <vector>

#include "icefield/block/block.h"
#include "icefield/io/camera_file.h"
#include "icefield/photo/photo_source.h"
#include "icefield/world/world_frame.h"

namespace icefield {

// In a frame without curvature, which `frame` leads to and from the coordinates of the file.
struct PosedPhotos {
  Block block;  // no points
  WorldFrame frame;
  std::unique_ptr<PhotoSource> photos;  // by the order of the file
};

// A name means the one photo below the folder whose path ends in it; where there is none, or more than one, loading
// that photo throws Error(input). Throws Error(usage) for a CRS that is not projected.
PosedPhotos photos_by_name(const CameraFile& cameras, const std::filesystem::path& folder);

}  // namespace icefield
