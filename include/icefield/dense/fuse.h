// From depth maps to a cloud.
#pragma once
#include <array>
#include <string>
#include <vector>

#include "icefield/dense/coverage.h"
#include "icefield/dense/depth_map.h"

namespace icefield {

// Takes a cloud part by part, in one order whatever the number of threads. Called by one thread at a time.
class PointSink {
 public:
  virtual ~PointSink() = default;
  virtual void begin(double spacing) { (void)spacing; }  // of the points, the middle; before the first part
  virtual void add(const PointCloud& part) = 0;
  virtual void set_aside(const PointCloud&) {}  // what cleaning took out, with `faults`
};

// Where finished tiles of a cloud are kept until all of it is there, so that a run that was stopped goes on where it
// was. Of one cloud alone: of these maps, options and bounds. May be called from several threads. A store that forgets
// costs time only.
class TileStore {
 public:
  virtual ~TileStore() = default;
  virtual bool has(std::size_t tile) = 0;
  virtual std::optional<Bytes> get(std::size_t tile) = 0;
  virtual void put(std::size_t tile, const Bytes& content) = 0;
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
  // Of each photo of the block: its parts by how many photos they are matched against, and why so few.
  struct PhotoParts {
    PhotoIndex photo;
    std::array<std::size_t, 5> parts{};  // none, one, two, three, four or more
    ThinReason reason = ThinReason::none;
  };
  std::vector<PhotoParts> parts;
  Bounds bounds;
};

// Merges maps that agree into one point for each surface element (its place along the surface from the first map in
// which it is seen, finest maps first; across it the weighted mean of all), and leaves out what cleaning finds. Tile
// after tile, several at a time where memory allows; the cloud is the same.
DenseSummary fuse(const Block& block, const std::vector<std::vector<std::uint32_t>>& neighbours, DepthMapStore& store,
                  const Bounds& bounds, const DenseOptions& options, const Executor& executor, Monitor& monitor,
                  PointSink& sink, TileStore* tiles = nullptr);

}  // namespace icefield
