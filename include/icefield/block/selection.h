// What a specialist chose to keep and to drop, once for all steps.
#pragma once
#include <optional>
#include <vector>

#include "icefield/block/bounds.h"
#include "icefield/geometry/plane.h"

namespace icefield {

// A part of space: what lies within all of what it names. One that names nothing is all of space.
struct SelectionPart {
  std::optional<Bounds> box;
  std::vector<Eigen::Vector2d> outline;  // corners X Y in plan; empty: none
  std::optional<double> low, high;       // heights
  std::optional<Plane> plane;            // the side that its normal points to

  bool contains(const Eigen::Vector3d& place) const;
};

// Kept is what lies in any part of `keep` (in all of space where there is none) and in no part of `drop`. Frame and
// units: those of the block or file that it is applied to.
struct Selection {
  std::vector<SelectionPart> keep, drop;

  bool empty() const { return keep.empty() && drop.empty(); }
  bool contains(const Eigen::Vector3d& place) const;
};

}  // namespace icefield
