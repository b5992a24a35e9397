// Geographic positions as metres near a place.
#pragma once
#include <Eigen/Core>
#include <optional>

#include "icefield/photo/metadata.h"

namespace icefield {

// Earth-centred, earth-fixed metres of a WGS 84 position (height over the ellipsoid).
Eigen::Vector3d earth_centred(const GpsPosition& position);

// East, north, up in metres, tangent to the ellipsoid at its origin. Good to a metre within 3 km of it, which is what
// choosing pairs needs; coordinates for maps come from a projected CRS.
class LocalFrame {
 public:
  explicit LocalFrame(const GpsPosition& origin);
  Eigen::Vector3d to_local(const GpsPosition& position) const { return axes_ * (earth_centred(position) - origin_); }
  Eigen::Vector3d to_earth_centred(const Eigen::Vector3d& local) const { return origin_ + axes_.transpose() * local; }

 private:
  Eigen::Vector3d origin_;
  Eigen::Matrix3d axes_;  // rows: east, north, up
};

// East, north, up of the line of sight that a photo's metadata states; nothing where they do not state enough of it.
// Within 10 degrees of straight down the azimuth is of no weight and may be missing.
std::optional<Eigen::Vector3d> view_direction(const PhotoMetadata& metadata);

}  // namespace icefield
