// What coordinates mean.
#pragma once
#include <cstdint>
#include <string>

namespace icefield {

enum class Axes : std::uint8_t {
  guessed,        // z points up as far as the photos tell; x and y mean nothing
  level,          // z points up
  east_north_up,  // x east, y north, z up, of the CRS
};
const char* describe(Axes axes);

// None until something is known: then units are of no known length.
struct Datum {
  std::string crs;           // "EPSG:25832", or its WKT; empty: none
  std::string vertical_crs;  // of the heights, where `crs` does not tell; empty: none
  std::string units;         // "m"; empty: block units
  Axes axes = Axes::guessed;

  bool known() const { return !units.empty(); }
  std::string units_name() const { return known() ? units : "block units"; }
  bool operator==(const Datum&) const = default;
};

}  // namespace icefield
