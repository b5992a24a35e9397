// What survey.toml says. toml_edit.h changes it.
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
SurveyFile survey_file_of(const std::string& text, const std::filesystem::path& file);  // `file` for errors only

// Parameters that may be given of a camera beside its focal length: their names, and whether one is among them.
std::string parameter_names(CameraModel model);
bool has_parameter(CameraModel model, const std::string& name);

}  // namespace icefield
