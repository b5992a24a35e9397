// A spot from its marks in several photos.
#pragma once
#include <Eigen/Core>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "icefield/block/block.h"

namespace icefield {

struct SpotMark {
  PosedIndex photo;  // of the block
  Eigen::Vector2d pixel = Eigen::Vector2d::Zero();
  double sigma_px = 0.5;
};

struct LocatedSpot {
  std::string outcome = "nothing done yet";
  bool known = false;
  Eigen::Vector3d position = Eigen::Vector3d::Zero();  // in the block's frame
  // By its marks alone, taking the poses as they stand; block units squared.
  Eigen::Matrix3d covariance = Eigen::Matrix3d::Zero();
  std::vector<bool> agrees;  // by mark: it lies where the others say, within 5 standard deviations
  double angle = 0;          // largest one between two of its rays, radians
};

// Two marks or more of one spot: the place that most of them agree on, then least squares over those. Where there are
// two that do not meet, or rays that run side by side, it is not known and the outcome says why.
LocatedSpot locate_spot(const Block& block, std::span<const SpotMark> marks);

}  // namespace icefield
