// How well the photos of a block see each other's surface: what can become of a depth map before it is made.
#pragma once
#include <array>
#include <cstdint>
#include <span>
#include <vector>

#include "icefield/dense/depth_map.h"

namespace icefield {

// Why a part of a photo is matched against one other photo or none.
enum class ThinReason : std::uint8_t {
  none,          // it is not
  nobody_shows,  // no other photo that shares tie points shows it
  same_place,    // others look from nearly the same place, so that depth cannot be told
  far_aside,     // others look at it from too far aside
  hidden,        // something nearer hides it from others
  few_ties,      // others see it, but share too few tie points with the photo
};
const char* describe(ThinReason reason);  // "no other photo shows it", ...

// The parts of a photo (see MatchViews) that look into the bounds.
struct PhotoCoverage {
  PhotoIndex photo;
  int columns = 0, rows = 0;
  static constexpr std::uint8_t kOutside = 255;
  // By part, row by row: how many photos it is matched against that see half of it or more.
  std::vector<std::uint8_t> views;
  std::vector<ThinReason> reasons;     // by part
  std::array<std::size_t, 5> parts{};  // how many of them are matched against none, one, two, three, four or more
  std::size_t looking() const { return parts[0] + parts[1] + parts[2] + parts[3] + parts[4]; }
  double thin_percent() const;     // matched against one or none, of those that look into the bounds
  ThinReason main_reason() const;  // of most of these
};

// Of each photo of the block; with DenseOptions::skip_repeats, none of the parts of a photo that repeats others.
// `sharpness`: as for choose_views.
std::vector<PhotoCoverage> coverage_of_photos(const Block& block, const Bounds& bounds, const DenseOptions& options,
                                              std::span<const double> sharpness = {},
                                              const Executor& executor = Executor());

}  // namespace icefield
