// What both the estimate and the run start from.
#pragma once
#include <algorithm>

#include "icefield/dense/dense.h"

namespace icefield {

struct DenseJob {
  Bounds bounds;
  std::vector<std::vector<std::uint32_t>> neighbours;  // by photo of the block: those of `views`
  std::vector<MatchViews> views;
  std::vector<std::uint8_t> repeated;  // by photo of the block: 1 gets no map, since others show the same
  std::size_t with_neighbours = 0;     // repeated ones counted
  std::size_t repeated_count() const {
    return static_cast<std::size_t>(std::count(repeated.begin(), repeated.end(), 1));
  }
};
DenseJob plan_views(const Block& block, const Bounds& bounds, const DenseOptions& options,
                    std::span<const double> sharpness, const Executor& executor);
// Throws Error(computation) when the bounds hold nothing or no photo has a neighbour.
DenseJob plan_dense(const Block& block, const std::optional<Bounds>& bounds, const DenseOptions& options,
                    const PhotoSource* photos, const Executor& executor);
std::vector<PhotoCoverage> coverage_of_photos(const Block& block, const DenseJob& job, const DenseOptions& options,
                                              const Executor& executor);

// What is held at a time: a photo's map and its neighbours', and some that the photos after it will ask for.
inline std::size_t maps_held(const DenseOptions& options) {
  return static_cast<std::size_t>(options.max_neighbours) + 4;
}
inline constexpr double kBytesPerViewPixel = 5;    // colour, grey, what is usable
inline constexpr double kBytesPerHeldPixel = 8;    // of a map: depth, normal, cost
inline constexpr double kBytesPerWholePixel = 13;  // and support and colour
double largest_view_pixels(const Block& block, const DenseOptions& options);
std::size_t views_held(double pixels, const DenseOptions& options, std::size_t units);
// What one map in work takes, and how many are in work at a time.
std::uint64_t map_unit_bytes(const Block& block, const DenseOptions& options);
std::size_t maps_in_work(const Block& block, const DenseOptions& options, const Executor& executor);

// Maps as they are held while tiles are merged, without colours and support, and one with them.
std::uint64_t held_map_bytes(const Block& block, const DenseOptions& options);
// While a tile is merged, where few photos overlap, so that one sample in four is a point of its own.
inline constexpr double kBytesPerTileSample = 45;
std::size_t tiles_in_work(const Block& block, const DenseOptions& options, const Executor& executor);

// A map that was there cannot be read.
struct LostMap {};
inline Error lost_maps() {
  return Error(ErrorKind::resource, "depth maps", "were removed while in use", "run the same command again");
}
// `fuse`, which throws LostMap as long as nothing was given to the sink.
DenseSummary fuse_maps(const Block& block, const std::vector<std::vector<std::uint32_t>>& neighbours,
                       DepthMapStore& store, const Bounds& bounds, const DenseOptions& options,
                       const Executor& executor, Monitor& monitor, PointSink& sink, TileStore* tiles);

}  // namespace icefield
