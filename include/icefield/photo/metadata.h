// What a photo file says about itself, and the focal length that follows from it.
#pragma once
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace icefield {

struct GpsPosition {
  double latitude_deg = 0, longitude_deg = 0;  // WGS 84
  double altitude_m = 0;                       // above sea level; below it negative
  // Standard deviations where the file states them, metres; 0: not given.
  double horizontal_sigma_m = 0, vertical_sigma_m = 0;
};

struct PhotoMetadata {
  int width = 0, height = 0;  // as stored, before any rotation for display
  int display_rotation = 1;   // the EXIF orientation tag, 1 to 8; never applied to pixels
  std::string make, model, lens;
  std::string body;       // serial number of the camera; empty: not given
  double focal_mm = 0;    // 0: not given
  double focal_35mm = 0;  // 35 mm equivalent; 0: not given
  double pixel_mm = 0;    // size of a pixel of this file on the sensor, by its focal plane resolution; 0: not given
  std::string time;       // "YYYY:MM:DD hh:mm:ss" as in EXIF; empty: not given
  std::optional<GpsPosition> gps;
  // Of the line of sight: clockwise from north, and above the horizon (downwards negative).
  std::optional<double> view_azimuth_deg, view_elevation_deg;
  std::optional<double> height_above_start_m;  // of a flying camera
  std::string remark;                          // what is unusual about how the file is read; empty: nothing
};

// Sensor sizes by camera model. Text, one sensor a line: MAKE | MODEL | WIDTH_MM | HEIGHT_MM, or MAKE | MODEL | FORMAT
// with the trade name of a format (1/2.3, 1, 4/3, aps-c, 35mm ...); '#' starts a comment.
class SensorTable {
 public:
  struct Sensor {
    std::string make, model;
    double width_mm = 0, height_mm = 0;
  };

  // Adds the sensors of a text; later lines win over earlier ones. `source` names the text in errors.
  // Throws Error(input) naming the line that cannot be read.
  void add(std::string_view text, const std::string& source);
  // The table that comes with the library: the made-up cameras of the demo. Of others the files tell enough, or the
  // user does.
  static SensorTable built_in();

  // Make and model are compared without regard to case; a model that starts with its make also matches without it.
  const Sensor* find(std::string_view make, std::string_view model) const;
  std::size_t size() const { return sensors_.size(); }

 private:
  std::vector<Sensor> sensors_;
};

enum class FocalSource { given, sensor_table, focal_plane, equivalent_35mm, unknown };
const char* describe(FocalSource source);

// A first focal length and how far to trust it.
struct FocalGuess {
  double focal_px = 0;             // 0 when unknown
  double uncertainty_percent = 0;  // one standard deviation
  FocalSource source = FocalSource::unknown;
};
FocalGuess guess_focal(const PhotoMetadata& metadata, const SensorTable& sensors);

}  // namespace icefield
