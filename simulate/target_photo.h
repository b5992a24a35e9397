// Photos of coded targets on a wall, drawn without a scene: for how well they are found.
#pragma once
#include <Eigen/Core>
#include <cstdint>
#include <vector>

#include "icefield/photo/image.h"

namespace icefield::simulate {

struct TargetPhotoPlan {
  int width = 1200, height = 900;
  double diameter_px = 40;  // where the target is not slanted
  double tilt_deg = 0;      // of the target's plane against the photo's
  double focal_px = 1500;
  int targets = 12;      // on a grid, each with a number, turn and direction of tilt of its own
  double blur_px = 0.7;  // of the optics
  double noise = 3;      // standard deviation, of 255
  double white = 0.8, black = 0.08;
  std::uint64_t seed = 1;
};

struct PlacedTarget {
  int number;
  Eigen::Vector2d pixel;  // where its middle is seen
};

struct TargetPhoto {
  ImageU8 photo;
  std::vector<PlacedTarget> targets;
};

// Boards of white paper before a rough wall, in light that falls off to one side. As stored by a camera: blurred, with
// noise, not compressed.
TargetPhoto make_target_photo(const TargetPhotoPlan& plan);

}  // namespace icefield::simulate
