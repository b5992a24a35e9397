// A closed surface fitted to a cloud, with what it rests on.
#pragma once
#include <optional>
#include <string>

#include "icefield/base/monitor.h"
#include "icefield/base/parallel.h"
#include "icefield/block/bounds.h"
#include "icefield/cloud/cloud.h"
#include "icefield/surface/mesh.h"

namespace icefield {

struct FitSurfaceOptions {
  // Size of the finest cells, in spacings of the points there: smaller ones follow noise, larger ones round edges.
  double cell_spacings = 2;
  // How strictly the surface keeps to the points against how smooth it is.
  double hold = 8;
  // Faces whose vertices have less support go: with 0.4 those farther from the points than about 1.6 spacings. 0:
  // nothing goes, and the surface is closed.
  double min_support = 0.6;
  // What goes in a patch smaller than this many square spacings stays: small gaps are closed. Pieces of the surface
  // smaller than this go.
  double small_patch_spacings2 = 150;
  int neighbours = 8;  // points that a point's spacing is taken from
};

struct FitSurfaceSummary {
  std::string outcome = "nothing done yet";
  std::size_t points = 0, points_left_out = 0;  // without a finite position or normal, or outside of the bounds
  std::size_t cells = 0;
  int levels = 0;
  double spacing = 0;            // of the points, the middle
  bool normals_made = false;     // the cloud had none: they point away from its middle as far as neighbours agree
  std::size_t faces_closed = 0;  // before trimming
  double trimmed_percent = 0;    // of the closed surface's area
  std::size_t pieces_left_out = 0;
};

struct FittedSurface {
  Mesh mesh;
  FitSurfaceSummary summary;
};

// An implicit function on an octree whose cells follow the spacing of the points, cut where it has its value at the
// points (src/surface/implicit.h, extract.h), then trimmed by what rests on points. Colours, errors and support of
// vertices come from the nearest points. Memory: some 700 bytes a point. The same for any number of threads. Where
// there are too few points the mesh is empty and the outcome says why. Throws Error(interrupted).
FittedSurface fit_surface(const PointCloud& cloud, const FitSurfaceOptions& options = {},
                          const std::optional<Bounds>& bounds = std::nullopt, const Executor& executor = Executor(),
                          Monitor& monitor = silent_monitor());

}  // namespace icefield
