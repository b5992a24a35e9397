#include "icefield/photo/metadata.h"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <cmath>
#include <sstream>

#include "icefield/base/error.h"

namespace icefield {
namespace {

std::string tidy(std::string_view text) {
  while (!text.empty() && std::isspace(static_cast<unsigned char>(text.front()))) text.remove_prefix(1);
  while (!text.empty() && (std::isspace(static_cast<unsigned char>(text.back())) || text.back() == '\0'))
    text.remove_suffix(1);
  std::string lower(text);
  for (char& c : lower) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
  return lower;
}

// Nominal sizes of sensor formats by their trade names.
struct Format {
  std::string_view name;
  double width_mm, height_mm;
};
constexpr Format kFormats[] = {{"1/3.2", 4.54, 3.42},  {"1/2.8", 5.20, 3.90},   {"1/2.5", 5.76, 4.29},
                               {"1/2.3", 6.17, 4.55},  {"1/2", 6.40, 4.80},     {"1/1.7", 7.60, 5.70},
                               {"1/1.3", 9.60, 7.20},  {"2/3", 8.80, 6.60},     {"1", 13.20, 8.80},
                               {"4/3", 17.30, 13.00},  {"aps-c", 23.50, 15.60}, {"35mm", 36.00, 24.00},
                               {"44x33", 43.80, 32.90}};

// The cameras that `simulate` makes up.
constexpr const char* kBuiltInSensors = R"(
# MAKE | MODEL | WIDTH_MM | HEIGHT_MM
Firnlicht | FL-2 Hand     | 23.50 | 15.67
Firnlicht | FL-7 Compact  | 13.20 |  8.80
Gletscherblick | GB Aero 20 | 13.20 | 8.80
Gletscherblick | GB Aero 35 | 17.30 | 11.53
)";

std::string format_names() {
  std::string names;
  for (const Format& format : kFormats) names += (names.empty() ? "" : ", ") + std::string(format.name);
  return names;
}

}  // namespace

void SensorTable::add(std::string_view text, const std::string& source) {
  std::istringstream lines{std::string(text)};
  std::string line;
  for (int number = 1; std::getline(lines, line); ++number) {
    line = line.substr(0, line.find('#'));
    if (tidy(line).empty()) continue;
    std::vector<std::string> fields;
    std::istringstream parts(line);
    for (std::string part; std::getline(parts, part, '|');) fields.push_back(tidy(part));
    Sensor sensor;
    try {
      if (fields.size() == 3) {
        const auto* format = std::find_if(std::begin(kFormats), std::end(kFormats),
                                          [&](const Format& f) { return f.name == fields[2]; });
        if (format == std::end(kFormats)) throw std::invalid_argument("format");
        sensor = {fields[0], fields[1], format->width_mm, format->height_mm};
      } else if (fields.size() == 4) {
        sensor = {fields[0], fields[1], std::stod(fields[2]), std::stod(fields[3])};
      } else {
        throw std::invalid_argument("fields");
      }
      if (!(sensor.width_mm > 0.1 && sensor.width_mm < 500 && sensor.height_mm > 0.1 && sensor.height_mm < 500))
        throw std::invalid_argument("size");
    } catch (const std::logic_error&) {
      throw Error(
          ErrorKind::input, fmt::format("{}, line {}", source, number), "is no sensor",
          "write it as: MAKE | MODEL | WIDTH_MM | HEIGHT_MM, or MAKE | MODEL | FORMAT with one of " + format_names());
    }
    sensors_.push_back(std::move(sensor));
  }
}

SensorTable SensorTable::built_in() {
  SensorTable table;
  table.add(kBuiltInSensors, "built-in sensor table");
  return table;
}

const SensorTable::Sensor* SensorTable::find(std::string_view make, std::string_view model) const {
  const std::string m = tidy(make), wanted = tidy(model);
  if (wanted.empty()) return nullptr;
  for (auto it = sensors_.rbegin(); it != sensors_.rend(); ++it)
    if (it->make == m && (it->model == wanted || m + " " + it->model == wanted)) return &*it;
  return nullptr;
}

const char* describe(FocalSource source) {
  switch (source) {
    case FocalSource::given:
      return "given by the user";
    case FocalSource::sensor_table:
      return "metadata and sensor table";
    case FocalSource::focal_plane:
      return "metadata and focal plane resolution";
    case FocalSource::equivalent_35mm:
      return "35 mm equivalent";
    case FocalSource::unknown:
      break;
  }
  return "unknown, searched";
}

FocalGuess guess_focal(const PhotoMetadata& metadata, const SensorTable& sensors) {
  const double longer = std::max(metadata.width, metadata.height), shorter = std::min(metadata.width, metadata.height);
  if (longer <= 0) return {};
  if (metadata.focal_mm > 0) {
    if (const auto* sensor = sensors.find(metadata.make, metadata.model)) {
      // A crop of another aspect ratio keeps either the width or the height of the sensor: the larger pixel pitch fits.
      const double pitch_mm = std::min(std::max(sensor->width_mm, sensor->height_mm) / longer,
                                       std::min(sensor->width_mm, sensor->height_mm) / shorter);
      // Nominal focal lengths are rounded and breathe with focus.
      return {metadata.focal_mm / pitch_mm, 3.0, FocalSource::sensor_table};
    }
  }
  // Files that were made smaller may still state the resolution of the large one: the 35 mm equivalent then
  // contradicts.
  if (metadata.focal_mm > 0 && metadata.pixel_mm > 0) {
    const double focal_px = metadata.focal_mm / metadata.pixel_mm;
    const double by_35mm = metadata.focal_35mm * std::hypot(longer, shorter) / std::hypot(36.0, 24.0);
    const double sensor_mm = longer * metadata.pixel_mm;
    const bool agrees = by_35mm <= 0 || std::abs(std::log(focal_px / by_35mm)) < 0.15;
    if (agrees && sensor_mm > 2 && sensor_mm < 110) return {focal_px, 4.0, FocalSource::focal_plane};
  }
  if (metadata.focal_35mm > 0) {
    // The equivalent compares diagonals (CIPA DCG-001) and is rounded to whole millimetres.
    const double diagonal_px = std::hypot(longer, shorter);
    const double rounding = 100.0 * 0.5 / metadata.focal_35mm;
    return {metadata.focal_35mm * diagonal_px / std::hypot(36.0, 24.0), 5.0 + rounding, FocalSource::equivalent_35mm};
  }
  return {};
}

}  // namespace icefield
