#include <fmt/format.h>

#include <algorithm>

#include "icefield/base/statistics.h"
#include "icefield/io/camera_file.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/ply_file.h"
#include "src/survey/control_files.h"
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

std::optional<Matched> Survey::State::matched_as_kept(const Settings& settings, const char*& lost) {
  Matched matched;
  auto chosen = choice(settings);
  if (!chosen) return lost = "pairs", std::nullopt;
  matched.tried = std::move(chosen->pairs);
  std::vector<std::uint8_t> wide(list->used, 0);
  for (const ProposedPair& tried : matched.tried)
    if (tried.wide) wide[tried.first.value] = wide[tried.second.value] = 1;
  for (std::size_t i = 0; i < list->used; ++i) {
    auto found = match_records->kept_features(PhotoIndex(i));
    if (!found) return lost = "features", std::nullopt;
    WideFeatures features{std::move(*found), {}};
    if (wide[i]) {
      auto copies = match_records->kept_narrowed(PhotoIndex(i));
      if (!copies) return lost = "narrowed", std::nullopt;
      features.narrowed = std::move(*copies);
    }
    matched.photos.push_back({list->photos[i].name, list->photos[i].camera, features.keypoints()});
    matched.feature_counts.push_back(matched.photos.back().keypoints.size());
  }
  for (const ProposedPair& tried : matched.tried) {
    auto pair = match_records->kept(tried);
    if (!pair) return lost = "pair", std::nullopt;
    matched.verified += pair->verified();
    matched.pairs.push_back(std::move(*pair));
  }
  return matched;
}

Matched Survey::State::load_matched(const Settings& settings, const fs::path& folder) {
  const char* lost = "";
  auto matched = matched_as_kept(settings, lost);
  if (!matched)
    throw Error(ErrorKind::resource, (folder / "work").string(), fmt::format("has lost records of `match` ({})", lost),
                "run `icefield pose " + folder.string() + "`, which makes anew what is missing");
  return std::move(*matched);
}

namespace {

std::vector<Fingerprint> keys_of(const OrientResult& result) {
  std::vector<Fingerprint> keys;
  for (const Block& block : result.blocks) keys.push_back(fingerprint_bytes(block_to_bytes(block)));
  return keys;
}

}  // namespace

void Survey::State::take_free(std::shared_ptr<const OrientResult> result) {
  free = std::move(result);
  free_keys = keys_of(*free);
  posed.reset();
  known_automatic.clear();
}

void Survey::State::take_posed(std::shared_ptr<const OrientResult> result) {
  posed = std::move(result);
  block_keys = posed == free ? free_keys : keys_of(*posed);
  known_automatic.clear();
}

std::vector<Survey::State::Revision> Survey::State::history_of(const Fingerprint& pose) {
  const auto known = store.read("pose history", pose, [](const Bytes& bytes) {
    ByteReader in(bytes);
    std::vector<Revision> revisions;
    for (std::uint64_t k = in.get<std::uint64_t>(); k > 0; --k) {
      Revision revision;
      revision.result = in.get<Fingerprint>();
      revision.how = in.get_string();
      revisions.push_back(std::move(revision));
    }
    return revisions;
  });
  return known.value_or(std::vector<Revision>{});
}

void Survey::State::put_history(const Settings& settings, const std::vector<Revision>& revisions) {
  ByteWriter out;
  out.put(static_cast<std::uint64_t>(revisions.size()));
  for (const Revision& revision : revisions) out.put(revision.result).put(revision.how);
  store.put("pose history", pose_key(settings), out.take());
}

const OrientResult* Survey::free_blocks() {
  State& state = *state_;
  if (state.free) return state.free.get();
  photos();
  const auto revisions = state.history(settings_);
  if (revisions.empty()) return nullptr;
  auto result = state.store.read("pose result", revisions.back().result, read_orient_record);
  if (!result) return nullptr;
  state.take_free(std::make_shared<const OrientResult>(std::move(*result)));
  return state.free.get();
}

const OrientResult* Survey::posed() {
  State& state = *state_;
  if (state.posed) return state.posed.get();
  if (!free_blocks()) return nullptr;
  if (!settings_.georeference.on) {
    state.take_posed(state.free);
    return state.posed.get();
  }
  state.control_of(folder_);
  auto placed = state.store.read("placed result", key_of(state.inputs_of_georeference(settings_)), read_orient_record);
  if (!placed) return nullptr;
  state.take_posed(std::make_shared<const OrientResult>(std::move(*placed)));
  return state.posed.get();
}

CameraFile Survey::cameras(std::size_t block) {
  this->block(block);
  return cameras_of(block);
}

PointCloud Survey::tie_points(std::size_t block) {
  this->block(block);
  const std::string name = block_file_name(block, "tie_points.ply");
  const Fingerprint key = state_->tie_points_key(block);
  const Block& of = state_->posed->blocks[block];
  if (of.datum.crs.empty() && state_->products.state_of(name, key) == FileState::current) {
    PlyReader reader(state_->products.file(name));
    if (reader.content().fingerprint == key.hex()) {
      PointCloud points = read_ply(state_->products.file(name));
      points.origin -= of.origin;
      return points;
    }
  }
  return tie_points_of(block);
}

CameraFile Survey::cameras_of(std::size_t b) {
  const Block& block = state_->posed->blocks[b];
  const PhotoList& list = photos();
  CameraFile out;
  out.fingerprint = state_->cameras_key(b).hex();
  out.datum = block.datum;
  out.origin = block.origin;
  const Bounds around = state_->automatic_of(block);
  const WorldFrame frame = world_frame(b);
  const auto moved = [&](const Eigen::Vector3d& local) {
    return Eigen::Vector3d(frame.to_world(local) - block.origin);
  };
  Bounds bounds = state_->holds_subject(block) ? state_->bounds_of(block) : around;
  if (frame.curved()) {
    for (Eigen::Vector2d& corner : bounds.outline)
      corner = moved({corner.x(), corner.y(), bounds.centre.z()}).head<2>();
    bounds.centre = moved(bounds.centre);
  }
  out.bounds = bounds;
  // On the subject: a horizon behind it does not count.
  std::vector<std::vector<double>> gsd(block.photos.size());
  for (std::size_t i = 0; i < block.points.size(); ++i) {
    if (!around.contains(block.points[i])) continue;
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
    Pose pose = block.photos[i].pose;
    if (frame.curved()) {
      // Directions of the grid turn from place to place by very little.
      pose.orientation = (pose.orientation * Eigen::Quaterniond(frame.axes_at(pose.centre)).conjugate()).normalized();
      pose.centre = moved(pose.centre);
    }
    CameraFile::Photo photo{list.photos[block.photos[i].photo.value].name, block.photos[i].camera.value, pose};
    if (!gsd[i].empty()) photo.gsd = median(gsd[i]);
    out.photos.push_back(std::move(photo));
  }
  return out;
}

// Of each keypoint that matches of a photo name: the pixel that it lies in. Kept, so that the photo is read once and
// not at each adjustment.
Survey::Colours Survey::keypoint_colours(PhotoIndex index) {
  const WideFeatures features = wide_features(index);
  const std::vector<Keypoint> points = features.keypoints();
  const Fingerprint key = state_->match_records->colours_key(index, !features.narrowed.empty());
  const auto known = state_->store.read(
      "colours", key, [](const Bytes& b) { return ByteReader(b).get_array<std::array<std::uint8_t, 3>>(); });
  if (known && known->size() == points.size()) return *known;
  const ImageU8 image = state_->match_records->files().load(index);
  Colours colours;
  for (const Keypoint& k : points) {
    const int x = std::clamp(static_cast<int>(k.x), 0, image.width() - 1),
              y = std::clamp(static_cast<int>(k.y), 0, image.height() - 1);
    auto& colour = colours.emplace_back();
    for (int c = 0; c < 3; ++c) colour[static_cast<std::size_t>(c)] = image.at(x, y, image.channels() >= 3 ? c : 0);
  }
  state_->store.put("colours", key, ByteWriter().put(colours).take());
  return colours;
}

PointCloud Survey::tie_points_of(std::size_t b) {
  const Block& block = state_->posed->blocks[b];
  photos();
  PointCloud points;
  points.datum = block.datum;
  for (std::size_t i = 0; i < block.points.size(); ++i) {
    points.positions.push_back(block.points[i].cast<float>());
    points.views.push_back(static_cast<std::uint16_t>(block.of_point(i).size()));
    points.colours.push_back({200, 200, 200});
  }
  // Colour of a point: the pixel of its first observation.
  std::vector<std::vector<std::size_t>> by_photo(block.photos.size());
  for (std::size_t i = 0; i < block.points.size(); ++i) by_photo[block.of_point(i).front().photo].push_back(i);
  executor_.run("colour tie points", by_photo.size(), monitor_, [&](std::size_t p) {
    if (by_photo[p].empty()) return;
    const Colours colours = keypoint_colours(block.photos[p].photo);
    for (const std::size_t i : by_photo[p])
      if (const FeatureIndex feature = block.of_point(i).front().feature; feature.value < colours.size())
        points.colours[i] = colours[feature.value];
  });
  return points;
}

namespace {

// Makes room for a file and says so where another program's work was in the way.
void make_room(const Products& products, const std::string& name, Monitor& monitor) {
  if (const auto aside = products.make_room(name))
    monitor.log(LogLevel::warning, products.file(name).string() + ": was changed by another program; put aside as " +
                                       aside->filename().string() + " and written again");
}

}  // namespace

void Survey::write_blocks() {
  State& state = *state_;
  if (!posed()) return;  // to be georeferenced first
  const std::size_t blocks = state.posed->blocks.size();
  for (std::size_t b = 0; b < blocks; ++b) {
    const std::string cameras = block_file_name(b, "cameras.json"), points = block_file_name(b, "tie_points.ply");
    const Fingerprint cameras_key = state.cameras_key(b), points_key = state.tie_points_key(b);
    make_folder(block_folder(b));
    if (state.products.state_of(cameras, cameras_key) != FileState::current) {
      make_room(state.products, cameras, monitor_);
      write_camera_file(state.products.file(cameras), cameras_of(b));
      state.products.written(cameras, cameras_key);
    }
    if (state.products.state_of(points, points_key) != FileState::current) {
      make_room(state.products, points, monitor_);
      const PointCloud cloud = in_world(b, tie_points_of(b));
      CloudContent content = content_of(cloud);
      content.fingerprint = points_key.hex();
      CloudWriter writer(state.products.file(points), CloudFormat::ply, content);
      writer.add(cloud);
      writer.finish();
      state.products.written(points, points_key);
    }
  }
  // Of blocks that are no more; what others put there stays.
  for (std::size_t b = blocks; fs::exists(block_folder(b)); ++b) {
    for (const StepRow& row : step_table())
      for (const std::string_view name : row.files) state.products.remove(block_file_name(b, name));
    std::error_code ignored;
    fs::remove(block_folder(b), ignored);  // if it is empty
  }
}

bool Survey::blocks_are_written() const {
  for (std::size_t b = 0; b < state_->posed->blocks.size(); ++b)
    if (state_->products.state_of(block_file_name(b, "cameras.json"), state_->cameras_key(b)) != FileState::current ||
        state_->products.state_of(block_file_name(b, "tie_points.ply"), state_->tie_points_key(b)) !=
            FileState::current)
      return false;
  return true;
}

bool Survey::mend_files() {
  const OrientResult* result = posed();
  if (!result) return true;
  if (blocks_are_written()) return true;
  if (state_->settings_file.trying_out()) return false;
  try {
    lock();
  } catch (const Error&) {
    return false;  // in use, or nothing may be written here
  }
  if (posed()) write_blocks();
  return true;
}

const OrientResult& Survey::pose() {
  const auto made = [&](const OrientResult& result) {
    if (result.blocks.empty())
      throw Error(ErrorKind::computation, folder_.string(),
                  "no block could be made: " +
                      (result.unposed.empty() ? std::string("no photos") : result.unposed.front().reason),
                  "take photos from places apart from each other, with two thirds of overlap");
  };
  if (const OrientResult* known = free_blocks()) {
    made(*known);
    if (!posed() || blocks_are_written()) return *known;
  }
  lock();
  State& state = *state_;
  if (!free_blocks()) {
    match();
    const PhotoList& list = photos();
    const auto start = std::chrono::steady_clock::now();
    const char* lost = "";
    auto kept = state.matched_as_kept(settings_, lost);
    if (!kept) match();  // a damaged record was dropped as it was read: made anew
    const Matched matched = kept ? std::move(*kept) : state.load_matched(settings_, folder_);
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
    const StepInputs inputs = state.inputs_of_pose(settings_);
    const Fingerprint key = key_of(inputs);
    StoredCheckpoint checkpoint(state.store, key);
    OrientResult result =
        settings_.given.poses.empty()
            ? orient(matched.photos, priors, matched.pairs, settings_.pose, executor_, monitor_, &checkpoint)
            : state.pose_as_given(settings_, matched, priors, executor_, monitor_);
    const Bytes record = orient_record(result);
    // First the result, then that it holds: a run that dies in between leaves what was.
    state.store.put("pose result", fingerprint_bytes(record), record);
    state.put_history(settings_, {{fingerprint_bytes(record), "posed"}});
    state.store.remove("pose state", key);
    state.take_free(std::make_shared<const OrientResult>(std::move(result)));
    state.remember("pose", inputs, seconds_since(start));
  }
  made(*state.free);
  write_blocks();
  if (const auto last = state.last("pose"); !last || last->key != state.pose_key(settings_))
    state.remember("pose", state.inputs_of_pose(settings_), 0);  // brought back
  return *state.free;
}

// First the result, then the list that names it: a run that dies in between leaves the block before.
void Survey::keep(OrientResult next, const std::string& how) {
  State& state = *state_;
  const Bytes record = orient_record(next);
  state.store.put("pose result", fingerprint_bytes(record), record);
  auto revisions = state.history(settings_);
  revisions.push_back({fingerprint_bytes(record), how});
  state.put_history(settings_, revisions);
  state.take_free(std::make_shared<const OrientResult>(std::move(next)));
  write_blocks();
}

AdjustReport Survey::adjust(const AdjustRequest& request) {
  lock();
  const OrientResult& now = pose();
  const PhotoList& list = photos();
  if (request.block >= now.blocks.size())
    throw Error(ErrorKind::usage, fmt::format("block {}", request.block + 1), "does not exist",
                fmt::format("the survey has {}", now.blocks.size()));
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
    const auto most = static_cast<std::size_t>(options.max_iterations);
    options.on_iteration = [&](const AdjustIteration& iteration) {
      monitor_.progress("adjust", static_cast<std::size_t>(iteration.number), most);
    };
    AdjustResult result = icefield::adjust(block, options, executor_, monitor_);
    options.on_iteration = nullptr;
    monitor_.progress("adjust", most, most);
    if (!result.summary.valid)
      throw Error(ErrorKind::computation, fmt::format("block {}", request.block + 1),
                  "cannot be adjusted (" + result.summary.outcome + ")", "free fewer parameters, or pose it again");
    changed = std::move(result.block);
    report.outcome = result.summary.in_a_line();
  }
  report.after = block_statistics(changed);
  next.precision.resize(next.blocks.size());
  next.precision[request.block] = precision_of(changed, options, executor_, monitor_);
  keep(std::move(next),
       fmt::format("block {} {}", request.block + 1, request.remove_weak ? "without its weak tie points" : "adjusted"));
  return report;
}

// As `pose` would adjust the first; throws Error(usage) for blocks that cannot be two.
JoinOptions Survey::join_options(std::size_t first, std::size_t second, JoinOptions options) {
  const OrientResult& now = pose();
  for (const std::size_t b : {first, second})
    if (b >= now.blocks.size())
      throw Error(ErrorKind::usage, fmt::format("block {}", b + 1), "does not exist",
                  fmt::format("the survey has {}", now.blocks.size()));
  if (first == second)
    throw Error(ErrorKind::usage, fmt::format("block {}", first + 1), "cannot be joined with itself",
                "name two blocks");
  std::vector<CameraPrior> priors;
  for (const SurveyCamera& camera : photos().cameras) priors.push_back(camera.prior);
  options.adjust = final_adjust_options(now.blocks[first], priors, settings_.pose, now.summary.held);
  return options;
}

void Survey::keep_joined(std::size_t first, std::size_t second, const JoinResult& result,
                         const AdjustOptions& adjusting) {
  OrientResult next = pose();
  next.blocks[first] = result.block;
  next.precision.resize(next.blocks.size());
  next.precision[first] = precision_of(result.block, adjusting, executor_, monitor_);
  next.blocks.erase(next.blocks.begin() + static_cast<std::ptrdiff_t>(second));
  next.precision.erase(next.precision.begin() + static_cast<std::ptrdiff_t>(second));
  next.summary.blocks = next.blocks.size();
  ++next.summary.blocks_joined;
  next.summary.outcome = fmt::format("{} of {} photos posed in {} block{}", next.summary.posed, next.summary.photos,
                                     next.blocks.size(), next.blocks.size() == 1 ? "" : "s");
  keep(std::move(next), fmt::format("block {} joined to {}", second + 1, first + 1));
}

JoinResult Survey::join(std::size_t first, std::size_t second, const JoinOptions& options) {
  lock();
  const JoinOptions own = join_options(first, second, options);
  const TrackedPhotos tracked = tracks();
  std::vector<std::vector<std::uint32_t>> track_of;
  for (const OrientPhoto& photo : tracked.photos) track_of.emplace_back(photo.keypoints.size(), 0xffffffffu);
  for (std::size_t t = 0; t < tracked.tracks.size(); ++t)
    for (const Tracks::Element& e : tracked.tracks.track(TrackIndex(t)))
      track_of[e.photo.value][e.feature.value] = static_cast<std::uint32_t>(t);
  const OrientResult& now = pose();
  JoinResult result = icefield::join(now.blocks[first], now.blocks[second], track_of, own, executor_, monitor_);
  if (result.joined) keep_joined(first, second, result, own.adjust);
  return result;
}

MarkJoinResult Survey::join_by_marks(std::size_t first, std::size_t second, std::vector<std::string>& names) {
  lock();
  const JoinOptions own = join_options(first, second, {});
  const Control control = marked_spots(control_lists(), photos(), settings_.georeference.mark_sigma_px);
  const OrientResult& now = pose();
  MarkJoinResult result =
      icefield::join_by_marks(now.blocks[first], now.blocks[second], control, own, executor_, monitor_);
  names.clear();
  for (const JoinedSpot& spot : result.spots) names.push_back(control.points[spot.point].name);
  if (result.join.joined) keep_joined(first, second, result.join, own.adjust);
  return result;
}

bool Survey::undo_adjust() {
  lock();
  pose();
  State& state = *state_;
  auto revisions = state.history(settings_);
  if (revisions.size() < 2) return false;
  revisions.pop_back();
  auto before = state.store.read("pose result", revisions.back().result, read_orient_record);
  if (!before) return false;
  state.put_history(settings_, revisions);
  state.take_free(std::make_shared<const OrientResult>(std::move(*before)));
  write_blocks();
  return true;
}

std::vector<FeatureUse> Survey::feature_uses(std::size_t block_index, std::size_t photo) {
  const Block& block = (posed() ? *posed() : pose()).blocks.at(block_index);
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
  auto known = state_->match_records->kept_features(photo);
  return known ? std::move(*known) : found_features(state_->match_records->files(), photo, settings_.feature);
}

// With those of its narrowed copies where such were made.
WideFeatures Survey::wide_features(PhotoIndex photo) {
  WideFeatures wide{features(photo), {}};
  if (state_->has_wide_pairs(settings_, photo)) {
    auto known = state_->match_records->kept_narrowed(photo);
    wide.narrowed =
        known ? std::move(*known) : found_in_narrowed(state_->match_records->files(), photo, settings_.feature);
  }
  return wide;
}

std::vector<Keypoint> Survey::keypoints(PhotoIndex photo) {
  return wide_features(photo).keypoints();
}

std::optional<PairMatches> Survey::pair(PhotoIndex first, PhotoIndex second) {
  photos();
  ProposedPair tried{first, second};
  if (const auto choice = state_->choice(settings_))
    for (const ProposedPair& p : choice->pairs)
      if (p.first == first && p.second == second) tried.wide = p.wide;
  return state_->match_records->kept(tried);
}

MatchedPhotos Survey::matched() {
  if (!is_matched()) match();
  Matched loaded = state_->load_matched(settings_, folder_);
  MatchedPhotos matched;
  for (OrientPhoto& photo : loaded.photos) matched.keypoints.push_back(std::move(photo.keypoints));
  matched.tried = std::move(loaded.tried);
  matched.pairs = std::move(loaded.pairs);
  return matched;
}

TrackedPhotos Survey::tracks() {
  if (!is_matched()) match();
  Matched matched = state_->load_matched(settings_, folder_);
  TrackedPhotos tracked;
  tracked.tracks = build_tracks(matched.pairs, matched.feature_counts);
  tracked.photos = std::move(matched.photos);
  return tracked;
}

}  // namespace icefield
