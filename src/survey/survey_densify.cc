#include <fmt/format.h>

#include <algorithm>
#include <cstring>
#include <nlohmann/json.hpp>
#include <set>

#include "icefield/io/camera_file.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/cloud_file.h"
#include "icefield/io/text_file.h"
#include "src/survey/survey_state.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

// Depth maps as files, each with a checksum.
class DepthFiles : public DepthMapStore {
 public:
  DepthFiles(fs::path folder, std::function<Fingerprint(PhotoIndex, int)> key, Monitor& monitor)
      : folder_(std::move(folder)), key_(std::move(key)), monitor_(monitor) {
    make_folder(folder_);
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

class SurveyPhotos : public PhotoSource {
 public:
  SurveyPhotos(const PhotoList& list, const PhotoReadLimits& limits) : list_(list), limits_(limits) {}
  ImageU8 load(PhotoIndex photo) override { return read_photo(list_.photos[photo.value].file, limits_); }
  ImageU8 mask(PhotoIndex photo) override {
    const fs::path& file = list_.photos[photo.value].mask;
    return file.empty() ? ImageU8() : mask_of(read_photo(file, limits_));
  }
  double sharpness(PhotoIndex photo) const override { return list_.photos[photo.value].scores.sharpness; }

 private:
  const PhotoList& list_;
  const PhotoReadLimits& limits_;
};

// A cloud as it comes, into the files of a block. What was there before stays until the new one is whole.
class CloudFiles : public PointSink {
 public:
  CloudFiles(const fs::path& cloud, const fs::path& aside)
      : aside_file_(aside), cloud_(cloud, CloudFormat::ply, carried(false)) {}
  void add(const PointCloud& part) override { cloud_.add(part); }
  void set_aside(const PointCloud& part) override {
    if (!aside_) aside_.emplace(aside_file_, CloudFormat::ply, carried(true));
    aside_->add(part);
  }
  void finish() {
    std::error_code ignored;
    if (aside_)
      aside_->finish();
    else
      fs::remove(aside_file_, ignored);
    cloud_.finish();
  }

 private:
  static CloudContent carried(bool faults) {
    CloudContent content;
    content.normals = content.colours = content.views = content.errors = content.conflicts = true;
    content.faults = faults;
    return content;
  }
  fs::path aside_file_;
  CloudWriter cloud_;
  std::optional<CloudWriter> aside_;
};

void put_summary(ByteWriter& out, const DenseSummary& s) {
  out.put(s.outcome)
      .put(static_cast<std::uint64_t>(s.maps))
      .put(static_cast<std::uint64_t>(s.points))
      .put(static_cast<std::uint64_t>(s.photos_without_neighbours))
      .put(static_cast<std::uint64_t>(s.photos_repeated))
      .put(static_cast<std::uint64_t>(s.tiles));
  out.put(s.filled_percent).put(s.median_views).put(s.few_views_percent).put(s.spacing);
  for (const std::size_t count : s.aside) out.put(static_cast<std::uint64_t>(count));
  out.put(static_cast<std::uint64_t>(s.fill.size()));
  for (const DenseSummary::PhotoFill& fill : s.fill) out.put(fill.photo.value).put(fill.percent);
}

DenseSummary get_summary(ByteReader& in) {
  DenseSummary s;
  s.outcome = in.get_string();
  s.maps = in.get<std::uint64_t>();
  s.points = in.get<std::uint64_t>();
  s.photos_without_neighbours = in.get<std::uint64_t>();
  s.photos_repeated = in.get<std::uint64_t>();
  s.tiles = in.get<std::uint64_t>();
  s.filled_percent = in.get<double>();
  s.median_views = in.get<double>();
  s.few_views_percent = in.get<double>();
  s.spacing = in.get<double>();
  for (std::size_t& count : s.aside) count = in.get<std::uint64_t>();
  for (std::uint64_t k = in.get<std::uint64_t>(); k > 0; --k) {
    const PhotoIndex photo(in.get<std::uint32_t>());
    s.fill.push_back({photo, in.get<double>()});
  }
  return s;
}

DepthFiles depth_files(const fs::path& folder, const PhotoList& list, const Block& block, const Bounds& box,
                       const Settings& settings, Monitor& monitor) {
  const Fingerprint box_key = bounds_key(box);
  const Fingerprint block_key = fingerprint_bytes(block_to_bytes(block));
  const std::string text = settings.text({"dense"});
  return DepthFiles(
      folder / "work" / "depth",
      [&list, block_key, box_key, text](PhotoIndex photo, int round) {
        return Fingerprinter()
            .add(kDepthVersion)
            .add(instruction_level())
            .add(block_key)
            .add(box_key)
            .add(list.photos[photo.value].content)
            .add(list.photos[photo.value].mask_content)
            .add(photo.value)
            .add(round)
            .add(text)
            .result();
      },
      monitor);
}

}  // namespace

// Depth maps that no cloud is made of any more: of earlier rounds, of other settings and bounds. They would only fill
// the disk.
void Survey::remove_other_depth_maps() {
  const OrientResult& result = pose();
  std::set<fs::path> wanted;
  for (const Block& block : result.blocks) {
    if (!state_->holds_subject(block)) continue;
    const DepthFiles files = depth_files(folder_, photos(), block, state_->bounds_of(block), settings_, monitor_);
    for (const PosedPhoto& photo : block.photos)
      wanted.insert(files.file(photo.photo, settings_.dense.consistency_rounds));
  }
  std::error_code ignored;
  for (const auto& entry : fs::directory_iterator(folder_ / "work" / "depth", ignored))
    if (entry.path().extension() == ".depth" && !wanted.contains(entry.path())) fs::remove(entry.path(), ignored);
}

std::vector<DenseEstimate> Survey::estimate_densify() {
  const OrientResult& result = pose();
  const SurveyPhotos source(photos(), settings_.photo);
  std::vector<DenseEstimate> estimates;
  for (const Block& block : result.blocks)
    estimates.push_back(state_->holds_subject(block)
                            ? estimate_dense(block, state_->bounds_of(block), settings_.dense, executor_, &source)
                            : DenseEstimate{});
  return estimates;
}

std::vector<DenseReport> Survey::densify() {
  const OrientResult& result = pose();
  const PhotoList& list = photos();
  State& state = *state_;
  const auto start = std::chrono::steady_clock::now();
  if (std::none_of(result.blocks.begin(), result.blocks.end(),
                   [&](const Block& block) { return state.holds_subject(block); }))
    throw Error(ErrorKind::computation, "bounds", "hold no tie point of any block",
                "give others, or forget them with `icefield densify " + folder_.string() + " --automatic-bounds`");
  SurveyPhotos source(list, settings_.photo);

  std::vector<DenseReport> reports;
  bool computed = false;
  for (std::size_t b = 0; b < result.blocks.size(); ++b) {
    const Block& block = result.blocks[b];
    if (!state.holds_subject(block)) {
      monitor_.log(LogLevel::warning,
                   fmt::format("block {}: has no tie point within the bounds and is left out", b + 1));
      std::error_code ignored;
      for (const char* name : {"dense.ply", "set_aside.ply"})
        fs::remove(block_folder(b) / name, ignored);  // made within others
      continue;
    }
    const Fingerprint block_key = fingerprint_bytes(block_to_bytes(block));
    const std::string all = settings_.text({"dense", "fuse", "clean"});
    const Bounds box = state.bounds_of(block);
    DepthFiles depth = depth_files(folder_, list, block, box, settings_, monitor_);
    Fingerprinter inputs;
    inputs.add(kDepthVersion).add(kFuseVersion).add(instruction_level()).add(block_key).add(all).add(bounds_key(box));
    for (const PosedPhoto& photo : block.photos)
      inputs.add(list.photos[photo.photo.value].content).add(list.photos[photo.photo.value].mask_content);
    const Fingerprint key = inputs.result();
    DenseReport report;
    report.block = b;
    report.file = block_folder(b) / "dense.ply";
    report.aside = block_folder(b) / "set_aside.ply";
    report.summary.bounds = box;
    const auto known = state.store.get("dense", key);
    const auto current = state.last(fmt::format("dense file {}", b));
    if (known && current && current->first == key && fs::exists(report.file)) {
      ByteReader in(*known);
      report.summary = get_summary(in);
      report.summary.bounds = box;
      report.fresh = true;
      reports.push_back(std::move(report));
      continue;
    }
    computed = true;
    CloudFiles files(report.file, report.aside);
    report.summary = icefield::densify(block, source, depth, box, settings_.dense, executor_, monitor_, files);
    files.finish();
    if (report.summary.points == 0)
      monitor_.log(
          LogLevel::warning,
          fmt::format("block {}: the cloud is empty: nowhere do {} photos agree (fuse.min_views) of the {} with a "
                      "depth map; ask for fewer, set fuse.keep_thin=true, or see `icefield view {} depth`",
                      b + 1, settings_.dense.min_views, report.summary.maps, folder_.string()));
    CameraFile cameras = read_camera_file(block_folder(b) / "cameras.json");
    cameras.bounds = box;
    write_camera_file(block_folder(b) / "cameras.json", cameras);
    ByteWriter out;
    put_summary(out, report.summary);
    state.store.put("dense", key, out.take());
    state.remember(fmt::format("dense file {}", b), key, 0);
    reports.push_back(std::move(report));
  }
  if (computed) remove_other_depth_maps();
  const Fingerprint densify_key = state.densify_key(settings_);
  const auto last = state.last("densify");
  if (computed || !last || last->first != densify_key) {
    state.remember("densify", densify_key, seconds_since(start));
    nlohmann::ordered_json provenance;
    provenance["format"] = "icefield provenance";
    provenance["version"] = 1;
    provenance["effort"] = effort_name(settings_.effort);
    provenance["instruction_level"] = instruction_level();
    for (const SettingInfo& info : settings_.list()) provenance["settings"][info.key] = info.value;
    for (std::size_t i = 0; i < list.used; ++i)
      provenance["photos"].push_back({{"name", list.photos[i].name}, {"content", list.photos[i].content.hex()}});
    write_file(folder_ / "results" / "provenance.json", provenance.dump(1) + "\n");
  }
  return reports;
}

std::optional<DepthMap> Survey::depth_map(std::size_t block, std::size_t photo) {
  const OrientResult* result = posed();
  if (!result || block >= result->blocks.size() || photo >= result->blocks[block].photos.size()) return std::nullopt;
  const Bounds box = state_->bounds_of(result->blocks[block]);
  return depth_files(folder_, photos(), result->blocks[block], box, settings_, monitor_)
      .get(result->blocks[block].photos[photo].photo, settings_.dense.consistency_rounds);
}

}  // namespace icefield
