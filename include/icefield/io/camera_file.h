// Cameras and poses as JSON in Icefield's own schema (docs/cameras.schema.json).
#pragma once
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "icefield/camera/camera.h"
#include "icefield/camera/pose.h"
#include "icefield/block/bounds.h"
#include "icefield/cloud/cloud.h"
#include "icefield/world/datum.h"

namespace icefield {

struct CameraFile {
  struct Photo {
    std::string name;
    std::size_t camera = 0;
    Pose pose;
    double gsd = 0;  // size of a pixel on the subject, median over its tie points; 0: not known
  };
  Datum datum;
  Eigen::Vector3d origin = Eigen::Vector3d::Zero();  // added to positions and bounds here it gives those of the file
  std::vector<std::string> camera_names;             // same length as cameras
  std::vector<Camera> cameras;
  std::vector<Photo> photos;
  std::optional<Bounds> bounds;  // what a dense cloud is computed within
  std::string fingerprint;       // of what the file was made from, in a survey; may be empty
};

// Positions are written whole, and the origin beside them, so that national coordinates lose nothing on their way back.
void write_camera_file(const std::filesystem::path& file, const CameraFile& content);
// Throws Error(input) naming the file and the entry that is missing or malformed.
CameraFile read_camera_file(const std::filesystem::path& file);

}  // namespace icefield
