// Dense stereo: from a block and its photos to depth maps and a cloud.
#pragma once
#include <Eigen/Core>
#include <array>
#include <optional>
#include <span>
#include <vector>

#include "icefield/base/parallel.h"
#include "icefield/block/block.h"
#include "icefield/block/bounds.h"
#include "icefield/cloud/clean.h"
#include "icefield/cloud/cloud.h"
#include "icefield/photo/image.h"

namespace icefield {

struct DenseOptions {
  // Depth maps are computed on photos shrunk by this factor: 1 full, 2 half, 4 quarter size.
  int shrink = 2;
  int max_neighbours = 6;      // photos that a depth map is matched against
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
  int consistency_rounds = 1;                      // further rounds in which maps must agree with each other
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
  // The cloud is made in tiles of about so many pixels of depth maps; memory is bounded by it. Points near the borders
  // of tiles may come out another way with other tiles.
  std::size_t tile_samples = 12'000'000;
};

// A photo without distortion, shrunk: colour for the cloud and grey for matching.
struct DenseView {
  Camera camera;  // pinhole
  Pose pose;
  ImageU8 colour;  // 3 channels (or 1)
  ImageU8 grey;
  ImageU8 usable;  // 0 where the photo does not reach or its mask takes pixels out; empty: nowhere
};
// Takes out distortion and shrinks. Pixels that the photo does not cover are black. The middle of the view is the
// photo's principal point, its focal length the photo's, divided by `shrink`. `mask`: empty, or of the photo's size, 0
// where pixels take no part.
DenseView undistort(const ImageU8& photo, const Camera& camera, const Pose& pose, int shrink, const ImageU8& mask = {});

struct DepthMap {
  Camera camera;  // of its view
  Pose pose;
  ImageF depth;                  // along the optical axis, block units; 0: none
  Image<std::int8_t> normal;     // 3 channels, camera frame, times 127
  ImageU8 cost;                  // 1 - correlation in steps of kCostStep, from 0 (best)
  Image<std::uint16_t> support;  // bit k: neighbour k's photo fits the surface here
  ImageU8 colour;                // of the photo, 3 channels or 1; empty before the last round
  static constexpr float kCostStep = 1.0f / 127;
  float cost_at(int x, int y) const { return kCostStep * static_cast<float>(cost.at(x, y)); }
  Bytes to_bytes() const;
  static DepthMap from_bytes(std::span<const std::byte> bytes);  // throws Error(input) for anything else
};

// The pixels of a map with a cost up to `max_cost` as points of the world, with normals and the photo's colours.
PointCloud points_of(const DepthMap& map, float max_cost = 2);

// Where photos come from. May be called from several threads.
class PhotoSource {
 public:
  virtual ~PhotoSource() = default;
  virtual ImageU8 load(PhotoIndex photo) = 0;
  virtual ImageU8 mask(PhotoIndex) { return {}; }  // of the photo's size, 0 where pixels take no part; empty: none
  virtual double sharpness(PhotoIndex) const { return 0; }  // to be compared with that of other photos; 0: not known
};

// Where depth maps are kept between rounds and runs. Round 0 is matched on the photos alone. May be called from several
// threads. A store that forgets costs time only.
class DepthMapStore {
 public:
  virtual ~DepthMapStore() = default;
  virtual std::optional<DepthMap> get(PhotoIndex photo, int round) = 0;
  virtual void put(PhotoIndex photo, int round, const DepthMap& map) = 0;
};

// Neighbours of each photo of the block (indices into its photos), best first: many shared tie points, seen at angles
// around ten degrees, at like scale and as sharp. Only tie points within the bounds count: a horizon that all photos
// share says nothing about the subject. `sharpness`: of each photo of the block, as PhotoSource tells it, or empty.
std::vector<std::vector<std::uint32_t>> choose_neighbours(const Block& block, const Bounds& bounds,
                                                          const DenseOptions& options,
                                                          std::span<const double> sharpness = {});

// Photos of the block, 1 each, whose tie points within the bounds another photo, sharper or as sharp and earlier, shows
// as well (three in five of them at least) from so nearly the same place and distance that both say the same.
std::vector<std::uint8_t> repeated_photos(const Block& block, const Bounds& bounds,
                                          std::span<const double> sharpness = {});

// One depth map by slanted-plane patch matching: Bleyer, Rhemann and Rother, "PatchMatch stereo - stereo matching with
// slanted support windows", 2011; over many views with red-black propagation as in Galliani, Lasinger and Schindler,
// "Massively parallel multiview stereopsis by surface normal diffusion", 2015. `sparse` holds tie points in the
// reference's camera frame. With `maps` of the neighbours (same order) it starts from `start` and adds a term for the
// distance after there and back. Pixels whose lines of sight miss `bounds` stay empty. Same input, same bytes for any
// number of threads; both cores work inside it.
DepthMap match_depth(const DenseView& reference, std::span<const DenseView* const> neighbours,
                     std::span<const Eigen::Vector3d> sparse, const DepthMap* start,
                     std::span<const DepthMap* const> maps, const DenseOptions& options, std::uint64_t seed,
                     const Executor& executor, const std::optional<Bounds>& bounds = std::nullopt);

// Takes a cloud part by part, in one order whatever the number of threads. Called by one thread at a time.
class PointSink {
 public:
  virtual ~PointSink() = default;
  virtual void add(const PointCloud& part) = 0;
  virtual void set_aside(const PointCloud&) {}  // what cleaning took out, with `faults`
};

struct DenseSummary {
  std::string outcome = "nothing done yet";
  std::size_t maps = 0, points = 0;
  std::size_t photos_without_neighbours = 0, photos_repeated = 0;
  std::size_t tiles = 0;
  double filled_percent = 0;                 // of the pixels that look into the bounds, after the check for agreement
  double median_views = 0;                   // photos that agree on a point
  double few_views_percent = 0;              // points that no more photos agree on than must
  double spacing = 0;                        // of the points, the middle over the photos, block units
  std::array<std::size_t, kFaults> aside{};  // what cleaning took out, by fault
  struct PhotoFill {
    PhotoIndex photo;
    double percent = 0;  // filled, of its pixels that look into the bounds
  };
  std::vector<PhotoFill> fill;  // of the photos with a map, in the block's order
  Bounds bounds;
};

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
// Error(interrupted) leaves finished maps in the store.
DenseSummary densify(const Block& block, PhotoSource& photos, DepthMapStore& store, const std::optional<Bounds>& bounds,
                     const DenseOptions& options, const Executor& executor, Monitor& monitor, PointSink& sink);
// The same with the cloud in memory.
DenseResult densify(const Block& block, PhotoSource& photos, DepthMapStore& store, const std::optional<Bounds>& bounds,
                    const DenseOptions& options, const Executor& executor, Monitor& monitor);

// The second half of it alone: merges maps that agree into one point for each surface element (its place along the
// surface from the first map in which it is seen, finest maps first; across it the weighted mean of all), and leaves
// out what cleaning finds.
DenseSummary fuse(const Block& block, const std::vector<std::vector<std::uint32_t>>& neighbours, DepthMapStore& store,
                  const Bounds& bounds, const DenseOptions& options, const Executor& executor, Monitor& monitor,
                  PointSink& sink);

}  // namespace icefield
