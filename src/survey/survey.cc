#include "icefield/survey/survey.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <chrono>
#include <cmath>
#include <cstring>
#include <map>
#include <nlohmann/json.hpp>
#include <set>
#include <tuple>

#include "icefield/base/instructions.h"
#include "icefield/base/random.h"
#include "icefield/io/camera_file.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/ply_file.h"
#include "icefield/io/text_file.h"
#include "src/survey/records.h"
#include "src/survey/store.h"
#include "src/survey/survey_file.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

// Versions of the steps. Raise one when its output changes for the same input: results made before then become stale.
constexpr int kPhotoVersion = 2, kFeatureVersion = 1, kPairVersion = 1, kPoseVersion = 1, kDepthVersion = 1, kFuseVersion = 1;

constexpr const char* kNewSurvey =
    "# An Icefield survey. Made to be edited by hand; `icefield settings SURVEY` explains every setting.\n"
    "# What is not here has its default.\n\n"
    "effort = \"standard\"      # draft, standard or fine\n\n"
    "[photos]\n"
    "# Folders and files; folders are searched for JPEG, PNG and TIFF files.\n"
    "sources = []\n"
    "# Names of photos that take no part.\n"
    "off = []\n";

void write_survey_file(const fs::path& folder, const std::string& text) { write_file(folder / "survey.toml", text); }

Fingerprint named_key(const std::string& name) { return Fingerprinter().add(name).result(); }

double seconds_since(std::chrono::steady_clock::time_point start) {
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

// The lock of a survey: held by the open file, so that it ends with the process however that ends.
class FolderLock {
 public:
  explicit FolderLock(const fs::path& folder) {
    const fs::path file = folder / "work" / "lock";
    std::error_code error;
    fs::create_directories(folder / "work", error);
    if (error) throw Error(ErrorKind::resource, (folder / "work").string(), "cannot be made (" + error.message() + ")", "check permissions and free space");
    fd_ = ::open(file.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0666);
    if (fd_ < 0) throw Error(ErrorKind::resource, file.string(), std::string("cannot be written (") + std::strerror(errno) + ")", "check permissions and free space");
    if (::flock(fd_, LOCK_EX | LOCK_NB) != 0) {
      ::close(fd_);
      throw Error(ErrorKind::resource, folder.string(), "is in use by another run", "wait for it to end, or stop it");
    }
  }
  ~FolderLock() { ::close(fd_); }
  FolderLock(const FolderLock&) = delete;
  FolderLock& operator=(const FolderLock&) = delete;

 private:
  int fd_ = -1;
};

// Depth maps as files, each with a checksum.
class DepthFiles : public DepthMapStore {
 public:
  DepthFiles(fs::path folder, std::function<Fingerprint(PhotoIndex, int)> key, Monitor& monitor) : folder_(std::move(folder)), key_(std::move(key)), monitor_(monitor) {
    std::error_code error;
    fs::create_directories(folder_, error);
    if (error) throw Error(ErrorKind::resource, folder_.string(), "cannot be made (" + error.message() + ")", "check permissions and free space");
  }
  fs::path file(PhotoIndex photo, int round) const { return folder_ / (key_(photo, round).hex() + ".depth"); }

  std::optional<DepthMap> get(PhotoIndex photo, int round) override {
    const fs::path path = file(photo, round);
    if (!fs::exists(path)) return std::nullopt;
    try {
      const std::string content = read_file(path);
      const std::span<const std::byte> bytes(reinterpret_cast<const std::byte*>(content.data()), content.size());
      if (content.size() > sizeof(Fingerprint)) {
        const auto body = bytes.first(bytes.size() - sizeof(Fingerprint));
        const Fingerprint sum = fingerprint_bytes(body);
        if (std::memcmp(&sum, content.data() + body.size(), sizeof sum) == 0) return DepthMap::from_bytes(body);
      }
    } catch (const Error&) {
    }
    monitor_.log(LogLevel::warning, path.string() + ": is damaged; it is computed again");
    std::error_code ignored;
    fs::remove(path, ignored);
    return std::nullopt;
  }
  void put(PhotoIndex photo, int round, const DepthMap& map) override {
    const Bytes bytes = map.to_bytes();
    const Fingerprint sum = fingerprint_bytes(bytes);
    std::string content(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    content.append(reinterpret_cast<const char*>(&sum), sizeof sum);
    write_file(file(photo, round), content);
  }

 private:
  fs::path folder_;
  std::function<Fingerprint(PhotoIndex, int)> key_;
  Monitor& monitor_;
};

DepthFiles depth_files(const fs::path& folder, const PhotoList& list, const Block& block, const Settings& settings, Monitor& monitor) {
  const Fingerprint block_key = fingerprint_bytes(block_to_bytes(block));
  const std::string text = settings.text({"dense"});
  return DepthFiles(
      folder / "work" / "depth",
      [&list, block_key, text](PhotoIndex photo, int round) {
        return Fingerprinter().add(kDepthVersion).add(instruction_level()).add(block_key).add(list.photos[photo.value].content).add(photo.value).add(round).add(text).result();
      },
      monitor);
}

class StoredCheckpoint : public OrientCheckpoint {
 public:
  StoredCheckpoint(Store& store, const Fingerprint& key) : store_(store), key_(key) {}
  std::optional<Bytes> load() override { return store_.get("pose state", key_); }
  void save(const Bytes& state) override { store_.put("pose state", key_, state); }

 private:
  Store& store_;
  Fingerprint key_;
};

}  // namespace

const char* describe(StepState state) { return state == StepState::fresh ? "fresh" : state == StepState::stale ? "stale" : "missing"; }

struct Survey::State {
  FolderLock lock;
  SurveyFile file;
  Store store;
  std::optional<PhotoList> list;
  std::optional<OrientResult> posed;
  std::vector<Fingerprint> feature_keys;   // by used photo

  State(const fs::path& folder, SurveyFile f, Monitor& monitor) : lock(folder), file(std::move(f)), store(folder / "work" / "records.sqlite", monitor) {}

  Fingerprint feature_key(const SurveyPhoto& photo, const Settings& settings) const {
    return Fingerprinter().add(kFeatureVersion).add(instruction_level()).add(photo.content).add(settings.text({"feature"})).result();
  }
  Fingerprint pair_key(std::size_t a, std::size_t b, const Settings& settings) const {
    Fingerprinter key;
    key.add(kPairVersion).add(feature_keys[a]).add(feature_keys[b]).add(settings.text({"match"}));
    for (const std::size_t i : {a, b}) {
      const CameraPrior& prior = list->cameras[list->photos[i].camera.value].prior;
      for (const double p : prior.camera.parameters) key.add(p);
      key.add(prior.focal_uncertainty_percent);
    }
    return key.result();
  }
  Fingerprint pose_key(const Settings& settings) const {
    Fingerprinter key;
    key.add(kPoseVersion).add(instruction_level()).add(settings.text({"pose"}));
    for (std::size_t i = 0; i < list->used; ++i) {
      key.add(list->photos[i].name).add(list->photos[i].camera.value);
      for (std::size_t j = i + 1; j < list->used; ++j) key.add(pair_key(i, j, settings));
    }
    return key.result();
  }
  void remember(const std::string& step, const Fingerprint& key, double seconds) {
    ByteWriter out;
    out.put(key).put(seconds);
    store.put("step", named_key(step), out.take());
  }
  std::optional<std::pair<Fingerprint, double>> last(const std::string& step) {
    const auto bytes = store.get("step", named_key(step));
    if (!bytes) return std::nullopt;
    ByteReader in(*bytes);
    const auto key = in.get<Fingerprint>();
    return std::pair{key, in.get<double>()};
  }
};

void Survey::begin(const fs::path& folder, const std::vector<fs::path>& sources) {
  std::error_code error;
  fs::create_directories(folder, error);
  if (error || !fs::is_directory(folder)) throw Error(ErrorKind::resource, folder.string(), "cannot be made (" + (error ? error.message() : std::string("a file is in the way")) + ")", "check the path and permissions");
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

Survey::Survey(fs::path folder, Executor executor, Monitor& monitor) : folder_(std::move(folder)), executor_(executor), monitor_(monitor) {
  if (!fs::exists(folder_ / "survey.toml"))
    throw Error(ErrorKind::input, folder_.string(), "is no survey", "make one with `icefield begin " + folder_.string() + " PHOTOS`");
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
    text = with_entry(text, key.substr(0, dot), key.substr(dot + 1), value);
  }
  write_survey_file(folder_, text);
  state_->file = read_survey_file(file);
  settings_ = state_->file.settings;
  state_->list.reset();
  state_->posed.reset();
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

const PhotoList& Survey::photos() {
  if (state_->list) return *state_->list;
  std::vector<fs::path> sources;
  for (const std::string& source : state_->file.sources) sources.push_back(fs::path(source).is_absolute() ? fs::path(source) : folder_ / source);
  const std::vector<fs::path> files = find_photo_files(sources);
  if (files.empty())
    throw Error(ErrorKind::input, sources.empty() ? folder_.string() : sources.front().string(), "holds no photos", "add a folder with JPEG, PNG or TIFF files: `icefield begin " + folder_.string() + " FOLDER`");

  std::vector<SurveyPhoto> found(files.size());
  const std::string settings_text = settings_.text({"photo"});
  executor_.run("read photos", files.size(), monitor_, [&](std::size_t i) {
    SurveyPhoto& photo = found[i];
    photo.file = files[i];
    // Size and time stand for the content as long as both stay; then the content itself is the key.
    struct ::stat info {};
    if (::stat(files[i].c_str(), &info) != 0) {
      photo.left_out = "cannot be read";
      return;
    }
    const Fingerprint file_key = Fingerprinter().add(files[i].string()).add(static_cast<std::int64_t>(info.st_size)).add(static_cast<std::int64_t>(info.st_mtim.tv_sec)).add(static_cast<std::int64_t>(info.st_mtim.tv_nsec)).result();
    if (const auto known = state_->store.get("file", file_key)) {
      photo.content = ByteReader(*known).get<Fingerprint>();
    } else {
      std::string bytes;
      try {
        bytes = read_file(files[i], std::size_t{4} << 30);
      } catch (const Error& e) {
        photo.left_out = e.fault();
        return;
      }
      photo.content = fingerprint_bytes({reinterpret_cast<const std::byte*>(bytes.data()), bytes.size()});
      state_->store.put("file", file_key, ByteWriter().put(photo.content).take());
    }
    const Fingerprint key = Fingerprinter().add(kPhotoVersion).add(photo.content).add(settings_text).result();
    if (const auto known = state_->store.get("photo", key)) {
      read_photo_record(*known, photo.metadata, photo.scores, photo.left_out);
      return;
    }
    try {
      photo.metadata = read_photo_metadata(files[i], settings_.photo);
      photo.scores = score_photo(to_grey(read_photo(files[i], settings_.photo)));
    } catch (const Error& e) {
      photo.left_out = e.fault();
      photo.metadata.width = photo.metadata.height = 0;
    }
    state_->store.put("photo", key, photo_record(photo.metadata, photo.scores, photo.left_out));
  });

  // Names: the file name where it is unique, with its folder otherwise.
  std::map<std::string, int> uses;
  for (const SurveyPhoto& photo : found) ++uses[photo.file.filename().string()];
  for (SurveyPhoto& photo : found) {
    photo.name = photo.file.filename().string();
    if (uses[photo.name] > 1) photo.name = (photo.file.parent_path().filename() / photo.file.filename()).string();
  }
  std::map<Fingerprint, std::string> by_content;
  const std::set<std::string> off(state_->file.off.begin(), state_->file.off.end());
  for (SurveyPhoto& photo : found) {
    if (!photo.left_out.empty()) continue;
    if (off.count(photo.name)) {
      photo.left_out = "switched off";
      continue;
    }
    const auto [other, fresh] = by_content.try_emplace(photo.content, photo.name);
    if (!fresh) photo.left_out = "is the same file as " + other->second;
  }

  PhotoList list;
  SensorTable sensors = SensorTable::built_in();
  if (const fs::path own = folder_ / "sensors.txt"; fs::exists(own)) sensors.add(read_file(own), own.string());
  std::map<std::tuple<std::string, std::string, std::string, int, int, double, double>, std::size_t> cameras;
  std::stable_partition(found.begin(), found.end(), [](const SurveyPhoto& p) { return p.left_out.empty(); });
  for (SurveyPhoto& photo : found) {
    if (photo.left_out.empty()) {
      ++list.used;
      const PhotoMetadata& m = photo.metadata;
      const auto [entry, fresh] = cameras.try_emplace({m.make, m.model, m.lens, m.width, m.height, m.focal_mm, m.focal_mm > 0 ? 0 : m.focal_35mm}, list.cameras.size());
      if (fresh) {
        SurveyCamera camera;
        const std::string body = m.model.empty() ? "unknown camera" : m.make.empty() ? m.model : m.make + " " + m.model;
        camera.name = fmt::format("{}{} {}x{}", body, m.focal_mm > 0 ? fmt::format(" {:.4g} mm", m.focal_mm) : "", m.width, m.height);
        for (const SurveyCamera& other : list.cameras)
          if (other.name == camera.name) camera.name += fmt::format(" ({})", list.cameras.size() + 1);
        FocalGuess guess = guess_focal(m, sensors);
        if (const auto given = state_->file.cameras.find(camera.name); given != state_->file.cameras.end())
          guess = {given->second.focal_px, given->second.uncertainty_percent, FocalSource::given};
        camera.prior = {make_camera(CameraModel::radial, m.width, m.height, guess.focal_px), guess.uncertainty_percent};
        camera.source = guess.source;
        list.cameras.push_back(std::move(camera));
      }
      photo.camera = CameraIndex(entry->second);
      ++list.cameras[entry->second].photos;
    }
    list.photos.push_back(std::move(photo));
  }
  for (std::size_t i = list.used; i < list.photos.size(); ++i)
    if (list.photos[i].left_out != "switched off") monitor_.log(LogLevel::warning, list.photos[i].file.string() + ": left out: " + list.photos[i].left_out);
  if (list.used < 2)
    throw Error(ErrorKind::input, sources.front().string(), fmt::format("holds {} usable photo{}{}", list.used, list.used == 1 ? "" : "s",
                                                                       list.photos.size() > list.used ? fmt::format(" ({} left out: {})", list.photos.size() - list.used, list.photos.back().left_out) : ""),
                "depth needs two photos at least, better twenty, that overlap by two thirds");
  state_->list = std::move(list);
  state_->feature_keys.clear();
  for (std::size_t i = 0; i < state_->list->used; ++i) state_->feature_keys.push_back(state_->feature_key(state_->list->photos[i], settings_));
  return *state_->list;
}

std::string Survey::photo_name(PhotoIndex photo) { return photos().photos[photo.value].name; }
fs::path Survey::block_folder(std::size_t block) const { return folder_ / "results" / fmt::format("block-{}", block + 1); }

MatchReport Survey::match() {
  const auto start = std::chrono::steady_clock::now();
  const PhotoList& list = photos();
  State& state = *state_;
  MatchReport report;
  report.photos = list.used;
  report.photo_features.resize(list.used);
  report.photo_pairs.resize(list.used);

  std::vector<std::uint8_t> computed(list.used, 0);
  executor_.run("find features", list.used, monitor_, [&](std::size_t i) {
    if (state.store.has("features", state.feature_keys[i])) return;
    const Features features = find_features(to_grey(read_photo(list.photos[i].file, settings_.photo)), settings_.feature);
    state.store.put("features", state.feature_keys[i], features_record(features));
    computed[i] = 1;
  });
  report.computed_photos = static_cast<std::size_t>(std::count(computed.begin(), computed.end(), 1));

  // Pairs in tiles, so that the features of two tiles of photos are in memory and no more.
  constexpr std::size_t kTile = 128;
  const auto load = [&](std::size_t i) {
    auto bytes = state.store.get("features", state.feature_keys[i]);
    if (!bytes) {  // damaged between the round above and now
      const Features again = find_features(to_grey(read_photo(list.photos[i].file, settings_.photo)), settings_.feature);
      state.store.put("features", state.feature_keys[i], features_record(again));
      return again;
    }
    return read_features_record(*bytes);
  };
  const std::size_t total = list.used * (list.used - 1) / 2;
  std::size_t before = 0;
  struct Offset : Monitor {  // progress over all tiles
    Monitor& outer;
    std::size_t shift, all;
    Offset(Monitor& m, std::size_t s, std::size_t a) : outer(m), shift(s), all(a) {}
    void progress(std::string_view what, std::size_t done, std::size_t) override { outer.progress(what, shift + done, all); }
    void log(LogLevel level, const std::string& message) override { outer.log(level, message); }
    bool cancelled() const override { return outer.cancelled(); }
  };
  for (std::size_t row = 0; row < list.used; row += kTile)
    for (std::size_t column = row; column < list.used; column += kTile) {
      std::vector<std::pair<std::size_t, std::size_t>> wanted;
      std::size_t in_tile = 0;
      for (std::size_t i = row; i < std::min(row + kTile, list.used); ++i)
        for (std::size_t j = std::max(column, i + 1); j < std::min(column + kTile, list.used); ++j) {
          ++in_tile;
          if (!state.store.has("pair", state.pair_key(i, j, settings_))) wanted.emplace_back(i, j);
        }
      if (!wanted.empty()) {
        std::map<std::size_t, Features> held;
        for (const auto& [i, j] : wanted)
          for (const std::size_t k : {i, j})
            if (!held.count(k)) held.emplace(k, load(k));
        Offset progress(monitor_, before + in_tile - wanted.size(), total);
        executor_.run("match pairs", wanted.size(), progress, [&](std::size_t n) {
          const auto [i, j] = wanted[n];
          const Features &a = held.at(i), &b = held.at(j);
          const Fingerprint key = state.pair_key(i, j, settings_);
          const auto matches = match_descriptors(a, b, settings_.descriptor);
          PairMatches pair = verify_pair(a, b, matches, list.cameras[list.photos[i].camera.value].prior, list.cameras[list.photos[j].camera.value].prior, settings_.verify,
                                         combine_keys(list.photos[i].content.low, list.photos[j].content.low));
          state.store.put("pair", key, pair_record(pair));
        });
        report.computed_pairs += wanted.size();
      }
      before += in_tile;
    }

  for (std::size_t i = 0; i < list.used; ++i) report.photo_features[i] = load(i).size();
  for (std::size_t i = 0; i < list.used; ++i) {
    report.features += report.photo_features[i];
    for (std::size_t j = i + 1; j < list.used; ++j) {
      const auto bytes = state.store.get("pair", state.pair_key(i, j, settings_));
      if (!bytes) throw Error(ErrorKind::resource, (folder_ / "work").string(), "was changed during the run", "run the same command again");
      const PairMatches pair = read_pair_record(*bytes);
      ++report.pairs;
      if (!pair.verified()) continue;
      ++report.verified;
      ++report.photo_pairs[i];
      ++report.photo_pairs[j];
      report.matches += pair.matches.size();
    }
  }
  ByteWriter brief;
  brief.put(fmt::format("{} features, {} of {} pairs verified, {} matches", report.features, report.verified, report.pairs, report.matches));
  const Fingerprint key = state.pose_key(settings_);
  state.store.put("match report", key, brief.take());
  if (report.computed_photos + report.computed_pairs > 0 || !state.last("match")) state.remember("match", key, seconds_since(start));
  return report;
}

const OrientResult* Survey::posed() {
  if (state_->posed) return &*state_->posed;
  photos();
  const auto bytes = state_->store.get("pose", state_->pose_key(settings_));
  if (!bytes) return nullptr;
  state_->posed = read_orient_record(*bytes);
  return &*state_->posed;
}

const OrientResult& Survey::pose() {
  const PhotoList& list = photos();
  State& state = *state_;
  const Fingerprint key = state.pose_key(settings_);
  const bool known = posed() != nullptr;
  if (!known) {
    match();
    const auto start = std::chrono::steady_clock::now();
    std::vector<OrientPhoto> orient_photos;
    std::vector<std::size_t> counts;
    for (std::size_t i = 0; i < list.used; ++i) {
      const auto bytes = state.store.get("features", state.feature_keys[i]);
      if (!bytes) throw Error(ErrorKind::resource, (folder_ / "work").string(), "lost features during the run", "run the same command again");
      orient_photos.push_back({list.photos[i].name, list.photos[i].camera, read_features_record(*bytes).keypoints});
      counts.push_back(orient_photos.back().keypoints.size());
    }
    std::vector<PairMatches> pairs;
    std::size_t verified = 0;
    for (std::size_t i = 0; i < list.used; ++i)
      for (std::size_t j = i + 1; j < list.used; ++j) {
        const auto bytes = state.store.get("pair", state.pair_key(i, j, settings_));
        if (!bytes) throw Error(ErrorKind::resource, (folder_ / "work").string(), "lost matches during the run", "run the same command again");
        PairMatches pair = read_pair_record(*bytes);
        pair.first = PhotoIndex(i);
        pair.second = PhotoIndex(j);
        verified += pair.verified();
        pairs.push_back(std::move(pair));
      }
    if (verified == 0) {
      const auto most = std::max_element(counts.begin(), counts.end());
      throw Error(ErrorKind::computation, folder_.string(),
                  *most < 100 ? fmt::format("no pair of photos shares a view: at most {} features in a photo, the subject is plain, blurred or dark", *most)
                              : "no pair of photos shares a view",
                  "take photos that overlap by two thirds, of a subject with texture; `icefield photos` shows sharpness and exposure");
    }
    const Tracks tracks = build_tracks(pairs, counts);
    std::vector<CameraPrior> priors;
    for (const SurveyCamera& camera : list.cameras) priors.push_back(camera.prior);
    StoredCheckpoint checkpoint(state.store, key);
    OrientResult result = orient(orient_photos, priors, pairs, tracks, settings_.pose, executor_, monitor_, &checkpoint);
    state.store.put("pose", key, orient_record(result));
    state.store.remove("pose state", key);
    state.posed = std::move(result);
    state.remember("pose", key, seconds_since(start));
  }
  const OrientResult& result = *state.posed;
  if (result.blocks.empty())
    throw Error(ErrorKind::computation, folder_.string(), "no block could be made: " + (result.unposed.empty() ? std::string("no photos") : result.unposed.front().reason),
                "take photos from places apart from each other, with two thirds of overlap");
  for (std::size_t b = 0; b < result.blocks.size(); ++b) {
    const fs::path folder = block_folder(b);
    if (known && fs::exists(folder / "cameras.json") && fs::exists(folder / "tie_points.ply")) continue;
    const Block& block = result.blocks[b];
    std::error_code error;
    fs::create_directories(folder, error);
    if (error) throw Error(ErrorKind::resource, folder.string(), "cannot be made (" + error.message() + ")", "check permissions and free space");
    CameraFile out;
    std::vector<std::vector<double>> gsd(block.photos.size());
    for (std::size_t i = 0; i < block.points.size(); ++i)
      for (const Observation& o : block.of_point(i)) {
        const PosedPhoto& photo = block.photos[o.photo];
        gsd[o.photo].push_back(photo.pose.to_camera(block.points[i]).z() / block.camera_of(photo).focal());
      }
    for (std::size_t c = 0; c < list.cameras.size(); ++c) {
      out.camera_names.push_back(list.cameras[c].name);
      out.cameras.push_back(block.cameras[c]);
    }
    for (std::size_t i = 0; i < block.photos.size(); ++i) {
      CameraFile::Photo photo{list.photos[block.photos[i].photo.value].name, block.photos[i].camera.value, block.photos[i].pose};
      if (!gsd[i].empty()) {
        std::nth_element(gsd[i].begin(), gsd[i].begin() + gsd[i].size() / 2, gsd[i].end());
        photo.gsd = gsd[i][gsd[i].size() / 2];
      }
      out.photos.push_back(std::move(photo));
    }
    out.bounds = automatic_bounds(block);
    write_camera_file(folder / "cameras.json", out);
    PointCloud points;
    for (std::size_t i = 0; i < block.points.size(); ++i) {
      points.positions.push_back(block.points[i].cast<float>());
      points.views.push_back(static_cast<std::uint16_t>(block.of_point(i).size()));
      points.colours.push_back({200, 200, 200});
    }
    // Colour of a point: the pixel of its first observation.
    std::vector<std::vector<std::pair<std::size_t, Eigen::Vector2d>>> by_photo(block.photos.size());
    for (std::size_t i = 0; i < block.points.size(); ++i) by_photo[block.of_point(i).front().photo].emplace_back(i, block.of_point(i).front().pixel);
    executor_.run("colour tie points", by_photo.size(), monitor_, [&](std::size_t p) {
      if (by_photo[p].empty()) return;
      const ImageU8 image = read_photo(list.photos[block.photos[p].photo.value].file, settings_.photo);
      for (const auto& [point, pixel] : by_photo[p]) {
        const int x = std::clamp(static_cast<int>(pixel.x()), 0, image.width() - 1), y = std::clamp(static_cast<int>(pixel.y()), 0, image.height() - 1);
        for (int c = 0; c < 3; ++c) points.colours[point][c] = image.at(x, y, image.channels() >= 3 ? c : 0);
      }
    });
    write_ply(folder / "tie_points.ply", points);
  }
  // Folders of blocks that are no more.
  for (std::size_t b = result.blocks.size(); fs::exists(block_folder(b)); ++b) {
    std::error_code ignored;
    fs::remove_all(block_folder(b), ignored);
  }
  return result;
}

std::vector<DenseReport> Survey::densify(const std::optional<Bounds>& bounds) {
  const OrientResult& result = pose();
  const PhotoList& list = photos();
  State& state = *state_;
  const auto start = std::chrono::steady_clock::now();
  struct Source : PhotoSource {
    const PhotoList& list;
    const PhotoReadLimits limits;
    Source(const PhotoList& l, const PhotoReadLimits& r) : list(l), limits(r) {}
    ImageU8 load(PhotoIndex photo) override { return read_photo(list.photos[photo.value].file, limits); }
  } source(list, settings_.photo);

  std::vector<DenseReport> reports;
  bool computed = false;
  for (std::size_t b = 0; b < result.blocks.size(); ++b) {
    const Block& block = result.blocks[b];
    const Fingerprint block_key = fingerprint_bytes(block_to_bytes(block));
    const std::string all = settings_.text({"dense", "fuse"});
    DepthFiles depth = depth_files(folder_, list, block, settings_, monitor_);
    const Bounds box = bounds ? *bounds : automatic_bounds(block);
    Fingerprinter bounds_key;
    for (const double v : {box.centre.x(), box.centre.y(), box.centre.z(), box.half_size.x(), box.half_size.y(), box.half_size.z(), box.orientation.w(), box.orientation.x(), box.orientation.y(), box.orientation.z()}) bounds_key.add(v);
    const Fingerprint key = Fingerprinter().add(kFuseVersion).add(instruction_level()).add(block_key).add(all).add(bounds_key.result()).result();
    DenseReport report;
    report.block = b;
    report.file = block_folder(b) / "dense.ply";
    report.summary.bounds = box;
    const auto known = state.store.get("dense", key);
    const auto current = state.last(fmt::format("dense file {}", b));
    if (known && current && current->first == key && fs::exists(report.file)) {
      ByteReader in(*known);
      report.summary.outcome = in.get_string();
      report.summary.maps = in.get<std::uint64_t>();
      report.summary.points = in.get<std::uint64_t>();
      report.summary.filled_percent = in.get<double>();
      report.summary.median_views = in.get<double>();
      report.fresh = true;
      reports.push_back(std::move(report));
      continue;
    }
    computed = true;
    DenseResult dense = icefield::densify(block, source, depth, box, settings_.dense, executor_, monitor_);
    report.summary = dense.summary;
    write_ply(report.file, dense.cloud);
    CameraFile cameras = read_camera_file(block_folder(b) / "cameras.json");
    cameras.bounds = box;
    write_camera_file(block_folder(b) / "cameras.json", cameras);
    const DenseSummary& s = report.summary;
    ByteWriter out;
    out.put(s.outcome).put(static_cast<std::uint64_t>(s.maps)).put(static_cast<std::uint64_t>(s.points)).put(s.filled_percent).put(s.median_views);
    state.store.put("dense", key, out.take());
    state.remember(fmt::format("dense file {}", b), key, 0);
    reports.push_back(std::move(report));
  }
  const Fingerprint step_key = Fingerprinter().add(state.pose_key(settings_)).add(settings_.text({"dense", "fuse"})).result();
  if (computed) {
    state.remember("densify", step_key, seconds_since(start));
    nlohmann::ordered_json provenance;
    provenance["format"] = "icefield provenance";
    provenance["version"] = 1;
    provenance["effort"] = effort_name(settings_.effort);
    provenance["instruction_level"] = instruction_level();
    for (const SettingInfo& info : settings_.list()) provenance["settings"][info.key] = info.value;
    for (std::size_t i = 0; i < list.used; ++i) provenance["photos"].push_back({{"name", list.photos[i].name}, {"content", list.photos[i].content.hex()}});
    write_file(folder_ / "results" / "provenance.json", provenance.dump(1) + "\n");
  }
  return reports;
}

std::optional<DepthMap> Survey::depth_map(std::size_t block, std::size_t photo) {
  const OrientResult* result = posed();
  if (!result || block >= result->blocks.size() || photo >= result->blocks[block].photos.size()) return std::nullopt;
  return depth_files(folder_, photos(), result->blocks[block], settings_, monitor_).get(result->blocks[block].photos[photo].photo, settings_.dense.consistency_rounds);
}

std::vector<StepStatus> Survey::status() {
  photos();
  State& state = *state_;
  const Fingerprint pose_key = state.pose_key(settings_);
  const Fingerprint dense_key = Fingerprinter().add(pose_key).add(settings_.text({"dense", "fuse"})).result();
  std::vector<StepStatus> all;
  const auto add = [&](const char* step, bool fresh, std::string line) {
    const auto last = state.last(step);
    all.push_back({step, fresh ? StepState::fresh : last ? StepState::stale : StepState::missing, fresh ? std::move(line) : "", last ? last->second : 0});
  };
  const auto matched = state.store.get("match report", pose_key);
  add("match", matched.has_value(), matched ? ByteReader(*matched).get_string() : "");
  const OrientResult* result = posed();
  add("pose", result != nullptr, result ? result->summary.outcome : "");
  const auto densified = state.last("densify");
  bool files = result != nullptr;
  for (std::size_t b = 0; result && b < result->blocks.size(); ++b) files = files && fs::exists(block_folder(b) / "dense.ply");
  add("densify", densified && densified->first == dense_key && files, "results/block-1/dense.ply");
  return all;
}

}  // namespace icefield
