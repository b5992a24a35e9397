// icefield: the command-line tool, over the public headers only.
#include <cstdio>
#include <filesystem>
#include <new>

#include "command.h"
#include "icefield/base/instructions.h"
#include "terminal.h"

namespace {

constexpr int kNotComputed = 1, kWrongUsage = 2, kBadInput = 3, kInterrupted = 130;

int exit_status(icefield::ErrorKind kind) {
  switch (kind) {
    case icefield::ErrorKind::usage:
      return kWrongUsage;
    case icefield::ErrorKind::input:
      return kBadInput;
    case icefield::ErrorKind::computation:
    case icefield::ErrorKind::resource:
      return kNotComputed;
    case icefield::ErrorKind::interrupted:
      break;
  }
  return kInterrupted;
}

int say_error(const icefield::Error& error, const Common& common) {
  if (common.json) fmt::print("{}\n", error_json(error));
  fmt::print(stderr, "icefield: {}\n", error.what());
  return exit_status(error.kind());
}

int run(const Command& command, const Common& common) {
  TerminalMonitor monitor(common.quiet, common.verbose);
  try {
    icefield::require_baseline_instructions();
    if (!common.instructions.empty()) icefield::pin_instruction_level(common.instructions);
    return command.run(monitor);
  } catch (const icefield::Error& e) {
    monitor.progress("", 1, 1);
    return say_error(e, common);
  } catch (const std::filesystem::filesystem_error& e) {
    return say_error(icefield::Error(icefield::ErrorKind::resource, e.path1().string(),
                                     "cannot be used (" + e.code().message() + ")", "check permissions and free space"),
                     common);
  } catch (const std::bad_alloc&) {
    fmt::print(stderr, "icefield: memory: is used up; close other programs, or use --effort draft\n");
  } catch (const std::exception& e) {
    fmt::print(stderr, "icefield: unexpected: {}; please report it with the command\n", e.what());
  }
  return kNotComputed;
}

}  // namespace

int main(int argc, char** argv) {
  Arguments tool(
      "Icefield turns photo sets into measured 3D.\n"
      "The steps in order: begin, match, pose, adjust, georeference, densify, then mesh and texture, or terrain and "
      "orthomosaic; `run` does what is stale; "
      "`view` and `compare` look at it.");
  tool.version("icefield " ICEFIELD_VERSION);
  tool.needs_command();
  tool.help_width(34);
  Common common;
  std::vector<Command> commands;
  for (const auto add :
       {begin_command,   photos_command,  match_command,   pose_command,         adjust_command,  join_command,
        mark_command,    measure_command, targets_command, georeference_command, densify_command, mesh_command,
        sharpen_command, texture_command, terrain_command, orthomosaic_command,  overlap_command, given_command,
        facade_command,  heights_command, bake_command,    masks_command,        reshape_command, page_command,
        cloud_command,   export_command,  compare_command, agree_command,        view_command,    pair_command,
        run_command,     status_command,  tidy_command,    settings_command,     demo_command})
    commands.push_back(add(tool, common));
  if (!tool.parse(argc, argv)) return tool.status();
  for (const Command& command : commands)
    if (command.options.given()) return run(command, common);
  return kWrongUsage;
}
