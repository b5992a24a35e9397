// Which way is up, as far as photos can tell.
#pragma once
#include <Eigen/Core>

#include "icefield/block/block.h"

namespace icefield {

// What up was told by.
enum class LevelSource {
  horizontals,   // photos look in many directions and are held with their long side level
  held,          // they look alike, and stand beside each other: held upright
  looking_down,  // they look alike, and cover an area: seen from above
};
const char* describe(LevelSource source);

struct LevelGuess {
  Eigen::Vector3d up = Eigen::Vector3d::UnitZ();  // in the frame of the block
  LevelSource source = LevelSource::horizontals;
  double sigma_deg = 0;  // standard deviation of its direction, as far as the photos' scatter tells
  // The largest plane among the tie points around the subject: how many of them lie in it, and its lean against level.
  double plane_share = 0, plane_lean_deg = 0;
};

// For a block of one photo or more.
LevelGuess guess_level(const Block& block);

}  // namespace icefield
