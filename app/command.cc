#include "command.h"

#include <nlohmann/json.hpp>

#include "icefield/base/amounts.h"

using namespace icefield;

Arguments survey_command(Arguments& tool, Common& common, const char* name, const char* help, bool needed) {
  Arguments options = tool.command(name, help);
  Argument survey = options.option("survey", common.survey, "The survey's folder");
  if (needed) survey.required();
  options.flag("--json", common.json, "Results as JSON on standard output");
  options.option("--threads", common.threads, "Threads; 0: as many as the machine has").between(0, 1024);
  options.option("--memory", common.memory,
                 "Memory that the units in work may take together, as 8G or 512M; default: half of the machine's");
  options.option("--instructions", common.instructions,
                 "Pin the instruction level (avx2, avx512), for results that match another machine's");
  options.flag("--quiet", common.quiet, "Warnings and errors only on standard error");
  options.flag("--verbose", common.verbose, "What the steps decide, on standard error");
  return options;
}

Arguments with_settings(Arguments options, Common& common) {
  options.option("--effort", common.effort,
                 "draft, standard or fine; of a step: that step's alone, of begin, photos, run, settings and "
                 "demo: of all; kept in survey.toml");
  options.option("--set", common.set, "section.key=value, more than once; kept in survey.toml").one_each();
  return options;
}

void with_block(Arguments options, std::size_t& block) {
  options.option("--block", block, "Which block").positive();
}

Executor executor_of(const Common& common) {
  return Executor(common.threads, common.memory.empty() ? 0 : memory_from_text(common.memory));
}

Survey open_survey(const Common& common, Monitor& monitor) {
  return Survey(common.survey, executor_of(common), monitor);
}

PoseConvention ConventionWords::of(RotationForm form, bool translation) const {
  PoseConvention c = usual_convention(form);
  c.radians = radians, c.translation = translation;
  if (!rotation.empty()) c.to_world = rotation == "to-world";
  if (!axes.empty()) c.y_up = axes == "y-up";
  if (!place.empty()) c.translation = place == "translation";
  return c;
}
PoseConvention ConventionWords::of_angles() const {
  return of(rotation_form_by_name(angles).value_or(RotationForm::quaternion));
}

void with_convention(Arguments options, ConventionWords& words, const char* angles) {
  options.option("--angles", words.angles, angles)
      .one_of({"quaternion", "quaternion-xyzw", "matrix", "opk", "ypr", "ypr-down"});
  options.flag("--radians", words.radians, "Angles are in radians, not degrees");
  options.option("--rotation", words.rotation, "to-camera or to-world (default: to-world for opk, else to-camera)")
      .one_of({"to-camera", "to-world"});
  options
      .option("--camera-axes", words.axes,
              "y-down (x right, z ahead) or y-up (z backwards) (default: y-up for opk, else y-down)")
      .one_of({"y-down", "y-up"});
  options.option("--place", words.place, "centre (of projection) or translation (of the world into the camera)")
      .one_of({"centre", "translation"});
}

Settings settings_of_section(const Common& common, const std::string& section) {
  Settings settings;
  for (const std::string& text : common.set) {
    const std::size_t equals = text.find('=');
    if (equals == std::string::npos || !text.starts_with(section + "."))
      throw Error(ErrorKind::usage, "--set " + text, "says nothing of what is made here",
                  "write " + section + ".NAME=VALUE");
    settings.set(text.substr(0, equals), text.substr(equals + 1));
  }
  return settings;
}

void apply_settings(Survey& survey, const Common& common, const std::string& step) {
  if (!common.effort.empty()) survey.set_effort(common.effort, step);
  for (const std::string& entry : common.set) {
    const std::size_t equals = entry.find('=');
    if (equals == std::string::npos)
      throw Error(ErrorKind::usage, "--set " + entry, "is no setting", "write --set section.key=value");
    survey.set(entry.substr(0, equals), entry.substr(equals + 1));
  }
}

void show(const Document& document, const Common& common, Monitor& monitor, const std::string& hint) {
  for (const std::string& warning : document.warnings) monitor.log(LogLevel::warning, warning);
  if (common.json) {
    fmt::print("{}\n", document.json);
    return;
  }
  fmt::print("{}", document.text());
  if (!hint.empty()) next(hint);
}

void next(const std::string& hint) {
  fmt::print("Next: {}\n", hint);
}

std::string error_json(const Error& error) {
  return nlohmann::ordered_json{
      {"error", {{"subject", error.subject()}, {"fault", error.fault()}, {"remedy", error.remedy()}}}}
      .dump(1);
}
