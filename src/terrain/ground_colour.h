// The colour of the ground, place by place, and what is unlike it.
#pragma once
#include <array>

#include "icefield/base/parallel.h"
#include "icefield/photo/image.h"
#include "src/terrain/fine_cells.h"

namespace icefield {

// Shares of red and green in a colour: they change little with the light.
struct Tint {
  float red = 1.0f / 3, green = 1.0f / 3;
  static Tint of(float r, float g, float b) {
    const float sum = r + g + b + 3;
    return {(r + 1) / sum, (g + 1) / sum};
  }
  // Twice the green less the others, by their sum.
  float greenness() const { return 3 * green - 1; }
};

// Tints of the ground in squares of `side` cells, each from those around it too: the middle one and how far it varies.
class GroundColour {
 public:
  GroundColour() = default;
  // `is_ground`: by fine cell, not 0 where its points are of the ground.
  GroundColour(const FineCells& cells, const ImageU8& is_ground, int side, const Executor& executor);
  // In cells of the fine raster. Nowhere where the ground's colour is not known.
  bool is_unlike(const Tint& tint, int x, int y) const;
  // Greener than things without leaves are, and than the ground around.
  bool is_green(const Tint& tint, int x, int y) const;

 private:
  struct Square {
    Tint middle;
    float red_spread = 0, green_spread = 0;
    bool known = false;
  };
  const Square& square_at(int x, int y) const;
  int side_ = 1, across_ = 0, down_ = 0;
  std::vector<Square> squares_;
};

}  // namespace icefield
