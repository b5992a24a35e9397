// Distances and angles between spots that are located by their marks.
#pragma once
#include "icefield/control/locate.h"

namespace icefield {

// A number with its standard deviation.
struct Measured {
  double value = 0, sigma = 0;
};

// As far as the marks tell: poses are taken as they stand, and the two spots' errors as independent. In the units of
// the block; for spots that are not known all is 0.
struct SpotDistance {
  Measured length;
  Measured plan;    // of it in plan
  Measured height;  // the second over the first
  double slope_deg = 0;
};
SpotDistance distance_between(const LocatedSpot& first, const LocatedSpot& second);

// At `corner`, between the directions to the two others: 0 to 180 degrees.
Measured angle_at(const LocatedSpot& corner, const LocatedSpot& first, const LocatedSpot& second);

}  // namespace icefield
