// Blocks that share nothing but spots that were marked in both become one.
#pragma once
#include "icefield/control/control.h"
#include "icefield/orient/join.h"

namespace icefield {

// How a spot that both blocks know lies in them.
struct JoinedSpot {
  std::uint32_t point = 0;  // of the control
  double off_px = 0;        // from where the other block has it, in pixels on the subject
  bool agrees = false;
};

struct MarkJoinResult {
  JoinResult join;
  std::vector<JoinedSpot> spots;  // that are marked in two photos or more of both blocks
};

// Lays the second block onto the first by points that are marked in two photos or more of each: the similarity that
// most of them agree on, then, as `options.adjusted` says, an adjustment with all marks. Three points that are not on
// one line are needed; a fourth shows whether they are right. Marks of points that agree become observations of the
// joined block, so that later adjustments hold it together. Where they do not agree, says so and changes nothing. Of
// `options` the counts of what must agree are not read. Throws Error(usage) as check_control does.
MarkJoinResult join_by_marks(const Block& first, const Block& second, const Control& control,
                             const JoinOptions& options = {}, const Executor& executor = Executor(),
                             Monitor& monitor = silent_monitor());

}  // namespace icefield
