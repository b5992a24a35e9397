// Samples of depth maps merged into one point for each surface element.
#pragma once
#include <Eigen/Core>
#include <array>
#include <cstdint>
#include <functional>
#include <span>
#include <vector>

#include "icefield/base/parallel.h"
#include "icefield/cloud/cloud.h"

namespace icefield {

// What one pixel of a depth map says of the surface, as far as other maps agree.
struct SurfaceSample {
  Eigen::Vector3f position;
  Eigen::Vector3f normal;  // unit
  float footprint;         // distance of neighbouring samples on a surface seen at a right angle
  float variance;          // of the position along the normal
  float colour_weight;
  std::array<float, 3> colour;
  std::uint16_t views;  // photos that agree, its own included
};

// The first sample of a spot makes its element: the place along the surface is that sample's. Later ones move it along
// its normal only (a mean along the surface would pull borders inwards), by the inverse of their variances. An
// element takes in the samples within kAlong footprints along the surface and kAcross across it whose normals agree.
class SurfaceElements {
 public:
  // `footprint`: a middle one; elements much smaller or larger than it cost more to find.
  explicit SurfaceElements(float footprint);
  // Room for so many, so that growing copies nothing.
  void reserve(std::size_t elements) { places_.reserve(elements), sums_.reserve(elements); }

  // Samples of one map, which is told by `photo`, near ones one after the other. Elements that are there go before
  // those that these samples make. The same for any number of threads.
  void add(std::span<const SurfaceSample> samples, std::uint32_t photo, const Executor& executor);
  // An element of a neighbouring tile: takes in samples and is not among the points.
  void add_foreign(const SurfaceSample& sample);

  std::size_t size() const { return places_.size(); }
  // Own elements in the order in which they came up, as far as `wanted`: positions, normals, colours, views, errors.
  // `footprints` of the same length. Nothing can be added afterwards.
  PointCloud points(std::vector<float>& footprints, const std::function<bool(const Eigen::Vector3f&)>& wanted = {});

 private:
  // What a search looks at, in 32 bytes.
  struct Place {
    Eigen::Vector3f anchor, normal;
    std::int32_t next;  // of the same level in the same cell, -1: none
    float footprint;
  };
  struct Sums {
    Eigen::Vector3f normal;
    float colour_weight;
    float weight, offset, offset2;  // sums of weight, weight * offset along the place's normal, its square
    std::array<float, 3> colour;
    std::uint32_t samples, photos, last_photo;
    std::uint16_t views;
    bool foreign;
  };
  // Where an element stands in the grid of a coarser level.
  struct Link {
    std::uint32_t element;
    std::int32_t next;
  };
  // Cells lie together in cubes, so that what is near in space is near in memory: of each cell the last element of the
  // grid's own level, or the last link to finer ones. Cubes are found by their key.
  static constexpr int kCubeShift = 2, kCube = 1 << kCubeShift, kLevels = 9;
  using Heads = std::array<std::int32_t, kCube * kCube * kCube>;
  struct Slot {
    std::uint64_t key;
    std::int32_t cube;
  };
  enum class Grid : std::size_t { own, finer };
  struct Cell {
    int x, y, z;
  };

  int level_of(float footprint) const;
  Cell cell_of(const Eigen::Vector3f& place, int level) const;
  static std::uint64_t key(Grid grid, int level, int x, int y, int z);  // of a cube
  static std::size_t within(int x, int y, int z) {
    constexpr int kMask = kCube - 1;
    return static_cast<std::size_t>(((z & kMask) * kCube + (y & kMask)) * kCube + (x & kMask));
  }
  std::size_t slot_of(std::uint64_t key) const;                // where the cube is or would be
  std::int32_t& head(Grid grid, int level, const Cell& cell);  // makes the cube
  std::int32_t find(const SurfaceSample& sample, int level, std::int32_t first) const;
  void enter(std::uint32_t element, int level);
  void insert(const SurfaceSample& sample, std::uint32_t photo, bool foreign, int level);
  void take_in(std::size_t element, const SurfaceSample& sample, std::uint32_t photo);

  float base_;
  std::array<float, kLevels> inverse_cell_;
  std::array<std::array<bool, 2>, kLevels> in_use_{};
  std::vector<Place> places_;
  std::vector<Sums> sums_;
  std::vector<Link> links_;
  std::vector<Heads> cubes_;
  std::vector<Slot> slots_;
};

}  // namespace icefield
