// What the parts of Survey share.
#pragma once
#include <chrono>
#include <filesystem>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "icefield/base/instructions.h"
#include "icefield/survey/survey.h"
#include "src/survey/records.h"
#include "src/survey/store.h"
#include "src/survey/survey_file.h"

namespace icefield {

// Versions of the steps. Raise one when its output changes for the same input: results made before then become stale.
constexpr int kPhotoVersion = 3, kFeatureVersion = 6, kPairVersion = 3, kChoiceVersion = 3, kPoseVersion = 10,
              kDepthVersion = 8, kFuseVersion = 7;

inline double seconds_since(std::chrono::steady_clock::time_point start) {
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}
inline Fingerprint named_key(const std::string& name) {
  return Fingerprinter().add(name).result();
}

inline Fingerprint bounds_key(const Bounds& box) {
  Fingerprinter key;
  for (const Eigen::Vector3d& v : {box.centre, box.half_size})
    for (int c = 0; c < 3; ++c) key.add(v[c]);
  for (int c = 0; c < 4; ++c) key.add(box.orientation.coeffs()[c]);
  for (const Eigen::Vector2d& corner : box.outline) key.add(corner.x()).add(corner.y());
  return key.result();
}

// Makes a folder and those above it. Throws Error(resource).
void make_folder(const std::filesystem::path& folder);

// The lock of a survey: held by the open file, so that it ends with the process however that ends.
class FolderLock {
 public:
  explicit FolderLock(const std::filesystem::path& folder);
  ~FolderLock();
  FolderLock(const FolderLock&) = delete;
  FolderLock& operator=(const FolderLock&) = delete;

 private:
  int fd_ = -1;
};

// One channel: 0 where all colours of the mask are 0 (alpha does not count).
ImageU8 mask_of(const ImageU8& image);

// What `match` found, as `pose` reads it.
struct Matched {
  std::vector<OrientPhoto> photos;
  std::vector<std::size_t> feature_counts;  // by photo
  std::vector<ProposedPair> tried;
  std::vector<PairMatches> pairs;  // of those tried, in the same order
  std::size_t verified = 0;        // pairs
};

struct Survey::State {
  FolderLock lock;
  SurveyFile file;
  Store store;
  std::optional<PhotoList> list;
  std::optional<OrientResult> posed;
  std::vector<Fingerprint> feature_keys;  // by used photo

  State(const std::filesystem::path& folder, SurveyFile f, Monitor& monitor)
      : lock(folder), file(std::move(f)), store(folder / "work" / "records.sqlite", monitor) {}

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
  // The pairs that are tried and their results.
  Fingerprint match_key(const Settings& settings) const {
    Fingerprinter key;
    key.add(kChoiceVersion).add(instruction_level()).add(pair_settings_key(settings)).add(settings.text({"pairs"}));
    for (std::size_t i = 0; i < list->used; ++i) {
      const PhotoMetadata& m = list->photos[i].metadata;
      key.add(feature_keys[i]).add(list->photos[i].camera.value).add(m.time);
      add_prior(key, i);
      if (m.gps) key.add(m.gps->latitude_deg).add(m.gps->longitude_deg).add(m.gps->altitude_m);
      key.add(m.view_azimuth_deg.value_or(1000.0)).add(m.view_elevation_deg.value_or(1000.0));
    }
    for (const ProposedPair& pair : list->listed) key.add(pair.first.value).add(pair.second.value);
    return key.result();
  }
  Fingerprint pose_key(const Settings& settings) const {
    Fingerprinter key;
    key.add(kPoseVersion).add(match_key(settings)).add(settings.text({"pose"}));
    for (std::size_t i = 0; i < list->used; ++i) key.add(list->photos[i].name);
    return key.result();
  }
  // How many times the posed blocks were adjusted again.
  std::uint32_t revision(const Settings& settings) {
    const auto bytes = store.get("pose revision", pose_key(settings));
    return bytes ? ByteReader(*bytes).get<std::uint32_t>() : 0;
  }
  static Fingerprint revision_key(const Fingerprint& key, std::uint32_t revision) {
    return Fingerprinter().add(key).add(revision).result();
  }
  void add_prior(Fingerprinter& key, std::size_t photo) const {
    const CameraPrior& prior = list->cameras[list->photos[photo].camera.value].prior;
    key.add(static_cast<std::uint32_t>(prior.camera.model));
    for (const double p : prior.camera.parameters) key.add(p);
    key.add(prior.focal_uncertainty_percent);
  }
  // Bounds that were given may leave out whole blocks.
  bool holds_subject(const Block& block) const {
    return (!file.bounds && file.outline.empty()) || holds_points(bounds_of(block), block);
  }
  Bounds bounds_of(const Block& block) const {
    return file.bounds             ? *file.bounds
           : !file.outline.empty() ? bounds_within(file.outline, block)
                                   : automatic_bounds(block);
  }
  Fingerprint densify_key(const Settings& settings) {
    Fingerprinter key;
    key.add(kDepthVersion)
        .add(kFuseVersion)
        .add(pose_key(settings))
        .add(revision(settings))
        .add(settings.text({"dense", "fuse", "clean"}));
    if (file.bounds) key.add(bounds_key(*file.bounds));
    for (const Eigen::Vector2d& corner : file.outline) key.add(corner.x()).add(corner.y());
    return key.result();
  }
  // Throws Error(resource) when something is missing: it was there when `match` ended.
  Matched load_matched(const Settings& settings, const std::filesystem::path& folder);
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

}  // namespace icefield
