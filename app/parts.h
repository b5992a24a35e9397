// What several commands need.
#pragma once
#include <fmt/format.h>

#include <filesystem>
#include <nlohmann/json.hpp>

#include "commands.h"

using namespace icefield;
namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;

inline Survey open_survey(const Common& common, Monitor& monitor) { return Survey(common.survey, Executor(common.threads), monitor); }

// Settings given on the command line go into the survey's file, so that a later run sees them too.
inline void apply_settings(Survey& survey, const Common& common) {
  if (!common.effort.empty()) survey.set("effort", common.effort);
  for (const std::string& entry : common.set) {
    const std::size_t equals = entry.find('=');
    if (equals == std::string::npos) throw Error(ErrorKind::usage, "--set " + entry, "is no setting", "write --set section.key=value");
    survey.set(entry.substr(0, equals), entry.substr(equals + 1));
  }
}

inline void print_json(const Json& json) { fmt::print("{}\n", json.dump(1)); }
inline void next(const std::string& hint) { fmt::print("Next: {}\n", hint); }

inline const OrientResult& posed_or_throw(Survey& survey) {
  const OrientResult* result = survey.posed();
  if (!result || result->blocks.empty())
    throw Error(ErrorKind::usage, survey.folder().string(), "has no fresh block", "run `icefield pose " + survey.folder().string() + "` first");
  return *result;
}

inline fs::path block_file(Survey& survey, std::size_t block, const char* name, const char* step) {
  const OrientResult& result = posed_or_throw(survey);
  if (block > result.blocks.size())
    throw Error(ErrorKind::usage, fmt::format("block {}", block), "does not exist", fmt::format("the survey has {}", result.blocks.size()));
  const fs::path file = survey.block_folder(block - 1) / name;
  if (!fs::exists(file)) throw Error(ErrorKind::usage, file.string(), "does not exist yet", fmt::format("run `icefield {} {}` first", step, survey.folder().string()));
  return file;
}

inline std::size_t photo_by_name(const PhotoList& list, const std::string& name, std::size_t otherwise) {
  if (name.empty()) return otherwise;
  for (std::size_t i = 0; i < list.used; ++i)
    if (list.photos[i].name == name) return i;
  throw Error(ErrorKind::usage, name, "is no photo that takes part", "`icefield photos` lists them");
}
