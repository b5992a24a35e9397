// The similarity that most of what is known of places agrees on.
#pragma once
#include <Eigen/Core>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "icefield/geometry/similarity.h"

namespace icefield {

// A place that the block and the control both know.
struct ControlTie {
  Eigen::Vector3d block, world;
  double sigma = 1;  // in the world, metres: of a coordinate, the larger one
};

struct ControlFit {
  Similarity to_world;
  std::vector<bool> agrees;    // by tie
  bool level_guessed = false;  // ties on a line: the tilt across it is what the block had
  bool checked = false;        // more ties agree than the fit needs
};

// Three ties at a time (two and the block's own level where all lie on one line), then all that agree, with a tolerance
// of their deviations, `gsd` (size of a pixel, of the block) and what a free block may be bent by. Nothing for fewer
// than three ties, and where not even half of them agree (of three all must).
std::optional<ControlFit> fit_to_control(std::span<const ControlTie> ties, double gsd);

// The middle line of places: how far they reach along it and across it.
struct Reach {
  double along = 0, across = 0;
  bool in_a_line(double sigma) const { return across < std::max(5 * sigma, 0.02 * along); }
};
Reach reach_of(std::span<const Eigen::Vector3d> places);

}  // namespace icefield
