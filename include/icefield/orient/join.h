// Blocks that share photos or tie points become one.
#pragma once
#include "icefield/adjust/adjust.h"

namespace icefield {

struct JoinOptions {
  // Common points or photos that must agree on how the second block lies in the first, and their share of all common
  // ones.
  int min_agreeing = 12;
  double min_share = 0.3;
  double max_error_px = 8;  // at which a common point, seen by the photos of the other block, agrees
  AdjustOptions adjust;
  bool adjusted = true;  // adjust the joined block
};

struct JoinResult {
  bool joined = false;
  std::string outcome = "nothing done yet";
  Block block;  // in the frame of the first
  std::size_t common_photos = 0, common_points = 0, agreeing = 0;
  Similarity to_first;  // from the second block's frame
};

// Common photos are known by their index in the photo list; common points by a feature of one photo that both blocks
// use, or by the track of a feature where `track_of` (by photo and feature; kNone for none) tells it. The similarity is
// found robustly, then both blocks are laid together and adjusted. Where nothing agrees, says so and changes nothing.
JoinResult join(const Block& first, const Block& second, std::span<const std::vector<std::uint32_t>> track_of,
                const JoinOptions& options = {}, const Executor& executor = Executor(),
                Monitor& monitor = silent_monitor());

}  // namespace icefield
