// Meshes moved to where the photos agree.
#pragma once
#include <string>
#include <vector>

#include "icefield/base/parallel.h"
#include "icefield/block/block.h"
#include "icefield/photo/photo_source.h"
#include "icefield/surface/mesh.h"

namespace icefield {

struct SharpenOptions {
  int coarse_rounds = 2;    // on photos of half the size, before those on full ones
  int rounds = 3;           // on full photos
  int partners = 3;         // other photos that each photo is held against
  int window = 3;           // pixels around a pixel, each way, that contrast and brightness are taken from
  double smoothness = 0.3;  // of bending against what photos say, where they say as much as is usual
  double max_angle = 1.2;   // radians, between the surface's normal and the way to a photo (69 degrees)
};

struct SharpenSummary {
  std::string outcome = "nothing done yet";
  std::size_t photos = 0, pairs = 0;        // that took part; pairs count each way
  std::vector<std::string> photos_missing;  // that could not be read: which, and why
  int rounds = 0;
  std::size_t vertices_seen = 0;         // of which two photos say something
  double agreement_before = 0;           // mean correlation of windows between photos, in the full-size rounds
  double agreement_after = 0;            // in the last of them
  double moved_mean = 0, moved_q95 = 0;  // of the vertices seen, block units
  double moved_mean_px = 0;              // the same in pixels of the photo that sees a vertex best
};

// Each vertex moves along its normal to where what one photo shows looks most as what the others show there, carried
// over by the surface as it is (Vu, Labatut, Pons and Keriven, "High accuracy and visibility-consistent dense multiview
// stereo", 2012): windows are compared by brightness less its mean, over its spread, and solved for as least squares,
// all vertices at once, against the bending of the surface; step by step, photos at half size first. Rims keep their
// course, and where photos say little the surface stays near to where it began. What is sharpened is detail of a pixel
// or two; what is farther off than some pixels does not come back. The mesh in the frame of the block, its faces about
// as small as the detail that is wanted (an edge of one or two pixels). Normals are made anew. Memory: 60 bytes a
// vertex, 50 a pixel of one photo, and photos with their depths as far as the executor's memory allows. The same for
// any number of threads. Photos that cannot be read are named and left out; where fewer than two are left, or none see
// the same, nothing moves and the outcome says why. Throws Error(usage) for options out of range and a mesh without
// faces, Error(interrupted).
SharpenSummary sharpen(Mesh& mesh, const Block& block, PhotoSource& photos, const SharpenOptions& options = {},
                       const Executor& executor = Executor(), Monitor& monitor = silent_monitor());

}  // namespace icefield
