#include "icefield/survey/survey.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>

#include "icefield/io/text_file.h"
#include "src/survey/survey_state.h"
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

fs::path lock_file(const fs::path& folder, FolderLock::Kind kind) {
  return folder / "work" / (kind == FolderLock::Kind::run ? "lock" : "edit.lock");
}

// Takes the place of survey.toml only once it has been read back and says what it should.
void write_survey_file(const fs::path& folder, const std::string& text) {
  survey_file_of(text, folder / "survey.toml");
  write_file(folder / "survey.toml", text);
}

}  // namespace

void make_folder(const fs::path& folder) {
  std::error_code error;
  fs::create_directories(folder, error);
  if (error)
    throw Error(ErrorKind::resource, folder.string(), "cannot be made (" + error.message() + ")",
                "check permissions and free space");
}

FolderLock::FolderLock(const fs::path& folder, Kind kind) {
  const fs::path file = lock_file(folder, kind);
  make_folder(folder / "work");
  fd_ = ::open(file.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0666);
  if (fd_ < 0)
    throw Error(ErrorKind::resource, file.string(), std::string("cannot be written (") + std::strerror(errno) + ")",
                "check permissions and free space");
  int result = 0;
  do result = ::flock(fd_, kind == Kind::run ? LOCK_EX | LOCK_NB : LOCK_EX);
  while (result != 0 && errno == EINTR);
  if (result == 0) return;
  ::close(fd_);
  throw Error(ErrorKind::resource, folder.string(), "is in use by another run",
              "wait for it to end, or stop it; `status`, `view`, `pair`, `compare` and `export` work meanwhile");
}

FolderLock::~FolderLock() {
  ::close(fd_);
}

bool FolderLock::is_held(const fs::path& folder) {
  const int fd = ::open(lock_file(folder, Kind::run).c_str(), O_RDONLY | O_CLOEXEC);
  if (fd < 0) return false;
  const bool held = ::flock(fd, LOCK_SH | LOCK_NB) != 0;
  ::close(fd);
  return held;
}

void Survey::begin(const fs::path& folder, const std::vector<fs::path>& sources) {
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
  SurveyFile file = read_survey_file(folder_ / "survey.toml");
  settings_ = file.settings;
  state_ = std::make_unique<State>(folder_, std::move(file), monitor);
}

Survey::~Survey() = default;

// What was read before may have been written anew by the run that had the lock until now.
void Survey::lock() {
  if (state_->lock) return;
  if (state_->trying_out)
    throw Error(ErrorKind::usage, folder_.string(), "cannot be worked on with settings that are only tried out",
                "set them first");
  auto held = std::make_unique<FolderLock>(folder_, FolderLock::Kind::run);
  state_->store.become_writer();
  state_->lock = std::move(held);
  reload();
}

void Survey::reload() {
  state_->file = state_->trying_out ? survey_file_of(state_->text, folder_ / "survey.toml")
                                    : read_survey_file(folder_ / "survey.toml");
  settings_ = state_->file.settings;
  state_->forget();
}

void Survey::try_out() {
  if (state_->trying_out) return;
  state_->text = read_file(folder_ / "survey.toml");
  state_->trying_out = true;
}

void Survey::edit(const std::function<std::string(const std::string&)>& change) {
  const fs::path file = folder_ / "survey.toml";
  if (state_->trying_out) {
    const std::string text = change(state_->text);
    survey_file_of(text, file);
    state_->text = text;
  } else {
    const FolderLock lock(folder_, FolderLock::Kind::edit);
    const std::string before = read_file(file), after = change(before);
    if (after != before) write_survey_file(folder_, after);
  }
  reload();
}

void Survey::set(const std::string& key, const std::string& value) {
  if (key == "effort") return set_effort(value);
  Settings trial = settings_;
  trial.set(key, value);
  const std::size_t dot = key.find('.');
  const bool word =
      value != "true" && value != "false" && value.find_first_not_of("0123456789+-.eE") != std::string::npos;
  edit([&](const std::string& text) {
    return with_entry(text, {key.substr(0, dot), key.substr(dot + 1)}, word ? quoted(value) : value,
                      (folder_ / "survey.toml").string());
  });
}

void Survey::set_effort(const std::string& effort, const std::string& step) {
  effort_by_name(effort);
  const std::string file = (folder_ / "survey.toml").string();
  edit([&](const std::string& text) {
    if (!step.empty()) return with_entry(text, {"step_effort", step}, quoted(effort), file);
    return with_entry(without(text, {"step_effort"}, file), {"effort"}, quoted(effort), file);
  });
}

void Survey::set_camera(const std::string& name, const GivenCamera& given) {
  const auto& cameras = photos().cameras;
  if (std::none_of(cameras.begin(), cameras.end(), [&](const SurveyCamera& c) { return c.name == name; }))
    throw Error(ErrorKind::usage, name, "is no camera of this survey", "`icefield photos` lists them");
  const CameraModel model = given.model.value_or(CameraModel::radial);
  for (const auto& [parameter, value] : given.parameters)
    if (!has_parameter(model, parameter))
      throw Error(ErrorKind::usage, parameter,
                  fmt::format("is no parameter of the model '{}'", camera_model_name(model)),
                  "its parameters are " + parameter_names(model));
  const std::string file = (folder_ / "survey.toml").string();
  edit([&](const std::string& before) {
    std::string text = without(before, {"cameras", name}, file);
    const auto put = [&](const std::string& key, const std::string& value) {
      text = with_entry(text, {"cameras", name, key}, value, file);
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

namespace {

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

void Survey::set_bounds(const std::optional<Bounds>& bounds) {
  const std::string file = (folder_ / "survey.toml").string();
  edit([&](const std::string& before) {
    std::string text = without(before, {"bounds"}, file);
    if (!bounds) return text;
    const auto list = [](const Eigen::Vector3d& v) { return fmt::format("[{}, {}, {}]", v.x(), v.y(), v.z()); };
    text = with_entry(text, {"bounds", "centre"}, list(bounds->centre), file);
    text = with_entry(text, {"bounds", "size"}, list(2 * bounds->half_size), file);
    text = with_entry(text, {"bounds", "turn_deg"}, fmt::format("{:.10g}", turn_deg(*bounds)), file);
    if (!bounds->outline.empty()) text = with_entry(text, {"bounds", "outline"}, outline_text(bounds->outline), file);
    return text;
  });
}

void Survey::set_outline(const std::vector<Eigen::Vector2d>& outline) {
  const std::string file = (folder_ / "survey.toml").string(), value = outline_text(outline);
  edit([&](const std::string& before) {
    return with_entry(without(before, {"bounds"}, file), {"bounds", "outline"}, value, file);
  });
}

void Survey::switch_photos(const std::vector<std::string>& names, bool on) {
  std::vector<std::string> known;
  for (const std::string& name : names) known.push_back(photo(name).name);
  const std::string file = (folder_ / "survey.toml").string();
  edit([&](const std::string& before) {
    const std::vector<std::string> listed = survey_file_of(before, file).off;
    std::set<std::string> off(listed.begin(), listed.end());
    for (std::size_t i = 0; i < known.size(); ++i) {
      off.erase(known[i]);
      off.erase(names[i]);
      if (!on) off.insert(known[i]);
    }
    return with_entry(before, {"photos", "off"}, toml_list({off.begin(), off.end()}), file);
  });
}

void Survey::set_masks(const fs::path& masks) {
  if (!masks.empty() && !fs::is_directory(masks))
    throw Error(ErrorKind::input, masks.string(), "is no folder", "give the folder with a PNG for each masked photo");
  const std::string folder = masks.empty() ? "" : fs::absolute(masks).lexically_normal().string();
  edit([&](const std::string& before) {
    return with_entry(before, {"photos", "masks"}, quoted(folder), (folder_ / "survey.toml").string());
  });
}

std::string Survey::photo_name(PhotoIndex photo) {
  return photos().photos[photo.value].name;
}
fs::path Survey::block_folder(std::size_t block) const {
  return folder_ / "results" / fmt::format("block-{}", block + 1);
}
bool Survey::is_in_use() const {
  return !state_->lock && FolderLock::is_held(folder_);
}

}  // namespace icefield
