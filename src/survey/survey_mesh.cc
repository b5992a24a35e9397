// The mesh of each block.
#include <fmt/format.h>

#include <algorithm>

#include "icefield/io/mesh_file.h"
#include "icefield/io/ply_file.h"
#include "icefield/survey/make_mesh.h"
#include "src/survey/survey_state.h"

namespace icefield {
namespace fs = std::filesystem;

std::vector<MeshReport> Survey::mesh() {
  densify();
  State& state = *state_;
  const auto start = std::chrono::steady_clock::now();
  const auto within = [&](std::size_t b) { return state.holds_subject(state.posed->blocks[b]); };
  const auto known_report = [&](std::size_t b) -> std::optional<MeshReport> {
    const Fingerprint key = state.mesh_key(settings_, b);
    auto known = state.store.read("mesh", key, read_mesh_record);
    if (!known || state.products.state_of(block_file_name(b, "mesh.ply"), key) != FileState::current)
      return std::nullopt;
    known->fresh = true;
    return known;
  };
  bool computed = false;
  for (std::size_t b = 0; b < state.posed->blocks.size(); ++b) computed = computed || (within(b) && !known_report(b));
  if (computed) {
    lock();
    densify();
  }
  std::vector<MeshReport> reports;
  State::RecordNames needs;
  for (std::size_t b = 0; b < state.posed->blocks.size(); ++b) {
    const std::string name = block_file_name(b, "mesh.ply");
    if (!within(b)) {
      if (computed) state.products.remove(name);
      continue;
    }
    const Fingerprint key = state.mesh_key(settings_, b);
    std::optional<MeshReport> report = known_report(b);
    if (!report) {
      report.emplace();
      if (const auto aside = state.products.make_room(name))
        monitor_.log(LogLevel::warning, state.products.file(name).string() +
                                            ": was changed by another program; put aside as " +
                                            aside->filename().string() + " and made again");
      const Mesh mesh = make_mesh(read_ply(cloud_file(b)), settings_.mesh, *report, executor_, monitor_);
      if (mesh.empty())
        monitor_.log(LogLevel::warning, fmt::format("block {}: has no mesh: {}", b + 1,
                                                    report->fitted.outcome == "fitted"
                                                        ? "nothing has the support that mesh.min_support asks for"
                                                        : report->fitted.outcome));
      MeshFileOptions options;
      options.fingerprint = key.hex();
      make_folder(state.products.file(name).parent_path());
      write_mesh(state.products.file(name), mesh, MeshFormat::ply, options);
      state.store.put("mesh", key, mesh_record(*report));
      state.products.written(name, key);
    }
    report->block = b;
    report->file = state.products.file(name);
    reports.push_back(std::move(*report));
    needs.emplace_back("mesh", key);
  }
  const StepInputs inputs = state.inputs_of_mesh(settings_);
  const auto last = state.last("mesh");
  if (computed || (state.lock && (!last || last->key != key_of(inputs)))) {
    state.remember_needs("mesh", needs);
    state.remember("mesh", inputs, computed ? seconds_since(start) : last ? last->seconds : 0);
  }
  if (std::all_of(reports.begin(), reports.end(), [](const MeshReport& r) { return r.check.faces == 0; }))
    throw Error(ErrorKind::computation, folder_.string(),
                "has no cloud that a surface can be fitted to" +
                    (reports.empty() ? std::string() : ": " + reports.front().fitted.outcome),
                "look at the cloud with `icefield view " + folder_.string() + " cloud`");
  return reports;
}

std::filesystem::path Survey::mesh_file(std::size_t block) {
  this->block(block);
  const std::string name = block_file_name(block, "mesh.ply");
  const fs::path file = state_->products.file(name);
  const std::string remedy = "run `icefield mesh " + folder_.string() + "`";
  if (!state_->holds_subject(state_->posed->blocks[block]))
    throw Error(ErrorKind::usage, fmt::format("block {}", block + 1),
                "has no tie point within the bounds and so no mesh",
                "give other bounds to `icefield densify " + folder_.string() + "`");
  const FileState found = state_->products.state_of(name, state_->mesh_key(settings_, block));
  if (found == FileState::current) return file;
  if (found == FileState::missing)
    throw Error(ErrorKind::usage, file.string(), "does not exist yet", remedy + " first");
  std::string why = describe(found);
  if (const auto last = state_->last("mesh"); last && found == FileState::other)
    for (const std::string& reason : differences(last->inputs, state_->inputs_of_mesh(settings_))) why += "; " + reason;
  throw Error(ErrorKind::usage, file.string(), why, remedy + " to make it anew, or take it as it is with --stale");
}

}  // namespace icefield
