// Poses as tables of text.
#pragma once
#include <filesystem>
#include <string>
#include <vector>

#include "icefield/camera/pose_convention.h"

namespace icefield {

struct PoseTable {
  std::vector<std::string> names;  // of photos
  std::vector<WrittenPose> poses;
  std::vector<int> lines;  // in the file, from 1
  // What its columns are called tells the form, and that of the places (x y z, or tx ty tz); nothing where there is no
  // heading that does.
  std::optional<RotationForm> form;
  std::optional<bool> translation;
};

// A photo in each line, with its place and its rotation; parted by commas, semicolons, tabs or blanks, with or without
// headings (photo; x y z or east north height, or tx ty tz; omega phi kappa, or yaw pitch roll, or qw qx qy qz, or r11
// ... r33). Without them: name, place, rotation in the order of `wanted`. Throws Error(input) naming the line and the
// fault: numbers that are missing, photos that come twice, another count of columns than the form has.
PoseTable read_pose_table(const std::filesystem::path& file, std::optional<RotationForm> wanted = {});

// With headings, numbers whole; lines beginning with # say what the numbers mean. Throws Error(resource).
void write_pose_table(const std::filesystem::path& file, const std::vector<std::string>& names,
                      const std::vector<Pose>& poses, const PoseConvention& convention);

}  // namespace icefield
