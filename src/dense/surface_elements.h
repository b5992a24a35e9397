// Samples of depth maps merged into one point for each surface element.
#pragma once
#include <Eigen/Core>
#include <array>
#include <cstdint>
#include <functional>
#include <vector>

#include "icefield/cloud/cloud.h"

namespace icefield {

// What one pixel of a depth map says of the surface, as far as other maps agree.
struct SurfaceSample {
  Eigen::Vector3f position;
  Eigen::Vector3f normal;                 // unit
  float footprint;                        // distance of neighbouring samples on a surface seen at a right angle
  float variance;                         // of the position along the normal
  float colour_weight;
  std::array<float, 3> colour;
  std::uint16_t views;                    // photos that agree, its own included
};

// The first sample of a spot makes its element: the place along the surface is that sample's. Later ones move it along
// its normal only (a mean along the surface would pull borders inwards), by the inverse of their variances. An
// element takes in the samples within kAlong footprints along the surface and kAcross across it whose normals agree.
class SurfaceElements {
 public:
  // `footprint`: a middle one; elements much smaller or larger than it cost more to find.
  explicit SurfaceElements(float footprint);
  // Room for so many, so that growing copies nothing.
  void reserve(std::size_t elements) { elements_.reserve(elements), links_.reserve(3 * elements); }

  // `photo` tells which map the sample is from; samples of one map come one after the other.
  void add(const SurfaceSample& sample, std::uint32_t photo);
  // An element of a neighbouring tile: takes in samples and is not among the points.
  void add_foreign(const SurfaceSample& sample);

  std::size_t size() const { return elements_.size(); }
  // Own elements in the order in which they came up, as far as `wanted`: positions, normals, colours, views, errors. `footprints` of the
  // same length. Nothing can be added afterwards.
  PointCloud points(std::vector<float>& footprints, const std::function<bool(const Eigen::Vector3f&)>& wanted = {});

 private:
  struct Element {
    Eigen::Vector3f anchor, first_normal, normal;   // normal: sum
    float footprint, colour_weight;
    float weight, offset, offset2;                  // sums of weight, weight * offset along the first normal, its square
    std::array<float, 3> colour;
    std::uint32_t samples, photos, last_photo;
    std::uint16_t views;
    bool foreign;
  };
  // Chains of elements by cell, in grids of doubling size.
  struct Link {
    std::uint32_t element;
    std::int32_t next;
  };
  struct Cell {
    std::uint64_t key;
    std::int32_t first;
  };
  static constexpr int kLevels = 9;

  int level_of(float footprint) const;
  std::uint64_t key(int level, int x, int y, int z) const;
  std::size_t slot_of(std::uint64_t key) const;      // where the cell is or would be
  std::int64_t find(const SurfaceSample& sample, int level) const;
  void enter(std::uint32_t element, int level);
  void insert(const SurfaceSample& sample, std::uint32_t photo, bool foreign, int level);
  void grow();

  float base_;
  std::vector<Element> elements_;
  std::vector<Link> links_;
  std::vector<Cell> cells_;
  std::size_t used_ = 0;
};

}  // namespace icefield
