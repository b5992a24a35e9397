// Icefield's colours and shapes: the tones of a glacier's forefield. What differs in meaning differs in lightness or in
// shape as well, so that it can be told apart by everybody and in grey.
#pragma once
#include <algorithm>
#include <array>
#include <cstdint>

namespace icefield {

struct Tone {
  double r, g, b;
};

// Grounds.
inline constexpr Tone kFirn = {0.925, 0.943, 0.950};     // light, under blocks and clouds
inline constexpr Tone kSlate = {0.105, 0.130, 0.150};    // dark, around photos
inline constexpr Tone kGranite = {0.520, 0.560, 0.580};  // what is of no weight

// Marks.
inline constexpr Tone kMeltwater = {0.235, 0.800, 0.740};  // what fits, on dark grounds
inline constexpr Tone kLantern = {0.985, 0.690, 0.190};    // what stands out, on dark grounds
inline constexpr Tone kMoss = {0.700, 0.780, 0.420};       // what waits, on dark grounds
inline constexpr Tone kCrevasse = {0.075, 0.270, 0.420};   // lines on light grounds
inline constexpr Tone kRust = {0.690, 0.270, 0.080};       // what stands out, on light grounds

// Numbers, low to high, ever lighter: from the depth of a crevasse over ice and moss to the light of a lantern.
inline std::array<std::uint8_t, 3> scale_colour(double t) {
  t = std::clamp(t, 0.0, 1.0);
  constexpr int kStops = 6;
  static constexpr double stops[kStops][3] = {{28, 26, 72},   {32, 78, 132},   {38, 132, 150},
                                              {98, 176, 138}, {184, 206, 104}, {252, 206, 84}};
  const double at = t * (kStops - 1);
  const int i = std::min(kStops - 2, static_cast<int>(at));
  std::array<std::uint8_t, 3> colour{};
  for (int c = 0; c < 3; ++c)
    colour[static_cast<std::size_t>(c)] =
        static_cast<std::uint8_t>(stops[i][c] + (at - i) * (stops[i + 1][c] - stops[i][c]));
  return colour;
}

}  // namespace icefield
