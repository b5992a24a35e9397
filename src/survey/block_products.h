// Steps that make files for each block out of those of the step before.
#pragma once
#include <algorithm>
#include <functional>
#include <string>
#include <vector>

#include "src/survey/survey_state.h"

namespace icefield {

template <class Report>
struct BlockProduct {
  std::string step;                             // "mesh"
  std::vector<std::string> files;               // "mesh.ply"; the first stands for all
  std::function<Fingerprint(std::size_t)> key;  // by block
  Report (*read)(const Bytes&);                 // its record
  Bytes (*record)(const Report&);
  // Writes the files.
  std::function<void(std::size_t block, const std::string& fingerprint, const std::vector<std::filesystem::path>& files,
                     Report&)>
      make;
  std::function<void()> prepare;       // before anything is made: takes the lock, runs the step before
  std::function<StepInputs()> inputs;  // of the step, for the record of its last run
};

// Makes what is not current, and tells of each block.
template <class State, class Report>
std::vector<Report> make_block_products(State& state, const BlockProduct<Report>& what, Monitor& monitor) {
  const auto start = std::chrono::steady_clock::now();
  const auto within = [&](std::size_t b) { return state.holds_subject(state.posed->blocks[b]); };
  const auto known_report = [&](std::size_t b) -> std::optional<Report> {
    const Fingerprint key = what.key(b);
    auto known = state.store.read(what.step, key, what.read);
    if (!known || !std::all_of(what.files.begin(), what.files.end(), [&](const std::string& file) {
          return state.products.state_of(block_file_name(b, file), key) == FileState::current;
        }))
      return std::nullopt;
    known->fresh = true;
    return known;
  };
  bool computed = false;
  for (std::size_t b = 0; b < state.posed->blocks.size(); ++b) computed = computed || (within(b) && !known_report(b));
  if (computed) what.prepare();
  std::vector<Report> reports;
  typename State::RecordNames needs;
  for (std::size_t b = 0; b < state.posed->blocks.size(); ++b) {
    std::vector<std::string> names;
    for (const std::string& file : what.files) names.push_back(block_file_name(b, file));
    if (!within(b)) {
      if (computed)
        for (const std::string& name : names) state.products.remove(name);
      continue;
    }
    const Fingerprint key = what.key(b);
    std::optional<Report> report = known_report(b);
    if (!report) {
      report.emplace();
      std::vector<std::filesystem::path> paths;
      for (const std::string& name : names) {
        if (const auto aside = state.products.make_room(name))
          monitor.log(LogLevel::warning, state.products.file(name).string() +
                                             ": was changed by another program; put aside as " +
                                             aside->filename().string() + " and made again");
        paths.push_back(state.products.file(name));
      }
      make_folder(paths.front().parent_path());
      what.make(b, key.hex(), paths, *report);
      state.store.put(what.step, key, what.record(*report));
      for (const std::string& name : names) state.products.written(name, key);
    }
    report->block = b;
    report->file = state.products.file(names.front());
    reports.push_back(std::move(*report));
    needs.emplace_back(what.step, key);
  }
  const StepInputs inputs = what.inputs();
  const auto last = state.last(what.step);
  if (computed || (state.lock && (!last || last->key != key_of(inputs)))) {
    state.remember_needs(what.step, needs);
    state.remember(what.step, inputs, computed ? seconds_since(start) : last ? last->seconds : 0);
  }
  return reports;
}

}  // namespace icefield
