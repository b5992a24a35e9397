// Between a block's frame and the coordinates of a CRS.
#pragma once
#include <Eigen/Core>
#include <memory>
#include <span>
#include <string>

#include "icefield/world/datum.h"

namespace icefield {

// A block that has a CRS counts in metres in a frame that touches the ellipsoid at its origin: x along the grid's east
// and y along its north there, z up. No length in it is changed, as a projection changes them: the scale of the grid,
// the convergence of its meridians and the curvature of the earth come in only where coordinates are handed out.
// Heights are taken over as they are: what a geoid is tilted against the ellipsoid under a block (some centimetres a
// kilometre) is a turn, which control points fix with all other turns.
//
// Without a CRS coordinates are the block's with the origin added.
class WorldFrame {
 public:
  // `origin`: of the frame, in coordinates of the CRS. Throws Error(usage) for a CRS that is not projected, and for an
  // origin that it cannot say.
  WorldFrame(const Datum& datum, const Eigen::Vector3d& origin);
  ~WorldFrame();
  WorldFrame(WorldFrame&&) noexcept;
  WorldFrame& operator=(WorldFrame&&) noexcept;

  bool curved() const;  // there is a CRS
  const Eigen::Vector3d& origin() const;
  Eigen::Vector3d to_world(const Eigen::Vector3d& local) const;
  Eigen::Vector3d to_local(const Eigen::Vector3d& world) const;
  // Many at once, to 1e-6 m; those that lie together within some kilometres cost little each.
  void to_world(std::span<Eigen::Vector3d> points) const;
  // Directions of the frame, as columns, in those of the grid at a place: a rotation.
  Eigen::Matrix3d axes_at(const Eigen::Vector3d& local) const;
  // Length in the grid's plan of a metre at a place, and the turn from its north to true north, radians clockwise.
  double grid_scale_at(const Eigen::Vector3d& local) const;
  double convergence_at(const Eigen::Vector3d& local) const;

 private:
  struct Projection;
  std::unique_ptr<Projection> projection_;
  Eigen::Vector3d origin_;
};

// A place fit to be an origin: near `place`, in whole tens of metres of the CRS (of its units).
Eigen::Vector3d round_origin(const Eigen::Vector3d& place);

}  // namespace icefield
