// How well surveys of parts of the photos agree with a survey of all of them, and their surfaces with one another.
#pragma once
#include <span>
#include <string>
#include <vector>

#include "icefield/block/block.h"
#include "icefield/judge/compare.h"

namespace icefield {

// Two surfaces where both of them are.
struct SurfaceAgreement {
  std::size_t first_points = 0, second_points = 0;
  std::size_t common = 0;     // points of either with surface of the other, that looks the same way, within the reach
  double common_percent = 0;  // of all points
  double offset_gsd = 0;      // mean way from the second to the first along the normal: a shell, doubled, has one
  double median_gsd = 0, at_95_gsd = 0;  // distances
  double within_2_gsd_percent = 0;       // of the common points
};

// `reach_gsd`: beyond it, one has surface that the other lacks. Both clouds in one frame and with normals; `gsd` in
// their units. The same for any number of threads. Throws Error(usage) for clouds without normals and for a GSD of 0.
SurfaceAgreement compare_surfaces(const PointCloud& first, const PointCloud& second, double gsd, double reach_gsd = 10,
                                  const Executor& executor = Executor());

// Tie points of a block that photos of more than one part see.
struct TiesAcross {
  std::size_t points = 0, observations = 0;
  double rms_px = 0;
  double percent = 0;  // of the block's tie points
};
// `part_of`: by photo of the block; kNoPart: of none.
inline constexpr int kNoPart = -1;
TiesAcross ties_across(const Block& block, std::span<const int> part_of);

}  // namespace icefield
