#include "icefield/survey/survey.h"

#include "src/survey/survey_state.h"

namespace icefield {
namespace fs = std::filesystem;

void Survey::begin(const fs::path& folder, const std::vector<fs::path>& sources) {
  SettingsFile::begin(folder, sources);
}

Survey::Survey(fs::path folder, Executor executor, Monitor& monitor)
    : folder_(std::move(folder)), executor_(executor), monitor_(monitor) {
  std::error_code error;
  const bool there = fs::exists(folder_ / "survey.toml", error);
  if (error)
    throw Error(ErrorKind::resource, (folder_ / "survey.toml").string(), "cannot be reached (" + error.message() + ")",
                "check permissions");
  if (!there)
    throw Error(ErrorKind::input, folder_.string(), "is no survey",
                "make one with `icefield begin " + folder_.string() + " PHOTOS`");
  state_ = std::make_unique<State>(folder_, monitor);
  settings_ = state_->file.settings;
}

Survey::~Survey() = default;

// What was read before may have been written anew by the run that had the lock until now.
void Survey::lock() {
  if (state_->lock) return;
  if (state_->settings_file.trying_out())
    throw Error(ErrorKind::usage, folder_.string(), "cannot be worked on with settings that are only tried out",
                "set them first");
  auto held = std::make_unique<FolderLock>(folder_, FolderLock::Kind::run);
  state_->store.become_writer();
  state_->lock = std::move(held);
  state_->settings_file.reload();
  take_settings();
}

void Survey::take_settings() {
  settings_ = state_->file.settings;
  state_->forget();
}

void Survey::try_out() {
  state_->settings_file.try_out();
}

void Survey::set(const std::string& key, const std::string& value) {
  state_->settings_file.set(key, value);
  take_settings();
}

void Survey::set_effort(const std::string& effort, const std::string& step) {
  state_->settings_file.set_effort(effort, step);
  take_settings();
}

void Survey::set_camera(const std::string& name, const GivenCamera& given) {
  const auto& cameras = photos().cameras;
  if (std::none_of(cameras.begin(), cameras.end(), [&](const SurveyCamera& c) { return c.name == name; }))
    throw Error(ErrorKind::usage, name, "is no camera of this survey", "`icefield photos` lists them");
  state_->settings_file.set_camera(name, given);
  take_settings();
}

void Survey::set_bounds(const std::optional<Bounds>& bounds) {
  state_->settings_file.set_bounds(bounds);
  take_settings();
}

void Survey::set_outline(const std::vector<Eigen::Vector2d>& outline) {
  state_->settings_file.set_outline(outline);
  take_settings();
}

void Survey::set_masks(const fs::path& masks) {
  state_->settings_file.set_masks(masks);
  take_settings();
}

void Survey::switch_photos(const std::vector<std::string>& names, bool on) {
  std::vector<std::string> known;
  for (const std::string& name : names) known.push_back(photo(name).name);
  state_->settings_file.switch_photos(known, names, on);
  take_settings();
}

bool Survey::is_in_use() const {
  return !state_->lock && FolderLock::is_held(folder_);
}

}  // namespace icefield
