// A second pass of matching along a known two-view geometry.
#pragma once
#include <Eigen/Core>
#include <span>
#include <vector>

#include "icefield/match/match.h"

namespace icefield {

struct Guide {
  // Of all features of the two photos, in the units of the matrix.
  std::span<const Eigen::Vector2d> first, second;
  Eigen::Matrix3d matrix;
  bool lines = true;      // an epipolar geometry; otherwise a map of points
  double max_error = 0;   // in the units of the points
  double same_place = 0;  // features of the second photo nearer than this to each other are one place
  float max_ratio = 0.85f;
};

// Nearest neighbours among the features within reach of the geometry, with a ratio test among those within reach that
// are not at the same place, a bound on the distance taken from the `known` matches, and a mutual check. Features that
// `known` uses are left out. In the order of the first photo's features. Cost: the pairs of features within reach.
std::vector<Match> match_guided(const Features& first, const Features& second, std::span<const Match> known,
                                const Guide& guide);

}  // namespace icefield
