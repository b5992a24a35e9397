// Which of the keypoints found are worth the budget.
#pragma once
#include <cstdint>
#include <vector>

namespace icefield {

struct Candidate {
  float x = 0, y = 0, layer = 0;   // indices in its octave
  float photo_x = 0, photo_y = 0;  // image coordinates of the photo
  float strength = 0;
  int octave = 0;
};

// At most `limit` candidates, in the order of their worth: the photo is cut into cells, and each octave of each cell
// gives its strongest in turns, each octave 2.5 times less often than the next finer one, so that neither one corner of
// the photo nor one scale takes the budget. (Their areas ask for a quarter; but the coarse ones are what photos of
// other distance, sharpness or noise have in common: docs/benchmarks.md.) Exact doubles are dropped.
void spread(std::vector<Candidate>& candidates, int width, int height, int limit);

}  // namespace icefield
