// survey.toml: read, and changed entry by entry.
#pragma once
#include <filesystem>
#include <functional>
#include <string>
#include <vector>

#include "src/survey/survey_file.h"

namespace icefield {

// What the file says, and its edits. Each changes one entry and leaves the rest of the bytes; the new text is read back
// before it takes the old one's place. While it tries out, edits change what is read here and not the file.
class SettingsFile {
 public:
  // Makes the file, or adds sources to the one that is there. Throws Error(input) for a source that does not exist.
  static void begin(const std::filesystem::path& survey, const std::vector<std::filesystem::path>& sources);
  // Throws Error(input) naming the line and the fault.
  explicit SettingsFile(const std::filesystem::path& survey);

  const SurveyFile& content() const { return content_; }
  const std::filesystem::path& folder() const { return folder_; }  // of the survey
  bool trying_out() const { return trying_out_; }
  void try_out();
  void reload();

  void set(const std::string& key, const std::string& value);
  void set_effort(const std::string& effort, const std::string& step);
  void set_camera(const std::string& name, const GivenCamera& given);
  void set_bounds(const std::optional<Bounds>& bounds);
  void set_outline(const std::vector<Eigen::Vector2d>& outline);
  void set_masks(const std::filesystem::path& folder);
  // `names` as photos are called; `also`: other names that may stand in the file for them.
  void switch_photos(const std::vector<std::string>& names, const std::vector<std::string>& also, bool on);

 private:
  void edit(const std::function<std::string(const std::string&)>& change);
  std::string name() const { return file_.string(); }  // for errors
  std::filesystem::path folder_, file_;
  SurveyFile content_;
  bool trying_out_ = false;
  std::string text_;  // as far as it is not on disk
};

}  // namespace icefield
