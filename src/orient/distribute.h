// Poses that follow from relative ones, with what does not close shared out among them.
#pragma once
#include <vector>

#include "icefield/camera/pose.h"

namespace icefield {

// The second photo seen from the first: orientation, centre in the first's frame and measure, and the second's measure
// over the first's (logarithm), for the measure drifts as direction does.
struct RelativeStep {
  std::uint32_t first = 0, second = 0;
  Eigen::Quaterniond turn = Eigen::Quaterniond::Identity();
  Eigen::Vector3d shift = Eigen::Vector3d::Zero();
  double log_scale = 0;
  double weight = 1;
};

// Least squares in three linear parts: orientations, measures, centres. Photos without a step keep their pose. The
// poses are the start and must be connected through the steps to be comparable.
std::vector<Pose> distribute(const std::vector<Pose>& poses, const std::vector<RelativeStep>& steps);

}  // namespace icefield
