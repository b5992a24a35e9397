#include <fmt/format.h>

#include <algorithm>
#include <cstring>
#include <nlohmann/json.hpp>
#include <set>

#include "icefield/io/camera_file.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/cloud_file.h"
#include "icefield/io/text_file.h"
#include "icefield/io/tiled_cloud.h"
#include "src/survey/cloud_frames.h"
#include "src/survey/depth_files.h"
#include "src/survey/photo_files.h"
#include "src/survey/survey_state.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

// A cloud as it comes, into the files of a block. What was there before stays until the new one is whole.
class CloudFiles : public PointSink {
 public:
  CloudFiles(const fs::path& cloud, const fs::path& aside, const Fingerprint& key, const Block& block)
      : aside_file_(aside),
        key_(key.hex()),
        block_(block),
        frame_(block.datum, block.origin),
        cloud_(cloud, CloudFormat::ply, carried(false)) {}
  void begin(double spacing) override { spacing_ = spacing; }
  void add(const PointCloud& part) override {
    if (frame_.curved())
      cloud_.add_tile(cloud_in_world(part, frame_, block_.datum), spacing_);
    else
      cloud_.add_tile(part, spacing_);
  }
  void set_aside(const PointCloud& part) override {
    if (!aside_) aside_.emplace(aside_file_, CloudFormat::ply, carried(true));
    if (frame_.curved())
      aside_->add(cloud_in_world(part, frame_, block_.datum));
    else
      aside_->add(part);
  }
  // True where points were set aside.
  bool finish() {
    if (aside_) aside_->finish();
    cloud_.finish();
    return aside_.has_value();
  }

 private:
  CloudContent carried(bool faults) const {
    CloudContent content;
    content.normals = content.colours = content.views = content.errors = content.conflicts = true;
    content.faults = faults;
    content.tiled = !faults;
    content.fingerprint = key_;
    content.origin = block_.origin, content.datum = block_.datum;
    return content;
  }
  fs::path aside_file_;
  std::string key_;
  const Block& block_;
  WorldFrame frame_;
  double spacing_ = 0;
  CloudWriter cloud_;
  std::optional<CloudWriter> aside_;
};

// Tiles of a cloud that is not whole yet, in files of their own: a run that was stopped goes on with them.
class TileFiles : public TileStore {
 public:
  TileFiles(fs::path folder, const Fingerprint& key) : folder_(std::move(folder)), key_(key.hex()) {}
  bool has(std::size_t tile) override {
    std::error_code ignored;
    return fs::exists(file(tile), ignored);
  }
  std::optional<Bytes> get(std::size_t tile) override { return read_checked_file(file(tile)); }
  void put(std::size_t tile, const Bytes& content) override {
    make_folder(folder_);
    write_checked_file(file(tile), content);
  }

 private:
  fs::path file(std::size_t tile) const { return folder_ / fmt::format("{}_{}.tile", key_, tile); }
  fs::path folder_;
  std::string key_;  // of the cloud
};

// Maps that no cloud is made of any more: of earlier rounds, of other settings and bounds. They would only fill the
// disk.
void remove_other_depth_maps(const fs::path& folder, const std::set<std::string>& wanted) {
  std::error_code ignored;
  for (const auto& entry : fs::directory_iterator(folder, ignored))
    if (entry.path().extension() == ".depth" && !wanted.contains(entry.path().filename().string()))
      fs::remove(entry.path(), ignored);
}

// Of a cloud that is whole.
void remove_tiles(const fs::path& folder, const Fingerprint& cloud) {
  std::error_code ignored;
  for (const auto& entry : fs::directory_iterator(folder, ignored))
    if (entry.path().filename().string().starts_with(cloud.hex())) fs::remove(entry.path(), ignored);
  fs::remove(folder, ignored);  // if it is empty
}

// Of a map's file: the digits before the dot.
Fingerprint key_of_name(const std::string& name) {
  Fingerprint key;
  key.high = std::stoull(name.substr(0, 16), nullptr, 16);
  key.low = std::stoull(name.substr(16, 16), nullptr, 16);
  return key;
}

void write_provenance(const fs::path& folder, const PhotoList& list, const Settings& settings, const Fingerprint& key) {
  nlohmann::ordered_json provenance;
  provenance["format"] = "icefield provenance";
  provenance["version"] = 1;
  provenance["fingerprint"] = key.hex();
  provenance["effort"] = effort_name(settings.effort);
  for (const auto& [step, effort] : settings.step_effort) provenance["step_effort"][step] = effort_name(effort);
  provenance["instruction_level"] = instruction_level();
  for (const SettingInfo& info : settings.list()) provenance["settings"][info.key] = info.value;
  for (std::size_t i = 0; i < list.used; ++i)
    provenance["photos"].push_back({{"name", list.photos[i].name}, {"content", list.photos[i].content.hex()}});
  write_file(folder / "results" / "provenance.json", provenance.dump(1) + "\n");
}

}  // namespace

std::vector<DenseEstimate> Survey::estimate_densify() {
  need_posed();
  const PhotoFiles source(photos(), settings_.photo);
  std::vector<DenseEstimate> estimates;
  for (const Block& block : state_->posed->blocks)
    estimates.push_back(state_->holds_subject(block)
                            ? estimate_dense(block, state_->bounds_of(block), settings_.dense, executor_, &source)
                            : DenseEstimate{});
  return estimates;
}

std::vector<DenseReport> Survey::densify() {
  settle();
  State& state = *state_;
  const auto start = std::chrono::steady_clock::now();
  const auto none_within = [&] {
    return std::none_of(state.posed->blocks.begin(), state.posed->blocks.end(),
                        [&](const Block& block) { return state.holds_subject(block); });
  };
  if (none_within())
    throw Error(ErrorKind::computation, "bounds", "contain no tie point of any block",
                "give others, or forget them with `icefield densify " + folder_.string() + " --automatic-bounds`");
  // What is there already, without the lock.
  const auto known_report = [&](std::size_t b) -> std::optional<DenseReport> {
    const Fingerprint key = state.cloud_key(settings_, b);
    auto known = state.store.read("dense", key, read_dense_record);
    if (!known) return std::nullopt;
    for (const char* name : {"dense.ply", "set_aside.ply"})
      if (state.products.state_of(block_file_name(b, name), key) != FileState::current) return std::nullopt;
    DenseReport report;
    report.summary = std::move(*known);
    report.fresh = true;
    return report;
  };
  const auto within = [&](std::size_t b) { return state.holds_subject(state.posed->blocks[b]); };
  bool computed = false;
  for (std::size_t b = 0; b < state.posed->blocks.size(); ++b) computed = computed || (within(b) && !known_report(b));
  if (computed) {
    lock();
    settle();
  }
  const PhotoList& list = photos();
  PhotoFiles source(list, settings_.photo);
  std::vector<DenseReport> reports;
  State::RecordNames needs;
  for (std::size_t b = 0; b < state.posed->blocks.size(); ++b) {
    const Block& block = state.posed->blocks[b];
    const std::string cloud_name = block_file_name(b, "dense.ply"), aside_name = block_file_name(b, "set_aside.ply");
    if (!within(b)) {
      monitor_.log(LogLevel::warning,
                   fmt::format("block {}: has no tie point within the bounds and is left out", b + 1));
      if (computed)
        for (const std::string& name : {cloud_name, aside_name}) state.products.remove(name);  // made within others
      continue;
    }
    const Fingerprint key = state.cloud_key(settings_, b);
    const Bounds box = state.bounds_of(block);
    std::optional<DenseReport> report = known_report(b);
    if (!report) {
      report.emplace();
      for (const std::string& name : {cloud_name, aside_name})
        if (const auto aside = state.products.make_room(name))
          monitor_.log(LogLevel::warning, state.products.file(name).string() +
                                              ": was changed by another program; put aside as " +
                                              aside->filename().string() + " and made again");
      make_folder(folder_ / "work" / "depth");
      DepthFiles depth = state.depth_files(folder_, b, settings_, executor_, monitor_);
      CloudFiles files(state.products.file(cloud_name), state.products.file(aside_name), key, block);
      TileFiles tiles(folder_ / "work" / "tiles", key);
      report->summary =
          icefield::densify(block, source, depth, box, settings_.dense, executor_, monitor_, files, &tiles);
      const bool aside = files.finish();
      if (report->summary.points == 0)
        monitor_.log(LogLevel::warning,
                     fmt::format("block {}: the cloud is empty: nowhere do {} photos agree (fuse.min_views) of the {} "
                                 "with a depth map; ask for fewer, set fuse.keep_thin=true, or see `icefield view {} "
                                 "depth`",
                                 b + 1, settings_.dense.min_views, report->summary.maps, folder_.string()));
      state.store.put("dense", key, dense_record(report->summary));
      if (aside)
        state.products.written(aside_name, key);
      else
        state.products.absent(aside_name, key);
      state.products.written(cloud_name, key);
      remove_tiles(folder_ / "work" / "tiles", key);
    }
    report->block = b;
    report->file = state.products.file(cloud_name);
    report->aside = state.products.file(aside_name);
    report->summary.bounds = box;
    reports.push_back(std::move(*report));
    needs.emplace_back("dense", key);
  }
  const StepInputs inputs = state.inputs_of_densify(settings_);
  const auto last = state.last("densify");
  if (state.lock && (computed || !last || last->key != key_of(inputs))) {
    const auto maps = state.wanted_depth_maps(folder_, settings_, executor_, monitor_);
    if (computed) remove_other_depth_maps(folder_ / "work" / "depth", maps);
    for (const std::string& map : maps) needs.emplace_back("depth map", key_of_name(map));
    state.remember_needs("densify", needs);
    write_provenance(folder_, list, settings_, key_of(inputs));
    state.remember("densify", inputs, computed ? seconds_since(start) : last ? last->seconds : 0);
  }
  return reports;
}

std::filesystem::path Survey::cloud_file(std::size_t block) {
  this->block(block);
  const std::string name = block_file_name(block, "dense.ply");
  const fs::path file = state_->products.file(name);
  const auto say = [&](const std::string& why) {
    throw Error(ErrorKind::usage, file.string(), why,
                "run `icefield densify " + folder_.string() + "` to make it anew, or take it as it is with --stale");
  };
  if (!state_->holds_subject(state_->posed->blocks[block]))
    throw Error(ErrorKind::usage, fmt::format("block {}", block + 1),
                "has no tie point within the bounds and so no cloud",
                "give other bounds to `icefield densify " + folder_.string() + "`");
  const FileState found = state_->products.state_of(name, state_->cloud_key(settings_, block));
  if (found == FileState::current) return file;
  if (found == FileState::missing)
    throw Error(ErrorKind::usage, file.string(), "does not exist yet",
                "run `icefield densify " + folder_.string() + "` first");
  if (found == FileState::changed) say(describe(found));
  const auto last = state_->last("densify");
  std::string why;
  if (last)
    for (const std::string& reason : differences(last->inputs, state_->inputs_of_densify(settings_)))
      why += (why.empty() ? "" : "; ") + reason;
  say("is of another state of the survey" + (why.empty() ? std::string() : ": " + why));
  return file;
}

PointCloud Survey::cloud(std::size_t block, std::uint64_t most) {
  const fs::path file = cloud_file(block);
  const std::string wanted = state_->cloud_key(settings_, block).hex();
  const TiledCloud tiled(file);
  PointCloud cloud = tiled.overview(most);
  const WorldFrame frame = world_frame(block);
  if (frame.curved())
    cloud = cloud_in_block(std::move(cloud), frame);
  else
    cloud.origin -= frame.origin();
  if (tiled.content().fingerprint != wanted)
    throw Error(ErrorKind::usage, file.string(), "was replaced while it was read", "run the same command again");
  return cloud;
}

std::vector<PhotoCoverage> Survey::coverage(std::size_t block) {
  const Block& posed = this->block(block);
  if (!state_->holds_subject(posed))
    throw Error(ErrorKind::usage, fmt::format("block {}", block + 1), "has no tie point within the bounds",
                "give other bounds to `icefield densify " + folder_.string() + "`");
  return coverage_of_photos(posed, state_->bounds_of(posed), settings_.dense, state_->sharpness_of(posed), executor_);
}

std::optional<DepthMap> Survey::depth_map(std::size_t block, std::size_t photo) {
  const OrientResult* result = posed();
  if (!result || block >= result->blocks.size() || photo >= result->blocks[block].photos.size()) return std::nullopt;
  if (!state_->holds_subject(result->blocks[block])) return std::nullopt;
  return state_->depth_files(folder_, block, settings_, executor_, monitor_)
      .get(result->blocks[block].photos[photo].photo, settings_.dense.consistency_rounds);
}

}  // namespace icefield
