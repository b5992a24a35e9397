#include "src/survey/depth_files.h"

#include <cstring>
#include <limits>

#include "icefield/io/text_file.h"
#include "src/survey/survey_state.h"

namespace icefield {
namespace fs = std::filesystem;

std::optional<Bytes> read_checked_file(const fs::path& file) {
  try {
    const std::string content = read_file(file, std::numeric_limits<std::uint64_t>::max());
    if (content.size() < sizeof(Fingerprint)) return std::nullopt;
    const auto* begin = reinterpret_cast<const std::byte*>(content.data());
    Bytes bytes(begin, begin + content.size() - sizeof(Fingerprint));
    const Fingerprint sum = fingerprint_bytes(bytes);
    if (std::memcmp(&sum, content.data() + bytes.size(), sizeof sum) == 0) return bytes;
  } catch (const Error&) {
  }
  return std::nullopt;
}

void write_checked_file(const fs::path& file, const Bytes& content) {
  const Fingerprint sum = fingerprint_bytes(content);
  std::string text(reinterpret_cast<const char*>(content.data()), content.size());
  text.append(reinterpret_cast<const char*>(&sum), sizeof sum);
  write_file(file, text);
}

DepthFiles::DepthFiles(fs::path folder, const Fingerprint& shared, const std::vector<Photo>& photos, int rounds,
                       bool may_write, Monitor& monitor)
    : folder_(std::move(folder)), may_write_(may_write), monitor_(monitor) {
  for (std::size_t i = 0; i < photos.size(); ++i) {
    const std::size_t index = photos[i].photo.value;
    if (place_.size() <= index) place_.resize(index + 1, -1);
    place_[index] = static_cast<std::int64_t>(i);
    has_map_.push_back(!photos[i].neighbours.empty());
  }
  for (int round = 0; round <= rounds; ++round) {
    std::vector<Fingerprint> keys;
    for (const Photo& photo : photos) {
      Fingerprinter key;
      key.add(shared).add(round).add(photo.photo.value).add(photo.content);
      for (const std::uint32_t n : photo.neighbours) {
        key.add(n).add(photos[n].content).add(static_cast<std::uint8_t>(has_map_[n]));
        if (round > 0) key.add(keys_.back()[n]);
      }
      if (round > 0) key.add(keys_.back()[keys.size()]);
      keys.push_back(key.result());
    }
    keys_.push_back(std::move(keys));
  }
}

fs::path DepthFiles::file(PhotoIndex photo, int round) const {
  const auto place = static_cast<std::size_t>(place_[photo.value]);
  return folder_ / (keys_[static_cast<std::size_t>(round)][place].hex() + ".depth");
}

std::vector<std::string> DepthFiles::last_names() const {
  std::vector<std::string> names;
  for (std::size_t i = 0; i < has_map_.size(); ++i)
    if (has_map_[i]) names.push_back(keys_.back()[i].hex() + ".depth");
  return names;
}

bool DepthFiles::has(PhotoIndex photo, int round) {
  std::error_code ignored;
  return fs::exists(file(photo, round), ignored);
}

std::optional<DepthMap> DepthFiles::get(PhotoIndex photo, int round) {
  const fs::path path = file(photo, round);
  if (!fs::exists(path)) return std::nullopt;
  if (const auto bytes = read_checked_file(path)) try {
      return DepthMap::from_bytes(*bytes);
    } catch (const Error&) {
    }
  monitor_.log(LogLevel::warning, path.string() + (may_write_ ? ": is damaged; it is computed again"
                                                              : ": is damaged; `densify` computes it again"));
  std::error_code ignored;
  if (may_write_) fs::remove(path, ignored);
  return std::nullopt;
}

void DepthFiles::put(PhotoIndex photo, int round, const DepthMap& map) {
  write_checked_file(file(photo, round), map.to_bytes());
}

std::vector<double> Survey::State::sharpness_of(const Block& block) const {
  std::vector<double> sharpness;
  for (const PosedPhoto& photo : block.photos) sharpness.push_back(list->photos[photo.photo.value].scores.sharpness);
  return sharpness;
}

DepthFiles Survey::State::depth_files(const fs::path& folder, std::size_t b, const Settings& settings,
                                      const Executor& executor, Monitor& monitor) const {
  const Block& block = posed->blocks[b];
  const Bounds box = bounds_of(block);
  const Fingerprint shared = Fingerprinter()
                                 .add(kDepthVersion)
                                 .add(instruction_level())
                                 .add(block_keys[b])
                                 .add(bounds_key(box))
                                 .add(settings.text({"dense"}))
                                 .result();
  // One after the other is asked for; which photos see which is worked out once.
  const std::string known_as = Fingerprinter().add(shared).add(b).add(lock != nullptr).result().hex();
  if (const auto known = known_depth_files.find(known_as); known != known_depth_files.end()) return known->second;
  const std::vector<double> sharpness = sharpness_of(block);
  std::vector<DepthFiles::Photo> photos;
  for (const PosedPhoto& posed_photo : block.photos) {
    const SurveyPhoto& photo = list->photos[posed_photo.photo.value];
    photos.push_back({posed_photo.photo, Fingerprinter().add(photo.content).add(photo.mask_content).result(), {}});
  }
  std::vector<std::vector<std::uint32_t>> neighbours;
  for (const MatchViews& views : choose_views(block, box, settings.dense, sharpness, executor))
    neighbours.push_back(views.photos);
  if (settings.dense.skip_repeats) {
    const auto repeated = repeated_photos(block, box, sharpness);
    for (std::size_t i = 0; i < photos.size(); ++i)
      if (repeated[i]) neighbours[i].clear();
  }
  for (std::size_t i = 0; i < photos.size(); ++i) photos[i].neighbours = std::move(neighbours[i]);
  return known_depth_files
      .emplace(known_as, DepthFiles(folder / "work" / "depth", shared, photos, settings.dense.consistency_rounds,
                                    lock != nullptr, monitor))
      .first->second;
}

std::set<std::string> Survey::State::wanted_depth_maps(const fs::path& folder, const Settings& settings,
                                                       const Executor& executor, Monitor& monitor) const {
  std::set<std::string> wanted;
  if (!posed || !list) return wanted;
  for (std::size_t b = 0; b < posed->blocks.size(); ++b) {
    if (!holds_subject(posed->blocks[b])) continue;
    for (std::string& name : depth_files(folder, b, settings, executor, monitor).last_names())
      wanted.insert(std::move(name));
  }
  return wanted;
}

}  // namespace icefield
