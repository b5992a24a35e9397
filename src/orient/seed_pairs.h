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

// What the pairs that were looked at have, for the reason when no block can start from them: the widest of their median
// angles between rays, and by how much their photos are turned from each other (the median over the pairs).
struct SeedSearch {
  double widest_deg = 0, turned_deg = 0;
};

// Pairs of allowed photos whose rays meet at a useful angle, best first.
std::vector<Seed> find_seeds(const OrientInput& input, const std::vector<Camera>& cameras,
                             const std::vector<bool>& allowed, SeedSearch& search);

// A block started from the best seed that holds; none, with the reason, when there is no such.
std::unique_ptr<GrowingBlock> start_block(const OrientInput& input, const std::shared_ptr<const TrackSet>& tracks,
                                          const std::vector<Camera>& cameras, const std::vector<bool>& allowed,
                                          std::string& failure);

}  // namespace icefield
