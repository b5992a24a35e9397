#include "icefield/block/selection.h"

#include <algorithm>

namespace icefield {

bool SelectionPart::contains(const Eigen::Vector3d& place) const {
  return (!box || box->contains(place)) && (outline.empty() || within_outline(place.head<2>(), outline)) &&
         (!low || place.z() >= *low) && (!high || place.z() <= *high) && (!plane || plane->height_of(place) >= 0);
}

bool Selection::contains(const Eigen::Vector3d& place) const {
  const auto holds = [&](const SelectionPart& part) { return part.contains(place); };
  return (keep.empty() || std::any_of(keep.begin(), keep.end(), holds)) &&
         std::none_of(drop.begin(), drop.end(), holds);
}

}  // namespace icefield
