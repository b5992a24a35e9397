// What callers ask for by name or number; errors say what to run.
#include <fmt/format.h>

#include "src/survey/survey_state.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

std::string joined(const std::vector<std::string>& reasons) {
  std::string all;
  for (const std::string& reason : reasons) all += (all.empty() ? "" : "; ") + reason;
  return all;
}

}  // namespace

const OrientResult& Survey::need_free_blocks() {
  const OrientResult* result = free_blocks();
  if (!result || result->blocks.empty())
    throw Error(ErrorKind::usage, folder_.string(), "has no fresh block",
                "run `icefield pose " + folder_.string() + "` first");
  return *result;
}

const OrientResult& Survey::need_posed() {
  const OrientResult* result = posed();
  if (!result && free_blocks()) {
    const StepStatus status = status_of("georeference");
    const std::string why = status.reasons.empty() ? "" : ": " + joined(status.reasons);
    throw Error(ErrorKind::usage, folder_.string(),
                status.state == StepState::missing ? "is posed, but not georeferenced yet"
                                                   : "is not georeferenced as it should be" + why,
                "run `icefield georeference " + folder_.string() + "` first, or give it up with --off");
  }
  if (!result || result->blocks.empty())
    throw Error(ErrorKind::usage, folder_.string(), "has no fresh block",
                "run `icefield pose " + folder_.string() + "` first");
  return *result;
}

const Block& Survey::block(std::size_t block) {
  const OrientResult& result = need_posed();
  if (block >= result.blocks.size())
    throw Error(ErrorKind::usage, fmt::format("block {}", block + 1), "does not exist",
                fmt::format("the survey has {}", result.blocks.size()));
  return result.blocks[block];
}

void Survey::need_matches() {
  if (is_matched()) return;
  const StepStatus status = status_of("match");
  const std::string why = status.reasons.empty() ? "" : ": " + joined(status.reasons);
  throw Error(ErrorKind::usage, folder_.string(),
              status.state == StepState::missing ? "is not matched yet" : "has stale matches" + why,
              "run `icefield match " + folder_.string() + "` first");
}

DepthMap Survey::need_depth_map(std::size_t block, std::size_t photo) {
  auto map = depth_map(block, photo);
  if (!map)
    throw Error(ErrorKind::usage, folder_.string(), "has no fresh depth map of this photo",
                "run `icefield densify " + folder_.string() + "` first");
  return std::move(*map);
}

fs::path Survey::file_as_it_is(std::size_t block, const std::string& name) {
  const fs::path file = block_folder(block) / name;
  if (!fs::exists(file))
    throw Error(ErrorKind::usage, file.string(), "does not exist", "run `icefield status " + folder_.string() + "`");
  for (const StepRow& row : step_table()) {
    if (std::find(row.files.begin(), row.files.end(), name) == row.files.end()) continue;
    const StepStatus status = status_of(std::string(row.name));
    if (status.state != StepState::fresh)
      monitor_.log(LogLevel::warning, file.string() + ": is taken as it is, though stale: " + joined(status.reasons));
  }
  return file;
}

PhotoIndex Survey::photo_index(const std::string& name) {
  const PhotoList& list = photos();
  const auto index = static_cast<std::size_t>(&photo(name) - list.photos.data());
  if (index < list.used) return PhotoIndex(index);
  throw Error(ErrorKind::usage, name, "takes no part: " + list.photos[index].left_out,
              "`icefield photos` lists those that do");
}

std::size_t Survey::photo_of_block(const Block& block, const std::string& name) {
  const PhotoIndex index = photo_index(name);
  for (std::size_t i = 0; i < block.photos.size(); ++i)
    if (block.photos[i].photo == index) return i;
  throw Error(ErrorKind::usage, name, "is no photo of the block", "`icefield pose` says why it has no pose");
}

std::string Survey::photo_name(PhotoIndex photo) {
  return photos().photos[photo.value].name;
}

fs::path Survey::block_folder(std::size_t block) const {
  return folder_ / "results" / fmt::format("block-{}", block + 1);
}

}  // namespace icefield
