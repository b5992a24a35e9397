// Where a spot is seen in photos that it is not marked in yet.
#pragma once
#include <Eigen/Core>
#include <optional>
#include <span>
#include <vector>

#include "icefield/control/locate.h"

namespace icefield {

struct PredictedMark {
  PosedIndex photo;
  Eigen::Vector2d pixel = Eigen::Vector2d::Zero();
  Eigen::Matrix2d covariance = Eigen::Matrix2d::Zero();  // px squared: of the spot, and of the block
  double gain = 0;  // share of the spot's variance that a mark there would take away
};

// In all photos that have the spot within them, but for those of `marked`; the most useful first. Whether something
// hides it there is not known. `mark_sigma_px`: of the marks to come.
std::vector<PredictedMark> predict_marks(const Block& block, const LocatedSpot& spot, std::span<const SpotMark> marked,
                                         double mark_sigma_px = 0.5);

// A spot that is marked in one photo, as far away as the tie points around it in that photo are; its covariance is what
// these scatter by. Not known where there are none within 5 percent of the photo's width.
LocatedSpot locate_by_tie_points(const Block& block, const SpotMark& mark);

// Half axes of the ellipse that holds the spot in two of three cases, px, the longer first, and the direction of that
// (radians from x).
struct Ellipse {
  double longer = 0, shorter = 0, turn = 0;
};
Ellipse ellipse_of(const Eigen::Matrix2d& covariance);

}  // namespace icefield
