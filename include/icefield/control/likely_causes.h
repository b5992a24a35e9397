// Why surveyed points do not lie where the photos were taken.
#pragma once
#include <Eigen/Core>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "icefield/photo/metadata.h"
#include "icefield/world/crs.h"

namespace icefield {

struct NamedPlace {
  std::string name;
  Eigen::Vector3d place = Eigen::Vector3d::Zero();  // east, north, height as they were given
};

// What is wrong with the coordinates of points against the places of photos, with the likely cause: exchanged axes,
// degrees or feet, another zone or CRS, the zone's number before the easting, single points far away. A sentence for
// each group of points that share a cause; nothing where all lie within 10 km of the photos, or of as far as the photos
// lie apart. Without photos' places, against where the CRS is made for.
std::vector<std::string> likely_causes(std::span<const NamedPlace> points, const Crs& crs,
                                       std::span<const GpsPosition> photos);

// How far the sea level of the world-wide geoid EGM96 lies above the ellipsoid at a place; nothing where its file is
// not on this machine.
std::optional<double> geoid_height_m(double latitude_deg, double longitude_deg);

// The places that photos state which cannot be, by photo; empty where one is good or there is none. On the equator at
// Greenwich, far from the others, all alike.
std::vector<std::string> faults_of_gps(std::span<const std::optional<GpsPosition>> photos);

}  // namespace icefield
