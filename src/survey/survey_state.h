// What the parts of Survey share.
#pragma once
#include <chrono>
#include <filesystem>
#include <map>
#include <optional>
#include <set>
#include <string>
#include <utility>
#include <vector>

#include "icefield/base/instructions.h"
#include "icefield/survey/survey.h"
#include "src/survey/products.h"
#include "src/survey/records.h"
#include "src/survey/step_table.h"
#include "src/survey/store.h"
#include "src/survey/survey_file.h"
#include "src/survey/versions.h"

namespace icefield {

inline double seconds_since(std::chrono::steady_clock::time_point start) {
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}
inline Fingerprint named_key(const std::string& name) {
  return Fingerprinter().add(name).result();
}

Fingerprint bounds_key(const Bounds& box);

// Makes a folder and those above it. Throws Error(resource).
void make_folder(const std::filesystem::path& folder);

// A lock on a folder: held by the open file, so that it ends with the process however that ends.
class FolderLock {
 public:
  // `run`: of one run at a time; throws Error(resource) where another has it. `edit`: for the moment of changing
  // survey.toml; waits.
  enum class Kind { run, edit };
  FolderLock(const std::filesystem::path& folder, Kind kind);
  ~FolderLock();
  FolderLock(const FolderLock&) = delete;
  FolderLock& operator=(const FolderLock&) = delete;
  static bool is_held(const std::filesystem::path& folder);  // the lock of a run, by another process or object

 private:
  int fd_ = -1;
};

// One channel: 0 where all colours of the mask are 0 (alpha does not count).
ImageU8 mask_of(const ImageU8& image);

// The shortest end of each path that no other path ends with.
std::vector<std::string> shortest_names(const std::vector<std::filesystem::path>& files);
// The photo of this name, or else those whose path ends with it.
std::vector<std::size_t> photos_named(const std::string& name, const std::vector<SurveyPhoto>& photos);
// The only one. Throws Error(usage) where there is none, and where several fit, naming them.
std::size_t photo_index(const std::string& name, const std::vector<SurveyPhoto>& photos);

std::vector<double> zoom_groups(const std::vector<SurveyPhoto>& photos);

// Of a photo with its mask, as `match` finds them.
Features found_features(const SurveyPhoto& photo, const Settings& settings);
std::vector<Features> found_in_narrowed(const SurveyPhoto& photo, const Settings& settings);

// What `match` found, as `pose` reads it.
struct Matched {
  std::vector<OrientPhoto> photos;
  std::vector<std::size_t> feature_counts;  // by photo
  std::vector<ProposedPair> tried;
  std::vector<PairMatches> pairs;  // of those tried, in the same order
  std::size_t verified = 0;        // pairs
};

// Where depth maps of a block lie, by photo and round.
class DepthFiles;

struct Survey::State {
  std::unique_ptr<FolderLock> lock;
  bool trying_out = false;
  std::string text;  // of survey.toml, as far as it is not on disk
  SurveyFile file;
  Store store;
  Products products;
  std::optional<PhotoList> list;
  std::optional<OrientResult> posed;
  std::vector<Fingerprint> block_keys;                   // of what is posed, by block
  std::vector<Fingerprint> feature_keys;                 // by used photo
  std::vector<Fingerprint> photo_records, file_records;  // keys of what is known of the photos
  std::optional<Fingerprint> known_match_key, known_pose_key;
  std::set<std::string> said;               // warnings
  std::vector<Store::Record> idle_records;  // found by disk_use
  std::vector<std::filesystem::path> idle_files;

  State(const std::filesystem::path& folder, SurveyFile f, Monitor& monitor)
      : file(std::move(f)),
        store(folder / "work" / "records.sqlite", monitor, Store::Use::read),
        products(folder / "results", store) {}
  void forget() {
    list.reset();
    posed.reset();
    known_match_key.reset();
    known_pose_key.reset();
  }

  // What steps are made from (step_table.h). The list of photos must be there, for `densify` the fresh blocks as well.
  StepInputs inputs_of_match(const Settings& settings) const;
  StepInputs inputs_of_pose(const Settings& settings) const;
  StepInputs inputs_of_block(const Settings& settings, std::size_t block) const;
  StepInputs inputs_of_densify(const Settings& settings) const;
  StepInputs inputs_of(std::string_view step, const Settings& settings) const;

  Fingerprint feature_key(const SurveyPhoto& photo, const Settings& settings) const {
    return Fingerprinter()
        .add(kFeatureVersion)
        .add(instruction_level())
        .add(photo.content)
        .add(photo.mask_content)
        .add(settings.text({"feature"}))
        .result();
  }
  // `settings_key` is pair_settings_key: reading the settings for each of many pairs would take longer than the rest.
  static Fingerprint pair_settings_key(const Settings& settings) {
    return Fingerprinter().add(kPairVersion).add(settings.text({"match"})).result();
  }
  Fingerprint pair_key(std::size_t a, std::size_t b, const Fingerprint& settings_key) const {
    Fingerprinter key;
    key.add(settings_key).add(feature_keys[a]).add(feature_keys[b]);
    for (const std::size_t i : {a, b}) add_prior(key, i);
    return key.result();
  }
  // Of what is matched anew with narrowed copies.
  Fingerprint narrowed_key(std::size_t photo) const {
    return Fingerprinter().add("narrowed").add(kWideVersion).add(feature_keys[photo]).result();
  }
  Fingerprint wide_key(std::size_t a, std::size_t b, const Fingerprint& settings_key) const {
    return Fingerprinter().add("wide").add(kWideVersion).add(pair_key(a, b, settings_key)).result();
  }
  // As `match` chose them; nothing where it has not ended.
  std::optional<PairChoice> choice(const Settings& settings) {
    const auto bytes = store.get("pairs", match_key(settings));
    return bytes ? std::optional(read_pairs_record(*bytes)) : std::nullopt;
  }
  // The record of a pair that was tried; nothing where it is missing or damaged.
  std::optional<PairMatches> tried_pair(const ProposedPair& tried, const Fingerprint& settings_key) {
    const std::size_t a = tried.first.value, b = tried.second.value;
    const auto bytes = tried.wide ? store.get("wide pair", wide_key(a, b, settings_key))
                                  : store.get("pair", pair_key(a, b, settings_key));
    if (!bytes) return std::nullopt;
    PairMatches pair = read_pair_record(*bytes);
    pair.first = tried.first, pair.second = tried.second;
    return pair;
  }
  void add_prior(Fingerprinter& key, std::size_t photo) const {
    const CameraPrior& prior = list->cameras[list->photos[photo].camera.value].prior;
    key.add(static_cast<std::uint32_t>(prior.camera.model));
    for (const double p : prior.camera.parameters) key.add(p);
    key.add(prior.focal_uncertainty_percent);
  }
  const Fingerprint& match_key(const Settings& settings) {
    if (!known_match_key) known_match_key = key_of(inputs_of_match(settings));
    return *known_match_key;
  }
  const Fingerprint& pose_key(const Settings& settings) {
    if (!known_pose_key) known_pose_key = key_of(inputs_of_pose(settings));
    return *known_pose_key;
  }
  void take_posed(OrientResult result);

  // The results that came of one pose: as it was posed, then after each adjustment. The last is what holds.
  struct Revision {
    Fingerprint result;  // key of its record
    std::string how;     // "posed", "block 1 adjusted"
  };
  std::vector<Revision> history(const Settings& settings) { return history_of(pose_key(settings)); }
  std::vector<Revision> history_of(const Fingerprint& pose);
  void put_history(const Settings& settings, const std::vector<Revision>& revisions);

  // Bounds that were given may leave out whole blocks.
  bool holds_subject(const Block& block) const {
    return (!file.bounds && file.outline.empty()) || holds_points(bounds_of(block), block);
  }
  Bounds bounds_of(const Block& block) const {
    return file.bounds             ? *file.bounds
           : !file.outline.empty() ? bounds_within(file.outline, block)
                                   : automatic_bounds(block);
  }
  // What the files of a block are made for.
  Fingerprint cameras_key(std::size_t block) const;
  Fingerprint tie_points_key(std::size_t block) const;
  Fingerprint cloud_key(const Settings& settings, std::size_t block) const {
    return key_of(inputs_of_block(settings, block));
  }
  DepthFiles depth_files(const std::filesystem::path& folder, std::size_t block, const Settings& settings,
                         Monitor& monitor) const;
  // Depth maps that the clouds of the present state are made of; empty names where there is no fresh block.
  std::set<std::string> wanted_depth_maps(const std::filesystem::path& folder, const Settings& settings,
                                          Monitor& monitor) const;

  // Throws Error(resource) when something is missing: it was there when `match` ended.
  Matched load_matched(const Settings& settings, const std::filesystem::path& folder);

  // A step that has been done: what it was made from, how long it took, and the records that it rests on.
  struct Done {
    Fingerprint key;
    double seconds = 0;
    StepInputs inputs;
  };
  void remember(const std::string& step, const StepInputs& inputs, double seconds);
  std::optional<Done> last(const std::string& step);
  using RecordNames = std::vector<std::pair<std::string, Fingerprint>>;
  void remember_needs(const std::string& step, const RecordNames& needs);
};

inline std::string block_file_name(std::size_t block, std::string_view file) {
  return "block-" + std::to_string(block + 1) + "/" + std::string(file);
}

}  // namespace icefield
