// Where photos stand when their orientations are known: all at once.
#pragma once
#include <vector>

#include "src/orient/orient_input.h"

namespace icefield {

// Projection centres from the directions in which photos with known orientations see their tracks, together with the
// points of the tracks, from no start: first with all depths alike, then the depths follow; in the end the sines of the
// angles between directions and points count, robustly. (Positions and points in one problem instead of relative
// positions first: rows of photos in a line have no other scale.) `taken` marks the photos; those that no chain of
// tracks holds come back unmarked. The scale is free. Cost: linear in the tracks looked at, some 150 a photo, and a
// sparse system of three rows a photo.
std::vector<Eigen::Vector3d> solve_positions(const OrientInput& input, const TrackSet& set,
                                             const std::vector<Camera>& cameras,
                                             const std::vector<Eigen::Quaterniond>& orientations,
                                             std::vector<std::uint8_t>& taken);

}  // namespace icefield
