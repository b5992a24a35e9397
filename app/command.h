// What commands have in common: the options of all, opening a survey, showing a document.
#pragma once
#include <fmt/format.h>

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "app/arguments.h"
#include "icefield/report/document.h"
#include "icefield/camera/pose_convention.h"
#include "icefield/survey/survey.h"

// Options that all commands on a survey take.
struct Common {
  std::string survey;
  int threads = 0;
  bool json = false, quiet = false, verbose = false;
  std::string effort, instructions, memory;
  std::vector<std::string> set;
};

// A command as the tool's front knows it. It prints its result and returns the exit status.
struct Command {
  Arguments options;
  std::function<int(icefield::Monitor&)> run;
};

// A subcommand on a survey with the options of all. `needed`: there is nothing that it does without one.
Arguments survey_command(Arguments& tool, Common& common, const char* name, const char* help, bool needed = true);
// And --effort and --set.
Arguments with_settings(Arguments options, Common& common);
// --block, from 1.
void with_block(Arguments options, std::size_t& block);

// With the threads and the memory that were asked for.
icefield::Executor executor_of(const Common& common);
icefield::Survey open_survey(const Common& common, icefield::Monitor& monitor);
// Settings given on the command line go into the survey's file, so that a later run sees them too. An effort given to a
// step is that step's alone.
void apply_settings(icefield::Survey& survey, const Common& common, const std::string& step = "");

// How a command is told in which convention poses are written.
struct ConventionWords {
  std::string angles, rotation, axes, place;
  bool radians = false;
  // Of a form, with what was said otherwise; `translation` where nothing was said of places.
  icefield::PoseConvention of(icefield::RotationForm form, bool translation = false) const;
  // That of `angles`.
  icefield::PoseConvention of_angles() const;
};
void with_convention(Arguments options, ConventionWords& words, const char* angles);

// Of a command that works on a file alone: defaults with what --set says of this section. Throws Error(usage) where it
// says anything else.
icefield::Settings settings_of_section(const Common& common, const std::string& section);

// On standard output; its warnings to the log. `hint`: what to do next, for people.
void show(const icefield::Document& document, const Common& common, icefield::Monitor& monitor,
          const std::string& hint = "");
void next(const std::string& hint);
std::string error_json(const icefield::Error& error);

// A file each.
Command begin_command(Arguments& tool, Common& common);
Command photos_command(Arguments& tool, Common& common);
Command match_command(Arguments& tool, Common& common);
Command pose_command(Arguments& tool, Common& common);
Command adjust_command(Arguments& tool, Common& common);
Command join_command(Arguments& tool, Common& common);
Command georeference_command(Arguments& tool, Common& common);
Command mark_command(Arguments& tool, Common& common);
Command measure_command(Arguments& tool, Common& common);
Command targets_command(Arguments& tool, Common& common);
Command densify_command(Arguments& tool, Common& common);
Command mesh_command(Arguments& tool, Common& common);
Command sharpen_command(Arguments& tool, Common& common);
Command texture_command(Arguments& tool, Common& common);
Command heights_command(Arguments& tool, Common& common);
Command orthomosaic_command(Arguments& tool, Common& common);
Command overlap_command(Arguments& tool, Common& common);
Command given_command(Arguments& tool, Common& common);
Command facade_command(Arguments& tool, Common& common);
Command terrain_command(Arguments& tool, Common& common);
Command bake_command(Arguments& tool, Common& common);
Command masks_command(Arguments& tool, Common& common);
Command reshape_command(Arguments& tool, Common& common);
Command page_command(Arguments& tool, Common& common);
Command cloud_command(Arguments& tool, Common& common);
Command export_command(Arguments& tool, Common& common);
Command agree_command(Arguments& tool, Common& common);
Command compare_command(Arguments& tool, Common& common);
Command view_command(Arguments& tool, Common& common);
Command pair_command(Arguments& tool, Common& common);
Command run_command(Arguments& tool, Common& common);
Command status_command(Arguments& tool, Common& common);
Command tidy_command(Arguments& tool, Common& common);
Command settings_command(Arguments& tool, Common& common);
Command demo_command(Arguments& tool, Common& common);
