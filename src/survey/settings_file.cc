#include "src/survey/settings_file.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <set>

#include "icefield/io/text_file.h"
#include "src/survey/folder_lock.h"
#include "src/survey/toml_edit.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

constexpr const char* kNewSurvey =
    "# An Icefield survey. Made to be edited by hand; `icefield settings SURVEY` explains every setting.\n"
    "# What is not here has its default.\n\n"
    "effort = \"standard\"      # draft, standard or fine\n\n"
    "[photos]\n"
    "# Folders and files; folders are searched for photos.\n"
    "sources = []\n"
    "# Names of photos that take no part.\n"
    "off = []\n";

// Takes the place of survey.toml only once it has been read back and says what it should.
void write_survey_file(const fs::path& folder, const std::string& text) {
  survey_file_of(text, folder / "survey.toml");
  write_file(folder / "survey.toml", text);
}

std::string outline_text(const std::vector<Eigen::Vector2d>& outline) {
  double area = 0;
  std::string text;
  for (std::size_t i = 0, j = outline.size() - 1; i < outline.size(); j = i++) {
    const Eigen::Vector2d a = outline[j] - outline[0], b = outline[i] - outline[0];
    area += std::abs(a.x() * b.y() - a.y() * b.x());
    text += fmt::format("{}[{}, {}]", i > 0 ? ", " : "", outline[i].x(), outline[i].y());
  }
  if (outline.size() < 3 || !(area > 0) || !std::isfinite(area))
    throw Error(ErrorKind::usage, "outline", "encloses nothing", "give three corners or more, not on one line");
  return "[" + text + "]";
}

}  // namespace

void SettingsFile::begin(const fs::path& folder, const std::vector<fs::path>& sources) {
  std::error_code error;
  fs::create_directories(folder, error);
  if (error || !fs::is_directory(folder))
    throw Error(ErrorKind::resource, folder.string(),
                "cannot be made (" + (error ? error.message() : std::string("a file is in the way")) + ")",
                "check the path and permissions");
  const FolderLock lock(folder, FolderLock::Kind::edit);
  const fs::path file = folder / "survey.toml";
  std::string text = fs::exists(file) ? read_file(file) : kNewSurvey;
  std::vector<std::string> all;
  if (fs::exists(file)) all = read_survey_file(file).sources;
  for (const fs::path& source : sources) {
    if (!fs::exists(source)) throw Error(ErrorKind::input, source.string(), "does not exist", "check the path");
    // Relative to the survey where the photos lie inside it, so that the folder can be moved as a whole.
    const fs::path absolute = fs::canonical(source), base = fs::canonical(folder);
    const fs::path relative = absolute.lexically_relative(base);
    const std::string entry = relative.empty() || *relative.begin() == ".." ? absolute.string() : relative.string();
    if (std::find(all.begin(), all.end(), entry) == all.end()) all.push_back(entry);
  }
  write_survey_file(folder, with_entry(text, {"photos", "sources"}, toml_list(all), file.string()));
}

SettingsFile::SettingsFile(const fs::path& survey)
    : folder_(survey), file_(survey / "survey.toml"), content_(read_survey_file(file_)) {}

void SettingsFile::reload() {
  content_ = trying_out_ ? survey_file_of(text_, file_) : read_survey_file(file_);
}

void SettingsFile::try_out() {
  if (trying_out_) return;
  text_ = read_file(file_);
  trying_out_ = true;
}

void SettingsFile::edit(const std::function<std::string(const std::string&)>& change) {
  if (trying_out_) {
    const std::string text = change(text_);
    survey_file_of(text, file_);
    text_ = text;
  } else {
    const FolderLock lock(folder_, FolderLock::Kind::edit);
    const std::string before = read_file(file_), after = change(before);
    if (after != before) write_survey_file(folder_, after);
  }
  reload();
}

void SettingsFile::set(const std::string& key, const std::string& value) {
  if (key == "effort") return set_effort(value, "");
  Settings trial = content_.settings;
  trial.set(key, value);
  const std::size_t dot = key.find('.');
  const bool word = value.empty() || (value != "true" && value != "false" &&
                                      value.find_first_not_of("0123456789+-.eE") != std::string::npos);
  edit([&](const std::string& text) {
    return with_entry(text, {key.substr(0, dot), key.substr(dot + 1)}, word ? quoted(value) : value, name());
  });
}

void SettingsFile::set_effort(const std::string& effort, const std::string& step) {
  effort_by_name(effort);
  edit([&](const std::string& text) {
    if (!step.empty()) return with_entry(text, {"step_effort", step}, quoted(effort), name());
    return with_entry(without(text, {"step_effort"}, name()), {"effort"}, quoted(effort), name());
  });
}

void SettingsFile::set_camera(const std::string& camera, const GivenCamera& given) {
  const CameraModel model = given.model.value_or(CameraModel::radial);
  for (const auto& [parameter, value] : given.parameters)
    if (!has_parameter(model, parameter))
      throw Error(ErrorKind::usage, parameter,
                  fmt::format("is no parameter of the model '{}'", camera_model_name(model)),
                  "its parameters are " + parameter_names(model));
  edit([&](const std::string& before) {
    std::string text = without(before, {"cameras", camera}, name());
    const auto put = [&](const std::string& key, const std::string& value) {
      text = with_entry(text, {"cameras", camera, key}, value, name());
    };
    if (given.model) put("model", quoted(camera_model_name(*given.model)));
    if (given.focal_px > 0) {
      put("focal_px", fmt::format("{}", given.focal_px));
      put("uncertainty_percent", fmt::format("{}", given.uncertainty_percent));
    }
    for (const auto& [parameter, value] : given.parameters) put(parameter, fmt::format("{}", value));
    return text;
  });
}

void SettingsFile::set_bounds(const std::optional<Bounds>& bounds) {
  edit([&](const std::string& before) {
    std::string text = without(before, {"bounds"}, name());
    if (!bounds) return text;
    const auto list = [](const Eigen::Vector3d& v) { return fmt::format("[{}, {}, {}]", v.x(), v.y(), v.z()); };
    text = with_entry(text, {"bounds", "centre"}, list(bounds->centre), name());
    text = with_entry(text, {"bounds", "size"}, list(2 * bounds->half_size), name());
    text = with_entry(text, {"bounds", "turn_deg"}, fmt::format("{:.10g}", turn_deg(*bounds)), name());
    if (!bounds->outline.empty()) text = with_entry(text, {"bounds", "outline"}, outline_text(bounds->outline), name());
    return text;
  });
}

void SettingsFile::set_outline(const std::vector<Eigen::Vector2d>& outline) {
  const std::string value = outline_text(outline);
  edit([&](const std::string& before) {
    return with_entry(without(before, {"bounds"}, name()), {"bounds", "outline"}, value, name());
  });
}

void SettingsFile::set_masks(const fs::path& masks) {
  if (!masks.empty() && !fs::is_directory(masks))
    throw Error(ErrorKind::input, masks.string(), "is no folder", "give the folder with a PNG for each masked photo");
  const std::string folder = masks.empty() ? "" : fs::absolute(masks).lexically_normal().string();
  edit([&](const std::string& before) { return with_entry(before, {"photos", "masks"}, quoted(folder), name()); });
}

void SettingsFile::switch_photos(const std::vector<std::string>& names, const std::vector<std::string>& also, bool on) {
  edit([&](const std::string& before) {
    const std::vector<std::string> listed = survey_file_of(before, file_).off;
    std::set<std::string> off(listed.begin(), listed.end());
    for (const std::vector<std::string>* list : {&names, &also})
      for (const std::string& photo : *list) off.erase(photo);
    if (!on) off.insert(names.begin(), names.end());
    return with_entry(before, {"photos", "off"}, toml_list({off.begin(), off.end()}), name());
  });
}

}  // namespace icefield
