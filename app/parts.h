// What several commands need.
#pragma once
#include <fmt/format.h>

#include <filesystem>
#include <nlohmann/json.hpp>
#include <numbers>
#include <sstream>

#include "commands.h"
#include "icefield/io/text_file.h"
#include "icefield/report/table.h"

using namespace icefield;
namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;

inline Survey open_survey(const Common& common, Monitor& monitor) {
  return Survey(common.survey, Executor(common.threads), monitor);
}

// Settings given on the command line go into the survey's file, so that a later run sees them too. An effort given to a
// step is that step's alone.
inline void apply_settings(Survey& survey, const Common& common, const std::string& step = "") {
  if (!common.effort.empty()) survey.set_effort(common.effort, step);
  for (const std::string& entry : common.set) {
    const std::size_t equals = entry.find('=');
    if (equals == std::string::npos)
      throw Error(ErrorKind::usage, "--set " + entry, "is no setting", "write --set section.key=value");
    survey.set(entry.substr(0, equals), entry.substr(equals + 1));
  }
}

inline void print_json(const Json& json) {
  fmt::print("{}\n", json.dump(1));
}
inline void next(const std::string& hint) {
  fmt::print("Next: {}\n", hint);
}

inline const OrientResult& posed_or_throw(Survey& survey) {
  const OrientResult* result = survey.posed();
  if (!result || result->blocks.empty())
    throw Error(ErrorKind::usage, survey.folder().string(), "has no fresh block",
                "run `icefield pose " + survey.folder().string() + "` first");
  return *result;
}

// `number` from 1.
inline const Block& chosen_block(Survey& survey, std::size_t number) {
  const OrientResult& result = posed_or_throw(survey);
  if (number > result.blocks.size())
    throw Error(ErrorKind::usage, fmt::format("block {}", number), "does not exist",
                fmt::format("the survey has {}", result.blocks.size()));
  return result.blocks[number - 1];
}

// Where it is not, says why and what to run; commands that only look compute nothing.
inline void need_matches(Survey& survey) {
  if (survey.is_matched()) return;
  const StepStatus status = survey.status_of("match");
  std::string why;
  for (const std::string& reason : status.reasons) why += (why.empty() ? ": " : "; ") + reason;
  throw Error(ErrorKind::usage, survey.folder().string(),
              status.state == StepState::missing ? "is not matched yet" : "has stale matches" + why,
              "run `icefield match " + survey.folder().string() + "` first");
}

// A file of a block as it lies in results/, current or not: for --stale. Says what it is not.
inline fs::path file_as_it_is(Survey& survey, std::size_t block, const char* name, Monitor& monitor) {
  const fs::path file = survey.block_folder(block - 1) / name;
  if (!fs::exists(file))
    throw Error(ErrorKind::usage, file.string(), "does not exist",
                "run `icefield status " + survey.folder().string() + "`");
  const std::string step = std::string(name) == "dense.ply" ? "densify" : "pose";
  for (const StepStatus& status : survey.status()) {
    if (status.step != step || status.state == StepState::fresh) continue;
    std::string why;
    for (const std::string& reason : status.reasons) why += (why.empty() ? "" : "; ") + reason;
    monitor.log(LogLevel::warning, file.string() + ": is taken as it is, though stale: " + why);
  }
  return file;
}

// Its place in the list of those that take part.
inline std::size_t photo_by_name(Survey& survey, const std::string& name, std::size_t otherwise) {
  if (name.empty()) return otherwise;
  const PhotoList& list = survey.photos();
  const std::size_t index = static_cast<std::size_t>(&survey.photo(name) - list.photos.data());
  if (index < list.used) return index;
  throw Error(ErrorKind::usage, name, "takes no part: " + list.photos[index].left_out,
              "`icefield photos` lists those that do");
}

inline std::size_t photo_of_block(Survey& survey, const Block& block, const std::string& name) {
  if (name.empty()) return 0;
  const std::size_t index = photo_by_name(survey, name, 0);
  for (std::size_t i = 0; i < block.photos.size(); ++i)
    if (block.photos[i].photo.value == index) return i;
  throw Error(ErrorKind::usage, name, "is no photo of the block", "`icefield pose` says why it has no pose");
}

// `photo` by its place in the block.
inline DepthMap depth_map_of(Survey& survey, std::size_t block, std::size_t photo) {
  auto map = survey.depth_map(block - 1, photo);
  if (!map)
    throw Error(ErrorKind::usage, survey.folder().string(), "has no fresh depth map of this photo",
                "run `icefield densify " + survey.folder().string() + "` first");
  return std::move(*map);
}

// Lines X Y; blank ones and those that begin with # are passed over.
inline std::vector<Eigen::Vector2d> read_outline(const fs::path& file) {
  std::vector<Eigen::Vector2d> outline;
  std::istringstream text(read_file(file, std::size_t{1} << 24));
  std::size_t number = 0;
  for (std::string line; std::getline(text, line);) {
    ++number;
    std::istringstream words(line);
    std::string first;
    if (!(words >> first) || first[0] == '#') continue;
    Eigen::Vector2d place;
    std::istringstream again(line);
    if (!(again >> place.x() >> place.y()) || !place.allFinite())
      throw Error(ErrorKind::input, file.string(), fmt::format("line {} is no pair of coordinates", number),
                  "write a corner of the polygon in each line, as X Y");
    outline.push_back(place);
  }
  if (outline.size() < 3)
    throw Error(ErrorKind::input, file.string(), fmt::format("has {} corners", outline.size()),
                "a polygon needs three, a line X Y for each");
  return outline;
}

// Centre x y z, size x y z and, where given, the turn about the vertical in degrees.
inline Bounds box_of(const std::vector<double>& numbers, const char* option) {
  Bounds box;
  box.centre = {numbers[0], numbers[1], numbers[2]};
  box.half_size = 0.5 * Eigen::Vector3d(numbers[3], numbers[4], numbers[5]);
  if (numbers.size() > 6)
    box.orientation = Eigen::AngleAxisd(numbers[6] * std::numbers::pi / 180, Eigen::Vector3d::UnitZ());
  if (!(box.half_size.minCoeff() > 0))
    throw Error(ErrorKind::usage, option, "have no volume", "give centre x y z and a positive size x y z");
  return box;
}
