// An open surface from what depth maps see and see past.
#pragma once
#include <functional>
#include <optional>
#include <string>

#include "icefield/base/monitor.h"
#include "icefield/base/parallel.h"
#include "icefield/block/bounds.h"
#include "icefield/cloud/cloud.h"
#include "icefield/dense/depth_map.h"
#include "icefield/surface/mesh.h"

namespace icefield {

struct FitOpenOptions {
  // Of the grid, in spacings of the cloud's points: smaller ones keep thinner things and take more memory.
  double step_spacings = 1.25;
  double reach = 2;         // steps: so far before and behind a depth its pixel says how far away the surface is
  double smoothness = 0.3;  // of the surface's area against the pixels' votes: more takes more noise, and small things
  int rounds = 30;          // of the minimisation
  // Pixels take part that so many other photos support, with a cost up to that.
  int min_support = 1;
  float max_cost = 0.5f;
  int min_votes = 2;                // pixels that must say something of each corner of a cell that the surface is in
  double small_piece_steps2 = 300;  // smaller pieces go, steps squared
};

struct FitOpenSummary {
  std::string outcome = "nothing done yet";
  std::size_t maps = 0, pixels = 0;  // that take part
  double step = 0, spacing = 0;      // of the grid, of the cloud's points (the middle)
  std::size_t blocks = 0;            // of 8 x 8 x 8 nodes
  double memory_bytes = 0;           // of them
  std::size_t pieces_left_out = 0;
};

struct OpenSurface {
  Mesh mesh;
  FitOpenSummary summary;
};

// Each pixel of a depth map votes, for the nodes of a grid around the surface and on the way there, how far they are
// from the surface; the distances that agree best with all votes while the surface bends least are a global minimum
// (Zach, Pock and Bischof, "A globally optimal algorithm for robust TV-L1 range image integration", 2007; votes counted
// in classes as in Zach, "Fast and high quality fusion of depth maps", 2008; minimised by Chambolle and Pock, "A
// first-order primal-dual algorithm", 2011). The surface is where they are 0, in cells of which enough pixels have said
// something: it ends where the photos end, and rods and openings stay. The grid has one step all over and lies in
// blocks about the surface alone. `maps`: in the frame of the cloud less `shift`, asked for one by one; colours, errors
// and support come from the cloud. Memory: 18 kB a block. The same for any number of threads. Where there is nothing to
// make it of the mesh is empty and the outcome says why. Throws Error(usage) for options out of range, Error(resource)
// where the blocks need more than the executor's memory, Error(interrupted).
OpenSurface fit_open_surface(std::size_t maps, const std::function<std::optional<DepthMap>(std::size_t)>& map,
                             const PointCloud& cloud, const Eigen::Vector3d& shift, const FitOpenOptions& options = {},
                             const std::optional<Bounds>& bounds = std::nullopt, const Executor& executor = Executor(),
                             Monitor& monitor = silent_monitor());

}  // namespace icefield
