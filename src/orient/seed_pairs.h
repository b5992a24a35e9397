// Where a block can start.
#pragma once
#include <vector>

#include "src/orient/growing_block.h"

namespace icefield {

struct Seed {
  PhotoIndex first, second;
  Pose second_in_first;
  double score = 0;
  double angle_deg = 0;    // median angle at which rays meet
  std::size_t points = 0;  // in front of both, at a useful angle
};

// Pairs of allowed photos whose rays meet at a useful angle, best first. `widest_deg` tells the best median angle
// found, for the reason when there is none.
std::vector<Seed> find_seeds(const OrientInput& input, const std::vector<Camera>& cameras,
                             const std::vector<bool>& allowed, double& widest_deg);

// A block started from the best seed that holds; none, with the reason, when there is no such.
std::unique_ptr<GrowingBlock> start_block(const OrientInput& input, const std::shared_ptr<const TrackSet>& tracks,
                                          const std::vector<Camera>& cameras, const std::vector<bool>& allowed,
                                          std::string& failure);

}  // namespace icefield
