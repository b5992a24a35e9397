// What other programs take from a survey, as folders.
#pragma once
#include <cstdint>
#include <filesystem>
#include <string>
#include <vector>

#include "icefield/survey/survey.h"

namespace icefield {

// The pinhole camera of a photo whose distortion is taken out: its focal length and principal point stay.
Camera without_distortion(const Camera& camera);

// The photos of a block without distortion (PNG), and their pinhole cameras in cameras.json. Returns how many photos.
std::size_t export_undistorted(Survey& survey, std::size_t block, const std::filesystem::path& folder,
                               const Executor& executor, Monitor& monitor);

// The depth maps of a block as images of 32-bit floats, depth along the optical axis in the block's units, 0 where none
// is believed, and their cameras in cameras.json. `extension`: "tif" or "exr". Returns how many. Throws Error(usage)
// where there is no fresh one.
std::size_t export_depth_maps(Survey& survey, std::size_t block, const std::filesystem::path& folder,
                              const std::string& extension, Monitor& monitor);

// What programs that learn a scene from posed photos take (radiance fields, splats), and compositing.
struct SceneOptions {
  PoseConvention convention;       // of poses.csv
  bool fit = false;                // moved and scaled so that the subject lies within a ball of radius 1 around 0
  std::uint64_t points = 200'000;  // seed points at most: of the dense cloud where it is fresh, else tie points
  std::string photos = "png";      // or "jpg"
};
struct SceneReport {
  std::size_t photos = 0, masks = 0;
  std::uint64_t points = 0;
  bool dense = false;  // seed points are of the dense cloud
  double scale = 1;    // scene = scale * (block - centre)
  Eigen::Vector3d centre = Eigen::Vector3d::Zero();
  std::size_t checks = 0;  // tie points in check.json
};

// A folder of a block: photos/ without distortion; masks/ of the same names (PNG, 255 what counts) where a photo does
// not reach or is masked; cameras.json (pinhole cameras and poses) and poses.csv (the same poses in a convention of
// choice); points.ply, the seed points; scene.glb, cameras and points as glTF; frame.json, the way from the
// coordinates of the survey's files into the scene's and back; check.json, ten tie points with their pixels in the
// photos, so that a reader can prove its import. Throws Error(usage) for a folder that is there and not empty, and
// what Survey::block throws.
SceneReport export_scene(Survey& survey, std::size_t block, const std::filesystem::path& folder,
                         const SceneOptions& options, const Executor& executor, Monitor& monitor);

// Where photos stand, which way they look and what they see, as three layers: FILE with projection centres (height,
// heading from north, tilt from straight down, GSD), FILE_directions with lines as long as the way to the ground, and
// FILE_footprints with what each sees on a level plane through its tie points; GeoPackage or GeoJSON by the ending.
// Returns the files.
std::vector<std::filesystem::path> export_photo_map(Survey& survey, std::size_t block,
                                                    const std::filesystem::path& file);

// The smallest pixel on the subject over the photos of a block, block units; what LAS files need of coordinates. 0
// where it is not known.
double smallest_gsd(const CameraFile& cameras);

}  // namespace icefield
