// What the parts of Survey share.
#pragma once
#include <chrono>
#include <filesystem>
#include <map>
#include <mutex>
#include <optional>
#include <set>
#include <string>
#include <utility>
#include <vector>

#include "icefield/base/instructions.h"
#include "icefield/survey/survey.h"
#include "src/survey/depth_files.h"
#include "src/survey/folder_lock.h"
#include "src/survey/match_records.h"
#include "src/survey/photo_catalogue.h"
#include "src/survey/products.h"
#include "src/survey/records.h"
#include "src/survey/step_table.h"
#include "src/survey/settings_file.h"
#include "src/survey/store.h"
#include "src/survey/versions.h"

namespace icefield {

inline double seconds_since(std::chrono::steady_clock::time_point start) {
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}
inline Fingerprint named_key(const std::string& name) {
  return Fingerprinter().add(name).result();
}

Fingerprint bounds_key(const Bounds& box);
Fingerprint target_key(const SurveyPhoto& photo);  // of the coded targets found in it

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
  SettingsFile settings_file;
  const SurveyFile& file;
  Store store;
  Products products;
  std::shared_ptr<const PhotoList> list;
  std::vector<std::shared_ptr<const PhotoList>> lists;  // all that were handed out: references to them stay good
  // As `pose`, `adjust` and `join` left the blocks, and as later steps take them: the same, or georeferenced.
  std::shared_ptr<const OrientResult> free, posed;
  std::vector<Fingerprint> free_keys, block_keys;  // of their blocks
  std::optional<ControlLists> control;
  std::optional<MatchRecords> match_records;             // of the photos that take part
  std::vector<Fingerprint> photo_records, file_records;  // keys of what is known of the photos
  std::optional<Fingerprint> known_match_key, known_pose_key;
  mutable std::map<const Block*, Bounds> known_automatic;
  mutable std::map<std::string, DepthFiles> known_depth_files;  // by what they are made from
  std::mutex wide_mutex;
  std::vector<std::uint8_t> known_wide;     // by photo
  std::set<std::string> said;               // warnings
  std::vector<Store::Record> idle_records;  // found by disk_use
  std::vector<std::filesystem::path> idle_files;

  State(const std::filesystem::path& folder, Monitor& monitor)
      : settings_file(folder),
        file(settings_file.content()),
        store(folder / "work" / "records.sqlite", monitor, Store::Use::read),
        products(folder / "results", store) {}
  void forget() {
    match_records.reset();
    list.reset();
    free.reset();
    posed.reset();
    control.reset();
    known_automatic.clear();
    known_depth_files.clear();
    known_wide.clear();
    known_match_key.reset();
    known_pose_key.reset();
  }

  Catalogue read_photos(const std::filesystem::path& folder, const Executor& executor, Monitor& monitor);

  // What steps are made from (step_table.h). The list of photos must be there, for `densify` the fresh blocks as well.
  StepInputs inputs_of_match(const Settings& settings) const;
  StepInputs inputs_of_pose(const Settings& settings) const;
  StepInputs inputs_of_georeference(const Settings& settings) const;  // of the free blocks
  StepInputs inputs_of_block(const Settings& settings, std::size_t block) const;
  StepInputs inputs_of_densify(const Settings& settings) const;
  StepInputs inputs_of_mesh(const Settings& settings) const;
  StepInputs inputs_of_mesh(const Settings& settings, std::size_t block) const;
  StepInputs inputs_of_terrain(const Settings& settings) const;
  StepInputs inputs_of_terrain(const Settings& settings, std::size_t block) const;
  StepInputs inputs_of_orthomosaic(const Settings& settings) const;
  StepInputs inputs_of_orthomosaic(const Settings& settings, std::size_t block) const;
  template <class OfBlock>
  StepInputs of_blocks(const OfBlock& inputs_of_one) const;
  StepInputs inputs_of_texture(const Settings& settings) const;
  StepInputs inputs_of_texture(const Settings& settings, std::size_t block) const;
  StepInputs inputs_of(std::string_view step, const Settings& settings) const;

  // As `match` chose them; nothing where it has not ended.
  std::optional<PairChoice> choice(const Settings& settings) {
    return store.read("pairs", match_key(settings), read_pairs_record);
  }
  // Whether `match` took narrowed copies of the photo.
  bool has_wide_pairs(const Settings& settings, PhotoIndex photo) {
    const std::lock_guard guard(wide_mutex);  // photos are asked for side by side
    if (known_wide.empty()) {
      known_wide.assign(list->used + 1, 0);  // never empty again
      if (const auto chosen = choice(settings))
        for (const ProposedPair& pair : chosen->pairs)
          if (pair.wide) known_wide[pair.first.value] = known_wide[pair.second.value] = 1;
    }
    return known_wide[photo.value] != 0;
  }
  const Fingerprint& match_key(const Settings& settings) {
    if (!known_match_key) known_match_key = key_of(inputs_of_match(settings));
    return *known_match_key;
  }
  const Fingerprint& pose_key(const Settings& settings) {
    if (!known_pose_key) known_pose_key = key_of(inputs_of_pose(settings));
    return *known_pose_key;
  }
  void take_free(std::shared_ptr<const OrientResult> result);
  void take_posed(std::shared_ptr<const OrientResult> result);
  const ControlLists& control_of(const std::filesystem::path& folder);

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
  Bounds bounds_of(const Block& block) const;
  // automatic_bounds of a block of what is posed, worked out once.
  const Bounds& automatic_of(const Block& block) const {
    const auto known = known_automatic.find(&block);
    return known != known_automatic.end() ? known->second
                                          : known_automatic.emplace(&block, automatic_bounds(block)).first->second;
  }
  // What the files of a block are made for.
  Fingerprint cameras_key(std::size_t block) const;
  Fingerprint tie_points_key(std::size_t block) const;
  Fingerprint cloud_key(const Settings& settings, std::size_t block) const {
    return key_of(inputs_of_block(settings, block));
  }
  Fingerprint terrain_key(const Settings& settings, std::size_t block) const {
    return key_of(inputs_of_terrain(settings, block));
  }
  Fingerprint orthomosaic_key(const Settings& settings, std::size_t block) const {
    return key_of(inputs_of_orthomosaic(settings, block));
  }
  Fingerprint mesh_key(const Settings& settings, std::size_t block) const {
    return key_of(inputs_of_mesh(settings, block));
  }
  // The file of a step for a block, where it is the one that the present state would make.
  std::filesystem::path current_file(const Settings& settings, const std::filesystem::path& folder, std::size_t block,
                                     const std::string& step, const char* file_name, const Fingerprint& key);
  Fingerprint texture_key(const Settings& settings, std::size_t block) const {
    return key_of(inputs_of_texture(settings, block));
  }
  std::vector<double> sharpness_of(const Block& block) const;  // by photo of the block
  DepthFiles depth_files(const std::filesystem::path& folder, std::size_t block, const Settings& settings,
                         const Executor& executor, Monitor& monitor) const;
  // Depth maps that the clouds of the present state are made of; empty names where there is no fresh block.
  std::set<std::string> wanted_depth_maps(const std::filesystem::path& folder, const Settings& settings,
                                          const Executor& executor, Monitor& monitor) const;

  // Records by kind and key, depth maps by the names of their files.
  struct Needs {
    std::set<std::pair<std::string, std::string>> records;
    std::set<std::string> maps;
  };
  Needs needs_of_present(const Settings& settings, const std::filesystem::path& folder,
                         const std::vector<Store::Record>& records, const Executor& executor, Monitor& monitor);
  void add_needs_of_last_runs(Needs& needed);

  // Throws Error(resource) when something is missing: it was there when `match` ended.
  Matched load_matched(const Settings& settings, const std::filesystem::path& folder);
  OrientResult pose_as_given(const Settings& settings, const Matched& matched, std::vector<CameraPrior> priors,
                             const Executor& executor, Monitor& monitor) const;
  std::optional<Matched> matched_as_kept(const Settings& settings, const char*& lost);  // nothing: what was lost

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
