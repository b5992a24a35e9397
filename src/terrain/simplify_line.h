// Lines with fewer corners.
#pragma once
#include <Eigen/Core>
#include <vector>

namespace icefield {

// Leaves out places that are no farther than this from the line without them (Douglas and Peucker, "Algorithms for the
// reduction of the number of points required to represent a digitized line or its caricature", 1973). Of a closed line
// no less than three are left.
std::vector<Eigen::Vector2d> simplify_line(const std::vector<Eigen::Vector2d>& places, bool closed, double tolerance);

}  // namespace icefield
