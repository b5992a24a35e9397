// survey.toml: read with a TOML parser, changed line by line so that comments and order stay.
#pragma once
#include <filesystem>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "icefield/survey/survey.h"

namespace icefield {

struct SurveyFile {
  std::vector<std::string> sources, off;
  std::string masks;                           // folder; empty: none
  std::map<std::string, GivenCamera> cameras;  // by camera name
  std::optional<Bounds> bounds;                // [bounds] centre, size, turn_deg about the vertical, outline
  std::vector<Eigen::Vector2d> outline;        // where it stands without a box
  Settings settings;
};

// Throws Error(input) naming the file, the line and the fault.
SurveyFile read_survey_file(const std::filesystem::path& file);

// The text with `key = value` in [section] (empty: at the top), replaced or added.
std::string with_entry(const std::string& text, const std::string& section, const std::string& key,
                       const std::string& value);

// The text without [section] and all that stands in it.
std::string without_section(const std::string& text, const std::string& section);

// Parameters that may be given of a camera beside its focal length: their names, and whether one is among them.
std::string parameter_names(CameraModel model);
bool has_parameter(CameraModel model, const std::string& name);
std::string quoted(const std::string& text);
std::string toml_list(const std::vector<std::string>& items);

}  // namespace icefield
