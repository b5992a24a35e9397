#include <fmt/format.h>

#include <algorithm>

#include "icefield/io/camera_file.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/ply_file.h"
#include "src/survey/survey_state.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

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

Matched Survey::State::load_matched(const Settings& settings, const fs::path& folder) {
  Matched matched;
  const auto need = [&](const char* kind, const Fingerprint& key) {
    auto bytes = store.get(kind, key);
    if (!bytes)
      throw Error(ErrorKind::resource, (folder / "work").string(), fmt::format("lost its {} during the run", kind),
                  "run the same command again");
    return std::move(*bytes);
  };
  for (std::size_t i = 0; i < list->used; ++i) {
    matched.photos.push_back({list->photos[i].name, list->photos[i].camera,
                              read_features_record(need("features", feature_keys[i])).keypoints});
    matched.feature_counts.push_back(matched.photos.back().keypoints.size());
  }
  matched.tried = read_pairs_record(need("pairs", match_key(settings))).pairs;
  const Fingerprint settings_key = pair_settings_key(settings);
  for (const ProposedPair& tried : matched.tried) {
    PairMatches pair = read_pair_record(need("pair", pair_key(tried.first.value, tried.second.value, settings_key)));
    pair.first = tried.first;
    pair.second = tried.second;
    matched.verified += pair.verified();
    matched.pairs.push_back(std::move(pair));
  }
  return matched;
}

const OrientResult* Survey::posed() {
  if (state_->posed) return &*state_->posed;
  photos();
  const auto bytes = state_->store.get("pose", state_->pose_key(settings_));
  if (!bytes) return nullptr;
  state_->posed = read_orient_record(*bytes);
  return &*state_->posed;
}

void Survey::write_block(std::size_t b) {
  const fs::path folder = block_folder(b);
  const Block& block = state_->posed->blocks[b];
  const PhotoList& list = photos();
  make_folder(folder);
  CameraFile out;
  out.bounds = automatic_bounds(block);
  // On the subject: a horizon behind it does not count.
  std::vector<std::vector<double>> gsd(block.photos.size());
  for (std::size_t i = 0; i < block.points.size(); ++i) {
    if (!out.bounds->contains(block.points[i])) continue;
    for (const Observation& o : block.of_point(i)) {
      const PosedPhoto& photo = block.photos[o.photo];
      gsd[o.photo].push_back(photo.pose.to_camera(block.points[i]).z() / block.camera_of(photo).focal());
    }
  }
  for (std::size_t c = 0; c < list.cameras.size(); ++c) {
    out.camera_names.push_back(list.cameras[c].name);
    out.cameras.push_back(block.cameras[c]);
  }
  for (std::size_t i = 0; i < block.photos.size(); ++i) {
    CameraFile::Photo photo{list.photos[block.photos[i].photo.value].name, block.photos[i].camera.value,
                            block.photos[i].pose};
    if (!gsd[i].empty()) {
      std::nth_element(gsd[i].begin(), gsd[i].begin() + gsd[i].size() / 2, gsd[i].end());
      photo.gsd = gsd[i][gsd[i].size() / 2];
    }
    out.photos.push_back(std::move(photo));
  }
  write_camera_file(folder / "cameras.json", out);
  PointCloud points;
  for (std::size_t i = 0; i < block.points.size(); ++i) {
    points.positions.push_back(block.points[i].cast<float>());
    points.views.push_back(static_cast<std::uint16_t>(block.of_point(i).size()));
    points.colours.push_back({200, 200, 200});
  }
  // Colour of a point: the pixel of its first observation.
  std::vector<std::vector<std::pair<std::size_t, Eigen::Vector2d>>> by_photo(block.photos.size());
  for (std::size_t i = 0; i < block.points.size(); ++i)
    by_photo[block.of_point(i).front().photo].emplace_back(i, block.of_point(i).front().pixel);
  executor_.run("colour tie points", by_photo.size(), monitor_, [&](std::size_t p) {
    if (by_photo[p].empty()) return;
    const ImageU8 image = read_photo(list.photos[block.photos[p].photo.value].file, settings_.photo);
    for (const auto& [point, pixel] : by_photo[p]) {
      const int x = std::clamp(static_cast<int>(pixel.x()), 0, image.width() - 1),
                y = std::clamp(static_cast<int>(pixel.y()), 0, image.height() - 1);
      for (int c = 0; c < 3; ++c) points.colours[point][c] = image.at(x, y, image.channels() >= 3 ? c : 0);
    }
  });
  write_ply(folder / "tie_points.ply", points);
}

const OrientResult& Survey::pose() {
  const PhotoList& list = photos();
  State& state = *state_;
  const Fingerprint key = state.pose_key(settings_);
  const bool known = posed() != nullptr;
  if (!known) {
    match();
    const auto start = std::chrono::steady_clock::now();
    const Matched matched = state.load_matched(settings_, folder_);
    if (matched.verified == 0) {
      const auto most = std::max_element(matched.feature_counts.begin(), matched.feature_counts.end());
      throw Error(ErrorKind::computation, folder_.string(),
                  *most < 100 ? fmt::format("no pair of photos shares a view: at most {} features in a photo, the "
                                            "subject is plain, blurred or dark",
                                            *most)
                              : "no pair of photos shares a view",
                  "take photos that overlap by two thirds, of a subject with texture; `icefield photos` shows "
                  "sharpness and exposure");
    }
    std::vector<CameraPrior> priors;
    for (const SurveyCamera& camera : list.cameras) priors.push_back(camera.prior);
    StoredCheckpoint checkpoint(state.store, key);
    OrientResult result =
        orient(matched.photos, priors, matched.pairs, settings_.pose, executor_, monitor_, &checkpoint);
    state.store.put("pose", key, orient_record(result));
    state.store.remove("pose state", key);
    state.store.remove("pose revision", key);
    state.posed = std::move(result);
    state.remember("pose", key, seconds_since(start));
  }
  const OrientResult& result = *state.posed;
  if (result.blocks.empty())
    throw Error(ErrorKind::computation, folder_.string(),
                "no block could be made: " +
                    (result.unposed.empty() ? std::string("no photos") : result.unposed.front().reason),
                "take photos from places apart from each other, with two thirds of overlap");
  for (std::size_t b = 0; b < result.blocks.size(); ++b)
    if (!known || !fs::exists(block_folder(b) / "cameras.json") || !fs::exists(block_folder(b) / "tie_points.ply"))
      write_block(b);
  // Folders of blocks that are no more.
  for (std::size_t b = result.blocks.size(); fs::exists(block_folder(b)); ++b) {
    std::error_code ignored;
    fs::remove_all(block_folder(b), ignored);
  }
  return result;
}

// First what was, then the count, then what is: a run that dies in between leaves the block before.
void Survey::keep(OrientResult next) {
  State& state = *state_;
  const Fingerprint key = state.pose_key(settings_);
  const std::uint32_t revision = state.revision(settings_);
  state.store.put("pose before", State::revision_key(key, revision), orient_record(*state.posed));
  state.store.put("pose revision", key, ByteWriter().put(revision + 1).take());
  state.store.put("pose", key, orient_record(next));
  state.posed = std::move(next);
}

AdjustReport Survey::adjust(const AdjustRequest& request) {
  const OrientResult& now = pose();
  const PhotoList& list = photos();
  State& state = *state_;
  if (request.block >= now.blocks.size())
    throw Error(ErrorKind::usage, fmt::format("block {}", request.block + 1), "does not exist",
                fmt::format("the survey has {}", now.blocks.size()));
  const auto start = std::chrono::steady_clock::now();
  const Block& block = now.blocks[request.block];
  std::vector<CameraPrior> priors;
  for (const SurveyCamera& camera : list.cameras) priors.push_back(camera.prior);
  AdjustOptions options = final_adjust_options(block, priors, settings_.pose, now.summary.held);
  std::vector<std::string> unknown = request.free;
  unknown.insert(unknown.end(), request.held.begin(), request.held.end());
  std::string names;
  for (std::size_t c = 0; c < block.cameras.size(); ++c) {
    const auto parameters = camera_parameters(block.cameras[c].model);
    for (std::size_t p = 0; p < parameters.size(); ++p) {
      const auto named = [&](const std::vector<std::string>& list_of) {
        return std::find(list_of.begin(), list_of.end(), parameters[p].name) != list_of.end();
      };
      if (!request.free.empty()) options.free_by_camera[c][p] = named(request.free);
      if (named(request.held)) options.free_by_camera[c][p] = false;
      std::erase(unknown, parameters[p].name);
      if (c == 0) names += fmt::format("{}{}", p ? ", " : "", parameters[p].name);
    }
  }
  if (!unknown.empty())
    throw Error(ErrorKind::usage, "parameter '" + unknown.front() + "'", "does not exist",
                "the first camera has " + names);

  AdjustReport report;
  report.before = block_statistics(block);
  OrientResult next = now;
  Block& changed = next.blocks[request.block];
  if (request.remove_weak) {
    WeakPointOptions weak = request.weak;
    weak.adjust = options;
    WeakPointResult result = remove_weak_points(block, weak, executor_, monitor_);
    if (result.passes.empty())
      throw Error(ErrorKind::computation, fmt::format("block {}", request.block + 1),
                  "cannot be adjusted (" + result.outcome + ")", "free fewer parameters, or pose it again");
    changed = std::move(result.block);
    report.passes = std::move(result.passes);
    report.crowding = std::move(result.crowding);
    report.outcome = result.outcome;
  } else {
    AdjustResult result = icefield::adjust(block, options, executor_, monitor_);
    if (!result.summary.usable)
      throw Error(ErrorKind::computation, fmt::format("block {}", request.block + 1),
                  "cannot be adjusted (" + result.summary.outcome + ")", "free fewer parameters, or pose it again");
    changed = std::move(result.block);
    report.outcome = result.summary.brief();
  }
  report.after = block_statistics(changed);
  next.precision.resize(next.blocks.size());
  next.precision[request.block] = precision_of(changed, options, executor_, monitor_);
  keep(std::move(next));
  write_block(request.block);
  state.remember("adjust", state.pose_key(settings_), seconds_since(start));
  return report;
}

JoinResult Survey::join(std::size_t first, std::size_t second, const JoinOptions& options) {
  const OrientResult& now = pose();
  for (const std::size_t b : {first, second})
    if (b >= now.blocks.size())
      throw Error(ErrorKind::usage, fmt::format("block {}", b + 1), "does not exist",
                  fmt::format("the survey has {}", now.blocks.size()));
  if (first == second)
    throw Error(ErrorKind::usage, fmt::format("block {}", first + 1), "cannot be joined with itself",
                "name two blocks");
  State& state = *state_;
  const TrackedPhotos tracked = tracks();
  std::vector<std::vector<std::uint32_t>> track_of;
  for (const OrientPhoto& photo : tracked.photos) track_of.emplace_back(photo.keypoints.size(), 0xffffffffu);
  for (std::size_t t = 0; t < tracked.tracks.size(); ++t)
    for (const Tracks::Element& e : tracked.tracks.track(TrackIndex(t)))
      track_of[e.photo.value][e.feature.value] = static_cast<std::uint32_t>(t);
  std::vector<CameraPrior> priors;
  for (const SurveyCamera& camera : photos().cameras) priors.push_back(camera.prior);
  JoinOptions own = options;
  own.adjust = final_adjust_options(now.blocks[first], priors, settings_.pose, now.summary.held);
  JoinResult result = icefield::join(now.blocks[first], now.blocks[second], track_of, own, executor_, monitor_);
  if (!result.joined) return result;
  OrientResult next = now;
  next.blocks[first] = result.block;
  next.precision.resize(next.blocks.size());
  next.precision[first] = precision_of(result.block, own.adjust, executor_, monitor_);
  next.blocks.erase(next.blocks.begin() + static_cast<std::ptrdiff_t>(second));
  next.precision.erase(next.precision.begin() + static_cast<std::ptrdiff_t>(second));
  next.summary.blocks = next.blocks.size();
  ++next.summary.blocks_joined;
  next.summary.outcome = fmt::format("{} of {} photos posed in {} block{}", next.summary.posed, next.summary.photos,
                                     next.blocks.size(), next.blocks.size() == 1 ? "" : "s");
  keep(std::move(next));
  for (std::size_t b = 0; b < state.posed->blocks.size(); ++b) write_block(b);
  std::error_code ignored;
  fs::remove_all(block_folder(state.posed->blocks.size()), ignored);
  return result;
}

bool Survey::undo_adjust() {
  pose();
  State& state = *state_;
  const Fingerprint key = state.pose_key(settings_);
  const std::uint32_t revision = state.revision(settings_);
  if (revision == 0) return false;
  const auto before = state.store.get("pose before", State::revision_key(key, revision - 1));
  if (!before) return false;
  state.store.put("pose", key, *before);
  state.store.put("pose revision", key, ByteWriter().put(revision - 1).take());
  state.posed = read_orient_record(*before);
  for (std::size_t b = 0; b < state.posed->blocks.size(); ++b) write_block(b);
  return true;
}

std::vector<FeatureUse> Survey::feature_uses(std::size_t block_index, std::size_t photo) {
  const Block& block = pose().blocks.at(block_index);
  const PhotoIndex index = block.photos.at(photo).photo;
  const TrackedPhotos tracked = tracks();
  std::vector<FeatureUse> uses(tracked.photos[index.value].keypoints.size(), FeatureUse::not_matched);
  // Features of all photos that a point of the block has.
  std::vector<std::vector<std::uint8_t>> held(tracked.photos.size());
  for (std::size_t i = 0; i < held.size(); ++i) held[i].assign(tracked.photos[i].keypoints.size(), 0);
  for (const Observation& o : block.observations)
    if (o.feature.valid()) held[block.photos[o.photo].photo.value][o.feature.value] = 1;
  for (std::size_t t = 0; t < tracked.tracks.size(); ++t) {
    const auto list = tracked.tracks.track(TrackIndex(t));
    for (const Tracks::Element& e : list) {
      if (e.photo != index) continue;
      const bool point = std::any_of(list.begin(), list.end(), [&](const Tracks::Element& other) {
        return held[other.photo.value][other.feature.value] != 0;
      });
      uses[e.feature.value] = held[index.value][e.feature.value] ? FeatureUse::used
                              : point                            ? FeatureUse::left_out
                                                                 : FeatureUse::no_point;
    }
  }
  return uses;
}

Features Survey::features(PhotoIndex photo) {
  photos();
  if (!state_->store.has("features", state_->feature_keys[photo.value])) match();
  return read_features_record(state_->store.get("features", state_->feature_keys[photo.value]).value());
}

MatchedPhotos Survey::matched() {
  match();
  Matched loaded = state_->load_matched(settings_, folder_);
  MatchedPhotos matched;
  for (OrientPhoto& photo : loaded.photos) matched.keypoints.push_back(std::move(photo.keypoints));
  matched.tried = std::move(loaded.tried);
  matched.pairs = std::move(loaded.pairs);
  return matched;
}

TrackedPhotos Survey::tracks() {
  match();
  Matched matched = state_->load_matched(settings_, folder_);
  TrackedPhotos tracked;
  tracked.tracks = build_tracks(matched.pairs, matched.feature_counts);
  tracked.photos = std::move(matched.photos);
  return tracked;
}

}  // namespace icefield
