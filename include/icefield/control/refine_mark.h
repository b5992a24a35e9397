// A mark moved to where the pixels say that its target is.
#pragma once
#include <Eigen/Core>
#include <string>

#include "icefield/photo/image.h"

namespace icefield {

// What a target is about its middle.
enum class TargetShape {
  automatic,  // whichever of the two the pixels agree with better
  corner,     // edges that meet in it: a quartered square, a corner of a chessboard, a cross
  disc,       // an edge around it: a disc, a ring
};
const char* describe(TargetShape shape);

struct RefineMarkOptions {
  TargetShape shape = TargetShape::automatic;
  // Pixels about the mark that are looked at; a target is found up to this far from it. Twice the usual error of a
  // hand.
  double reach_px = 12;
  // Radii of the neighbourhood that the place is found from; those that a target does not fill do not agree.
  double least_radius_px = 3, most_radius_px = 24;
  // The edges that have their say must be at least this much steeper than noise: grey values (0 to 1) a pixel.
  double least_gradient = 0.01;
};

struct RefinedMark {
  std::string outcome = "nothing done yet";
  bool refined = false;  // else the mark stays where it was, and the outcome says why
  Eigen::Vector2d pixel = Eigen::Vector2d::Zero();
  double sigma_px = 0;  // standard deviation of a coordinate, from how far the edges miss their common point
  TargetShape shape = TargetShape::automatic;
  double radius_px = 0;  // of the neighbourhood
};

// The point that the edges about it run to, or run around: weighted least squares over gradients, repeated about what
// was found until it stands (Foerstner and Guelch, "A fast operator for detection and precise location of distinct
// points, corners and centres of circular features", 1987). Neighbourhoods of several
// sizes have their say; a target looks the same when turned by half a turn, and gives one place for many sizes. Where
// pixels do not agree on a point nothing is refined. `grey`: one channel, 0 to 1, the
// photo or a part of it with `near` in its coordinates.
RefinedMark refine_mark(const ImageF& grey, const Eigen::Vector2d& near, const RefineMarkOptions& options = {});

}  // namespace icefield
