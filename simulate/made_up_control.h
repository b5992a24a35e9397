// Surveyed points, their marks and photo positions of a made-up set, with the truth behind them and the faults that
// such things have.
#pragma once
#include <functional>
#include <optional>
#include <vector>

#include "icefield/control/control.h"

namespace icefield::simulate {

struct ControlPlan {
  int control = 5, check = 4;
  double point_sigma_m = 0.01;  // of surveyed coordinates
  double mark_sigma_px = 0.3;
  int most_marks = 12;  // of a point
  bool fixes = false;
  double fix_sigma_m = 1.5, fix_height_sigma_m = 1.5;
  Eigen::Vector3d fix_shift = Eigen::Vector3d::Zero();  // of all alike
  bool fixes_stated = true;                             // their accuracy is known
  std::uint64_t seed = 1;
  double height = 0;  // of the ground, where no scene tells it
};

struct MadeUpControl {
  Control control;
  std::vector<Eigen::Vector3d> places;  // true ones, by point
};

// Height of the ground at a place in plan, and whether a photo (of the truth) sees a place.
using GroundHeight = std::function<double(double x, double y)>;
using SeesPlace = std::function<bool(std::size_t photo, const Eigen::Vector3d& place)>;

// Control points near the corners and in the middle of what the photos see, check points between them. `truth`: cameras
// and true poses. Without functions the ground is flat and nothing hides anything.
MadeUpControl make_control(const Block& truth, const ControlPlan& plan, const GroundHeight& ground = {},
                           const SeesPlace& sees = {});

}  // namespace icefield::simulate
