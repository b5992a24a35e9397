// How far an orientation has come, as a checkpoint keeps it.
#pragma once
#include <string>
#include <vector>

#include "src/orient/growing_block.h"

namespace icefield {

// What a checkpoint holds besides the block that grows: the cameras at the start, the pairs cut, the finished blocks.
struct Progress {
  std::vector<Camera> cameras;
  std::vector<Block> blocks;
  std::vector<std::string> reasons;
  int attempts = 0;   // blocks are made again without twins
  double agreed = 0;  // of the attempt before
  std::vector<Block> blocks_before;
  std::vector<std::string> reasons_before;
  std::vector<std::uint8_t> cut, cut_before,
      cut_before_check;  // by pair: now, of the attempt before, before the last look at the graph
  OrientSummary summary, summary_before;
};
Bytes to_bytes(const Progress& progress, const GrowingBlock* growing);
// True when a block was growing; its bytes are the next to be read.
bool from_bytes(ByteReader& in, std::span<const CameraPrior> priors, Progress& progress);

}  // namespace icefield
