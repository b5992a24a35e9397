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
    if (!bytes) throw Error(ErrorKind::resource, (folder / "work").string(), fmt::format("lost its {} during the run", kind), "run the same command again");
    return std::move(*bytes);
  };
  for (std::size_t i = 0; i < list->used; ++i) {
    matched.photos.push_back({list->photos[i].name, list->photos[i].camera, read_features_record(need("features", feature_keys[i])).keypoints});
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
                  *most < 100 ? fmt::format("no pair of photos shares a view: at most {} features in a photo, the subject is plain, blurred or dark", *most)
                              : "no pair of photos shares a view",
                  "take photos that overlap by two thirds, of a subject with texture; `icefield photos` shows sharpness and exposure");
    }
    const Tracks tracks = build_tracks(matched.pairs, matched.feature_counts);
    std::vector<CameraPrior> priors;
    for (const SurveyCamera& camera : list.cameras) priors.push_back(camera.prior);
    StoredCheckpoint checkpoint(state.store, key);
    OrientResult result = orient(matched.photos, priors, matched.pairs, tracks, settings_.pose, executor_, monitor_, &checkpoint);
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
      CameraFile::Photo photo{list.photos[block.photos[i].photo.value].name, block.photos[i].camera.value, block.photos[i].pose};
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
