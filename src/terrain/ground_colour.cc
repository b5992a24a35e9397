#include "src/terrain/ground_colour.h"

#include <cmath>

namespace icefield {
namespace {

float middle_of(std::vector<float>& values) {
  const auto middle = values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2);
  std::nth_element(values.begin(), middle, values.end());
  return *middle;
}

}  // namespace

GroundColour::GroundColour(const FineCells& cells, const ImageU8& is_ground, int side, const Executor& executor)
    : side_(std::max(1, side)),
      across_((is_ground.width() + side_ - 1) / side_),
      down_((is_ground.height() + side_ - 1) / side_),
      squares_(static_cast<std::size_t>(across_) * static_cast<std::size_t>(down_)) {
  constexpr std::size_t kLeast = 30;  // cells, for a middle that means something
  // Not all cells of a square are looked at: some sixty each way.
  const int stride = std::max(1, 3 * side_ / 60);
  executor.blocks(squares_.size(), 1, [&](std::size_t i, std::size_t, std::size_t) {
    const int u = static_cast<int>(i) % across_, v = static_cast<int>(i) / across_;
    std::vector<float> red, green;
    for (int y = std::max(0, (v - 1) * side_); y < std::min(is_ground.height(), (v + 2) * side_); y += stride)
      for (int x = std::max(0, (u - 1) * side_); x < std::min(is_ground.width(), (u + 2) * side_); x += stride) {
        const FineCell* cell = is_ground.at(x, y) ? cells.at(x, y) : nullptr;
        if (!cell || cell->points == 0) continue;
        const auto c = cell->colour();
        const Tint tint = Tint::of(c[0], c[1], c[2]);
        red.push_back(tint.red), green.push_back(tint.green);
      }
    if (red.size() < kLeast) return;
    Square& square = squares_[i];
    square.known = true;
    square.middle = {middle_of(red), middle_of(green)};
    for (float& r : red) r = std::abs(r - square.middle.red);
    for (float& g : green) g = std::abs(g - square.middle.green);
    square.red_spread = 1.4826f * middle_of(red), square.green_spread = 1.4826f * middle_of(green);
  });
}

const GroundColour::Square& GroundColour::square_at(int x, int y) const {
  static const Square unknown;
  if (squares_.empty()) return unknown;
  return squares_[static_cast<std::size_t>(std::clamp(y / side_, 0, down_ - 1)) * static_cast<std::size_t>(across_) +
                  static_cast<std::size_t>(std::clamp(x / side_, 0, across_ - 1))];
}

bool GroundColour::is_unlike(const Tint& tint, int x, int y) const {
  constexpr float kSpreads = 3.5f, kLeast = 0.02f;
  const Square& square = square_at(x, y);
  return square.known &&
         (std::abs(tint.red - square.middle.red) > std::max(kLeast, kSpreads * square.red_spread) ||
          std::abs(tint.green - square.middle.green) > std::max(kLeast, kSpreads * square.green_spread));
}

bool GroundColour::is_green(const Tint& tint, int x, int y) const {
  constexpr float kGreen = 0.06f, kGreener = 0.04f;
  const Square& square = square_at(x, y);
  return tint.greenness() > kGreen && (!square.known || tint.greenness() > square.middle.greenness() + kGreener);
}

}  // namespace icefield
