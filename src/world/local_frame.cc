#include "icefield/world/local_frame.h"

#include <cmath>
#include <numbers>

namespace icefield {
namespace {

constexpr double kDegree = std::numbers::pi / 180;

}  // namespace

Eigen::Vector3d earth_centred(const GpsPosition& position) {
  constexpr double kHalfAxis = 6378137.0, kFlattening = 1 / 298.257223563,
                   kEccentricity2 = kFlattening * (2 - kFlattening);  // WGS 84
  const double latitude = kDegree * position.latitude_deg, longitude = kDegree * position.longitude_deg;
  const double normal = kHalfAxis / std::sqrt(1 - kEccentricity2 * std::sin(latitude) * std::sin(latitude));
  return {(normal + position.altitude_m) * std::cos(latitude) * std::cos(longitude),
          (normal + position.altitude_m) * std::cos(latitude) * std::sin(longitude),
          (normal * (1 - kEccentricity2) + position.altitude_m) * std::sin(latitude)};
}

LocalFrame::LocalFrame(const GpsPosition& origin) : origin_(earth_centred(origin)) {
  const double latitude = kDegree * origin.latitude_deg, longitude = kDegree * origin.longitude_deg;
  axes_ << -std::sin(longitude), std::cos(longitude), 0, -std::sin(latitude) * std::cos(longitude),
      -std::sin(latitude) * std::sin(longitude), std::cos(latitude), std::cos(latitude) * std::cos(longitude),
      std::cos(latitude) * std::sin(longitude), std::sin(latitude);
}

std::optional<Eigen::Vector3d> view_direction(const PhotoMetadata& metadata) {
  if (!metadata.view_elevation_deg || (!metadata.view_azimuth_deg && *metadata.view_elevation_deg > -80))
    return std::nullopt;
  const double degree = std::numbers::pi / 180, azimuth = degree * metadata.view_azimuth_deg.value_or(0),
               elevation = degree * *metadata.view_elevation_deg;
  return Eigen::Vector3d(std::sin(azimuth) * std::cos(elevation), std::cos(azimuth) * std::cos(elevation),
                         std::sin(elevation));
}

}  // namespace icefield
