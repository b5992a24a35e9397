// What other programs take from a survey, as folders.
#pragma once
#include <cstdint>
#include <filesystem>
#include <string>

#include "icefield/survey/survey.h"

namespace icefield {

// The photos of a block without distortion (PNG), and their pinhole cameras in cameras.json. Returns how many photos.
std::size_t export_undistorted(Survey& survey, std::size_t block, const std::filesystem::path& folder,
                               const Executor& executor, Monitor& monitor);

// The depth maps of a block as images of 32-bit floats, depth along the optical axis in the block's units, 0 where none
// is believed, and their cameras in cameras.json. `extension`: "tif" or "exr". Returns how many. Throws Error(usage)
// where there is no fresh one.
std::size_t export_depth_maps(Survey& survey, std::size_t block, const std::filesystem::path& folder,
                              const std::string& extension, Monitor& monitor);

// The smallest pixel on the subject over the photos of a block, block units; what LAS files need of coordinates. 0
// where it is not known.
double smallest_gsd(const CameraFile& cameras);

}  // namespace icefield
