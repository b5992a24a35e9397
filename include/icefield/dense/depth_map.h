// Depth maps: what they are, and one by one from photos.
#pragma once
#include <Eigen/Core>
#include <optional>
#include <span>
#include <vector>

#include "icefield/base/parallel.h"
#include "icefield/block/block.h"
#include "icefield/block/bounds.h"
#include "icefield/cloud/cloud.h"
#include "icefield/dense/options.h"
#include "icefield/photo/image.h"

namespace icefield {

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

// Where depth maps are kept between rounds and runs. Round 0 is matched on the photos alone. May be called from several
// threads. A store that forgets costs time only.
class DepthMapStore {
 public:
  virtual ~DepthMapStore() = default;
  // Whether there is one, without reading it all; one that turns out damaged is missing from then on.
  virtual bool has(PhotoIndex photo, int round) { return get(photo, round).has_value(); }
  virtual std::optional<DepthMap> get(PhotoIndex photo, int round) = 0;
  virtual void put(PhotoIndex photo, int round, const DepthMap& map) = 0;
};

// The photos that one photo's depth map is matched against, and where. A photo is parted into columns and rows; what
// its tie points say of the surface in a part tells which others see it there.
struct MatchViews {
  std::vector<std::uint32_t> photos;  // of the block, best first; 16 at most
  int columns = 0, rows = 0;
  std::vector<std::uint16_t> asked;  // by part, row by row: bit k: photos[k] is asked there; empty: all, everywhere
  std::vector<std::uint8_t> looks;   // by part: 1 where it looks into the bounds; empty: everywhere
};

// For each photo of the block, those that together see all its parts, as far as there are any: at angles around twelve
// degrees, at like scale, as sharp, from different sides. Only what lies within the bounds counts: a horizon that all
// photos share says nothing about the subject. `sharpness`: of each photo of the block, as PhotoSource tells it, or
// empty.
std::vector<MatchViews> choose_views(const Block& block, const Bounds& bounds, const DenseOptions& options,
                                     std::span<const double> sharpness = {}, const Executor& executor = Executor());

// Photos of the block, 1 each, whose tie points within the bounds another photo, sharper or as sharp and earlier, shows
// as well (three in five of them at least) from so nearly the same place and distance that both say the same.
std::vector<std::uint8_t> repeated_photos(const Block& block, const Bounds& bounds,
                                          std::span<const double> sharpness = {});

// One depth map by slanted-plane patch matching: Bleyer, Rhemann and Rother, "PatchMatch stereo - stereo matching with
// slanted support windows", 2011; over many views with red-black propagation as in Galliani, Lasinger and Schindler,
// "Massively parallel multiview stereopsis by surface normal diffusion", 2015. `sparse` holds tie points in the
// reference's camera frame. With `maps` of the neighbours (same order) it starts from `start` and adds a term for the
// distance after there and back. Pixels whose lines of sight miss `bounds`, and parts of the photo in which `where`
// asks nobody, stay empty; nullptr: all neighbours are asked everywhere. Same input, same bytes for any number of
// threads; both cores work inside it.
DepthMap match_depth(const DenseView& reference, std::span<const DenseView* const> neighbours,
                     std::span<const Eigen::Vector3d> sparse, const DepthMap* start,
                     std::span<const DepthMap* const> maps, const DenseOptions& options, std::uint64_t seed,
                     const Executor& executor, const std::optional<Bounds>& bounds = std::nullopt,
                     const MatchViews* where = nullptr);

}  // namespace icefield
