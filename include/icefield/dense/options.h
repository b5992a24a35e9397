// How depth maps and clouds are made.
#pragma once
#include <cstddef>

#include "icefield/cloud/clean.h"

namespace icefield {

struct DenseOptions {
  // Depth maps are computed on photos shrunk by this factor: 1 full, 2 half, 4 quarter size.
  int shrink = 2;
  // Photos that a depth map is matched against, all its parts together, and those of them that one part asks.
  int max_neighbours = 10, part_neighbours = 5;
  int min_shared_points = 12;  // tie points that a neighbour must share
  double min_angle_deg = 2.5;  // between the lines of sight to shared points (median); less gives no depth
  double max_angle_deg = 50;   // more makes the surface look different
  bool skip_repeats = false;   // no map for a photo that shows what a sharper one shows from nearly the same place
  // Patch: samples at every `patch_step` pixels out to `patch_radius`. Small patches keep detail, large ones bridge
  // weak texture.
  int patch_radius = 3, patch_step = 2;
  // Where the contrast of a patch (standard deviation, grey values) is lower, it is `wide_patch` times wider. 0:
  // nowhere.
  double weak_contrast = 2.5, wide_patch = 2;
  // There the plane on which the surface around lies counts so much of a correlation: for depths on it, against those
  // off it, and half of it against all where no such plane is known. 0: not at all.
  double plane_prior = 0.5;
  int coarse_iterations = 4, fine_iterations = 2;  // rounds of propagation and refinement at half size, at full size
  // Where a photo shows less (standard deviation, grey values) than this beyond what one of half the size shows, its
  // planes are those found at half size: nothing is searched for at full size. 0: searched for everywhere.
  double detail_contrast = 0;
  int consistency_rounds = 1;  // further rounds in which maps must agree with each other
  // Agreement: distance after there and back between two maps, px of the depth map; difference of depth, percent;
  // difference of normals, degrees.
  double return_px = 1.0, depth_gap_percent = 1.0, facing_gap_deg = 45;
  int min_views = 3;  // photos that must agree on a point, its own included
  // Also keep what only two photos agree on, at half the distances above and a quarter of max_cost less: thin detail
  // that few see.
  bool keep_thin = true;
  float max_cost = 0.5f;  // 1 - correlation beyond which a depth is not believed even if maps agree
  double spacing = 0;     // of the cloud's points, block units; 0: as the pixels of the depth maps lie on the surface
  bool level_exposure = true;  // take differences of exposure out of the colours
  bool clean = true;           // leave out what `cleaning` finds; it goes to the sink apart
  CleanOptions cleaning;
  // The cloud is made in tiles of about so many pixels of depth maps, several at a time where memory allows; memory is
  // bounded by it. Points near the borders of tiles may come out another way with other tiles.
  std::size_t tile_samples = 6'000'000;
};

}  // namespace icefield
