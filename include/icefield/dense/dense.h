// Dense stereo: from a block and its photos to depth maps and a cloud.
#pragma once
#include "icefield/dense/depth_map.h"
#include "icefield/dense/fuse.h"
#include "icefield/dense/options.h"
#include "icefield/photo/photo_source.h"

namespace icefield {

struct DenseResult {
  PointCloud cloud;  // points with normal, colour, views, expected error and conflicts, within the bounds
  PointCloud aside;  // what cleaning took out
  DenseSummary summary;
};

// What `densify` will need, before it starts.
struct DenseEstimate {
  std::size_t maps = 0, photos_without_neighbours = 0, photos_repeated = 0;
  double pixels = 0;        // of all maps, that look into the bounds
  double points = 0;        // of the cloud
  double seconds = 0;       // with the executor's threads, for all maps and the cloud
  double memory_bytes = 0;  // at the most, photos being read included
  double work_bytes = 0;    // depth maps on disk
  double result_bytes = 0;  // the cloud as PLY
};
// Times a few scores on this machine (a tenth of a second) and counts what will be asked for. Throws like densify.
// `photos`: for their sharpness; may be missing.
DenseEstimate estimate_dense(const Block& block, const std::optional<Bounds>& bounds, const DenseOptions& options,
                             const Executor& executor, const PhotoSource* photos = nullptr);

// All maps, their agreement and one cloud, handed to the sink tile after tile. Memory: the views and maps of one
// neighbourhood and one tile. Throws Error(computation) when no photo has a neighbour or the bounds hold nothing;
// Error(interrupted) leaves finished maps, and finished tiles of the cloud, in their stores.
DenseSummary densify(const Block& block, PhotoSource& photos, DepthMapStore& store, const std::optional<Bounds>& bounds,
                     const DenseOptions& options, const Executor& executor, Monitor& monitor, PointSink& sink,
                     TileStore* tiles = nullptr);
// The same with the cloud in memory.
DenseResult densify(const Block& block, PhotoSource& photos, DepthMapStore& store, const std::optional<Bounds>& bounds,
                    const DenseOptions& options = {}, const Executor& executor = Executor(),
                    Monitor& monitor = silent_monitor());

}  // namespace icefield
