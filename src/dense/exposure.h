// Differences of exposure between photos.
#pragma once
#include <array>
#include <cstdint>
#include <vector>

namespace icefield {

// The colour that a photo shows of a tie point, channels 0 to 255.
struct SeenColour {
  std::uint32_t point;
  std::array<std::uint8_t, 3> colour;
};

// By photo and channel, what its values are to be multiplied with so that all photos show common points alike; their
// mean (of logarithms) is 1 over all photos with points in common. 1 for photos that share none. Colours near black or
// white take no part.
std::vector<std::array<float, 3>> exposure_factors(const std::vector<std::vector<SeenColour>>& seen,
                                                   std::size_t points);

}  // namespace icefield
