// What finding targets needs to know of their look.
#pragma once
#include <Eigen/Core>
#include <array>
#include <vector>

#include "icefield/control/targets.h"

namespace icefield {

// 1 on the outer hexagon, less inside.
double hexagon_reach(const Eigen::Vector2d& place);
// The middle of a tooth, half-way between the body and the outer hexagon; `reach`: elsewhere on the same ray.
Eigen::Vector2d tooth_middle(int tooth, double reach);
// Parts of a target that are of one colour: the disc, the body by side, teeth or gaps, the paper outside of them.
inline constexpr int kTargetParts = 1 + 6 + 2 * kTargetTeeth;
int part_at(const Eigen::Vector2d& place);
bool is_dark(std::uint32_t teeth, const Eigen::Vector2d& place);

struct ReadCode {
  int number = 0;
  int turn = 0;    // sides by which the target is turned against how it was read: tooth i was read as tooth i + 3 turn
  int mended = 0;  // teeth that were read wrongly
  double score = 0;  // how far what was read goes with it: 1 wholly, 0 not at all
};
// The numbers that go with what was read, the likeliest first; each once. `light`: by tooth, where it would stand: -1
// dark, 1 light, 0 neither.
std::vector<ReadCode> read_code(const std::array<double, kTargetTeeth>& light, double least_score);

}  // namespace icefield
