#include "icefield/survey/survey.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <set>

#include "icefield/io/text_file.h"
#include "src/survey/survey_state.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

constexpr const char* kNewSurvey =
    "# An Icefield survey. Made to be edited by hand; `icefield settings SURVEY` explains every setting.\n"
    "# What is not here has its default.\n\n"
    "effort = \"standard\"      # draft, standard or fine\n\n"
    "[photos]\n"
    "# Folders and files; folders are searched for JPEG, PNG and TIFF files.\n"
    "sources = []\n"
    "# Names of photos that take no part.\n"
    "off = []\n";

void write_survey_file(const fs::path& folder, const std::string& text) {
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

FolderLock::FolderLock(const fs::path& folder) {
  const fs::path file = folder / "work" / "lock";
  make_folder(folder / "work");
  fd_ = ::open(file.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0666);
  if (fd_ < 0)
    throw Error(ErrorKind::resource, file.string(), std::string("cannot be written (") + std::strerror(errno) + ")",
                "check permissions and free space");
  if (::flock(fd_, LOCK_EX | LOCK_NB) != 0) {
    ::close(fd_);
    throw Error(ErrorKind::resource, folder.string(), "is in use by another run", "wait for it to end, or stop it");
  }
}

FolderLock::~FolderLock() {
  ::close(fd_);
}

const char* describe(StepState state) {
  return state == StepState::fresh ? "fresh" : state == StepState::stale ? "stale" : "missing";
}

void Survey::begin(const fs::path& folder, const std::vector<fs::path>& sources) {
  std::error_code error;
  fs::create_directories(folder, error);
  if (error || !fs::is_directory(folder))
    throw Error(ErrorKind::resource, folder.string(),
                "cannot be made (" + (error ? error.message() : std::string("a file is in the way")) + ")",
                "check the path and permissions");
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
  text = with_entry(text, "photos", "sources", toml_list(all));
  write_survey_file(folder, text);
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

void Survey::set(const std::string& key, const std::string& value) {
  const fs::path file = folder_ / "survey.toml";
  std::string text = read_file(file);
  if (key == "effort") {
    effort_by_name(value);
    text = with_entry(text, "", "effort", "\"" + value + "\"");
  } else {
    Settings trial = settings_;
    trial.set(key, value);
    const std::size_t dot = key.find('.');
    const bool word =
        value != "true" && value != "false" && value.find_first_not_of("0123456789+-.eE") != std::string::npos;
    text = with_entry(text, key.substr(0, dot), key.substr(dot + 1), word ? quoted(value) : value);
  }
  write_survey_file(folder_, text);
  state_->file = read_survey_file(file);
  settings_ = state_->file.settings;
  state_->list.reset();
  state_->posed.reset();
}

void Survey::set_camera(const std::string& name, const GivenCamera& given) {
  const auto& cameras = photos().cameras;
  if (std::none_of(cameras.begin(), cameras.end(), [&](const SurveyCamera& c) { return c.name == name; }))
    throw Error(ErrorKind::usage, name, "is no camera of this survey", "`icefield photos` lists them");
  const CameraModel model = given.model.value_or(CameraModel::radial);
  const fs::path file = folder_ / "survey.toml";
  const std::string section = "cameras." + quoted(name);
  std::string text = without_section(read_file(file), section);
  if (given.model) text = with_entry(text, section, "model", quoted(camera_model_name(*given.model)));
  if (given.focal_px > 0) {
    text = with_entry(text, section, "focal_px", fmt::format("{}", given.focal_px));
    text = with_entry(text, section, "uncertainty_percent", fmt::format("{}", given.uncertainty_percent));
  }
  for (const auto& [parameter, value] : given.parameters) {
    if (!has_parameter(model, parameter))
      throw Error(ErrorKind::usage, parameter,
                  fmt::format("is no parameter of the model '{}'", camera_model_name(model)),
                  "its parameters are " + parameter_names(model));
    text = with_entry(text, section, parameter, fmt::format("{}", value));
  }
  write_survey_file(folder_, text);
  state_->file = read_survey_file(file);
  state_->list.reset();
  state_->posed.reset();
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
  const fs::path file = folder_ / "survey.toml";
  std::string text = without_section(read_file(file), "bounds");
  if (bounds) {
    const auto list = [](const Eigen::Vector3d& v) { return fmt::format("[{}, {}, {}]", v.x(), v.y(), v.z()); };
    text = with_entry(text, "bounds", "centre", list(bounds->centre));
    text = with_entry(text, "bounds", "size", list(2 * bounds->half_size));
    text = with_entry(text, "bounds", "turn_deg", fmt::format("{:.10g}", turn_deg(*bounds)));
    if (!bounds->outline.empty()) text = with_entry(text, "bounds", "outline", outline_text(bounds->outline));
  }
  write_survey_file(folder_, text);
  state_->file = read_survey_file(file);
}

void Survey::set_outline(const std::vector<Eigen::Vector2d>& outline) {
  const fs::path file = folder_ / "survey.toml";
  write_survey_file(folder_,
                    with_entry(without_section(read_file(file), "bounds"), "bounds", "outline", outline_text(outline)));
  state_->file = read_survey_file(file);
}

void Survey::switch_photos(const std::vector<std::string>& names, bool on) {
  std::set<std::string> off(state_->file.off.begin(), state_->file.off.end());
  for (const std::string& name : names) {
    const auto& all = photos().photos;
    if (std::none_of(all.begin(), all.end(), [&](const SurveyPhoto& p) { return p.name == name; }))
      throw Error(ErrorKind::usage, name, "is no photo of this survey", "`icefield photos` lists them");
    if (on)
      off.erase(name);
    else
      off.insert(name);
  }
  const fs::path file = folder_ / "survey.toml";
  write_survey_file(folder_, with_entry(read_file(file), "photos", "off", toml_list({off.begin(), off.end()})));
  state_->file = read_survey_file(file);
  state_->list.reset();
  state_->posed.reset();
}

void Survey::set_masks(const fs::path& masks) {
  if (!masks.empty() && !fs::is_directory(masks))
    throw Error(ErrorKind::input, masks.string(), "is no folder",
                "give the folder that holds a PNG for each masked photo");
  const fs::path file = folder_ / "survey.toml";
  write_survey_file(folder_, with_entry(read_file(file), "photos", "masks",
                                        quoted(masks.empty() ? "" : fs::absolute(masks).lexically_normal().string())));
  state_->file = read_survey_file(file);
  state_->list.reset();
  state_->posed.reset();
}

std::string Survey::photo_name(PhotoIndex photo) {
  return photos().photos[photo.value].name;
}
fs::path Survey::block_folder(std::size_t block) const {
  return folder_ / "results" / fmt::format("block-{}", block + 1);
}

std::vector<StepStatus> Survey::status() {
  photos();
  State& state = *state_;
  const Fingerprint dense_key = state.densify_key(settings_);
  std::vector<StepStatus> all;
  const auto add = [&](const char* step, bool fresh, std::string line) {
    const auto last = state.last(step);
    all.push_back({step,
                   fresh  ? StepState::fresh
                   : last ? StepState::stale
                          : StepState::missing,
                   fresh ? std::move(line) : "", last ? last->second : 0});
  };
  const auto matched = state.store.get("match report", state.match_key(settings_));
  add("match", matched.has_value(), matched ? ByteReader(*matched).get_string() : "");
  const OrientResult* result = posed();
  add("pose", result != nullptr, result ? result->summary.outcome : "");
  const auto densified = state.last("densify");
  bool files = result != nullptr;
  for (std::size_t b = 0; result && b < result->blocks.size(); ++b)
    files = files && (!state.holds_subject(result->blocks[b]) || fs::exists(block_folder(b) / "dense.ply"));
  add("densify", densified && densified->first == dense_key && files, "results/block-1/dense.ply");
  return all;
}

}  // namespace icefield
