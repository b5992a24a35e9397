#include <fmt/format.h>

#include <algorithm>
#include <cstring>
#include <nlohmann/json.hpp>

#include "icefield/io/camera_file.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/ply_file.h"
#include "icefield/io/text_file.h"
#include "src/survey/survey_state.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

// Depth maps as files, each with a checksum.
class DepthFiles : public DepthMapStore {
 public:
  DepthFiles(fs::path folder, std::function<Fingerprint(PhotoIndex, int)> key, Monitor& monitor) : folder_(std::move(folder)), key_(std::move(key)), monitor_(monitor) {
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

DepthFiles depth_files(const fs::path& folder, const PhotoList& list, const Block& block, const Bounds& box, const Settings& settings, Monitor& monitor) {
  const Fingerprint box_key = bounds_key(box);
  const Fingerprint block_key = fingerprint_bytes(block_to_bytes(block));
  const std::string text = settings.text({"dense"});
  return DepthFiles(
      folder / "work" / "depth",
      [&list, block_key, box_key, text](PhotoIndex photo, int round) {
        return Fingerprinter().add(kDepthVersion).add(instruction_level()).add(block_key).add(box_key).add(list.photos[photo.value].content).add(photo.value).add(round).add(text).result();
      },
      monitor);
}

}  // namespace

std::vector<DenseReport> Survey::densify() {
  const OrientResult& result = pose();
  const PhotoList& list = photos();
  State& state = *state_;
  const auto start = std::chrono::steady_clock::now();
  if (std::none_of(result.blocks.begin(), result.blocks.end(), [&](const Block& block) { return state.holds_subject(block); }))
    throw Error(ErrorKind::computation, "bounds", "hold no tie point of any block", "give others, or forget them with `icefield densify " + folder_.string() + " --automatic-bounds`");
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
    if (!state.holds_subject(block)) {
      monitor_.log(LogLevel::warning, fmt::format("block {}: has no tie point within the bounds and is left out", b + 1));
      std::error_code ignored;
      fs::remove(block_folder(b) / "dense.ply", ignored);  // it was made within others
      continue;
    }
    const Fingerprint block_key = fingerprint_bytes(block_to_bytes(block));
    const std::string all = settings_.text({"dense", "fuse"});
    const Bounds box = state.bounds_of(block);
    DepthFiles depth = depth_files(folder_, list, block, box, settings_, monitor_);
    const Fingerprint key = Fingerprinter().add(kDepthVersion).add(kFuseVersion).add(instruction_level()).add(block_key).add(all).add(bounds_key(box)).result();
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
    for (std::size_t i = 0; i < list.used; ++i) provenance["photos"].push_back({{"name", list.photos[i].name}, {"content", list.photos[i].content.hex()}});
    write_file(folder_ / "results" / "provenance.json", provenance.dump(1) + "\n");
  }
  return reports;
}

std::optional<DepthMap> Survey::depth_map(std::size_t block, std::size_t photo) {
  const OrientResult* result = posed();
  if (!result || block >= result->blocks.size() || photo >= result->blocks[block].photos.size()) return std::nullopt;
  const Bounds box = state_->bounds_of(result->blocks[block]);
  return depth_files(folder_, photos(), result->blocks[block], box, settings_, monitor_).get(result->blocks[block].photos[photo].photo, settings_.dense.consistency_rounds);
}

}  // namespace icefield
