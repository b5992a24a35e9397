// Many places from the coordinates of a CRS into a block's frame.
#pragma once
#include <Eigen/Core>
#include <array>
#include <span>
#include <vector>

#include "icefield/world/world_frame.h"

namespace icefield {

// WorldFrame::to_local over an area in plan, to 1e-6 m: between places of a lattice 256 m wide what the grid adds is a
// polynomial of second degree. A place comes out the same whatever others are asked for with it. May be used from
// several threads.
class LocalLattice {
 public:
  // `low`, `high`: of the area, in coordinates of the CRS. Throws what WorldFrame throws for places that it cannot say.
  LocalLattice(const WorldFrame& frame, const Eigen::Vector2d& low, const Eigen::Vector2d& high);
  void to_local(std::span<Eigen::Vector3d> places) const;

 private:
  Eigen::Vector3d origin_;
  Eigen::Vector2d low_ = Eigen::Vector2d::Zero();
  int columns_ = 0, rows_ = 0;  // 0: the frame is flat
  std::vector<std::array<Eigen::Vector3d, 27>> added_;
};

}  // namespace icefield
