// Coordinate reference systems: what they are, which one fits, and the way between two of them. By PROJ and the
// register that comes with it; nothing is fetched.
#pragma once
#include <Eigen/Core>
#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace icefield {

enum class CrsKind : std::uint8_t {
  projected,   // easting, northing
  geographic,  // latitude, longitude
  geocentric,  // X, Y, Z from the middle of the earth
  vertical,    // heights alone
  other,
};
const char* describe(CrsKind kind);

// The part of the earth that a CRS is made for, degrees. West lies east of east where it crosses the date line.
struct AreaOfUse {
  double west = -180, south = -90, east = 180, north = 90;
  std::string name;
  bool holds(double latitude_deg, double longitude_deg) const;
};

// What a CRS is.
struct Crs {
  std::string id;  // "EPSG:25832", with heights "EPSG:25832+7837"; WKT for one that is in no register
  std::string name;
  CrsKind kind = CrsKind::other;  // of its horizontal part where it has two
  std::string units;              // of its plan: "metre", "degree", "US survey foot" ...
  double metres_per_unit = 1;     // of a projected one
  std::string vertical_name;      // of the heights where it has such a part; empty: heights over the ellipsoid
  std::string vertical_id;        // "EPSG:7837"
  double metres_per_height_unit = 1;
  double semi_major_m = 6378137, inverse_flattening = 298.257223563;
  AreaOfUse area;
  std::string wkt;      // ISO 19162:2019
  std::string old_wkt;  // OGC 01-009, for files that ask for it; empty where it cannot be said so
};

// By its code ("EPSG:25832", "25832"), with one for heights behind a plus ("EPSG:25832+7837"), or by its WKT. Throws
// Error(usage) for what is none, with the ones that look like it.
Crs crs_of(const std::string& text);

// A code and a name of the register.
struct CrsFound {
  std::string id, name;
  CrsKind kind = CrsKind::other;
  AreaOfUse area;
};
// All that are not retired whose name, area or code has each of the words (any case); of a place, those alone that are
// made for it. Projected ones first, smaller areas first, then by code. At most `most`.
std::vector<CrsFound> find_crs(const std::string& words, std::optional<Eigen::Vector2d> latitude_longitude_deg = {},
                               std::size_t most = 40);

// "EPSG:32632": the zone of the world-wide transverse Mercator net on WGS 84 that holds a place.
std::string utm_zone_of(double latitude_deg, double longitude_deg);

// The way from one CRS to another. Coordinates are x east, y north, z up in the CRS's own units (of geographic ones
// degrees: x the longitude, y the latitude), whatever order its register gives its axes. One object for one thread.
class CrsTransform {
 public:
  // By ids as in `Crs`; WGS 84 with heights over the ellipsoid is "EPSG:4979". Throws Error(computation) where there is
  // no way from one to the other.
  CrsTransform(const std::string& from, const std::string& to);
  ~CrsTransform();
  CrsTransform(CrsTransform&&) noexcept;
  CrsTransform& operator=(CrsTransform&&) noexcept;

  // Nothing for a place that the CRS cannot say.
  std::optional<Eigen::Vector3d> operator()(const Eigen::Vector3d& place) const;
  std::optional<Eigen::Vector3d> back(const Eigen::Vector3d& place) const;

  // Standard error of the way in metres as the register has it, where it has it.
  std::optional<double> accuracy_m() const;
  // What is not as good as it could be: files of corrections that are not on this machine, and what that costs; heights
  // that are taken over unchanged.
  const std::vector<std::string>& remarks() const;
  bool heights_unchanged() const;  // though the two count them from different surfaces

 private:
  struct Way;
  std::unique_ptr<Way> way_;
};

}  // namespace icefield
