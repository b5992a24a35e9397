// `icefield status`, `icefield tidy` and `icefield settings`
#include "command.h"
#include "icefield/report/documents.h"

using namespace icefield;

Command status_command(Arguments& tool, Common& common) {
  Arguments options =
      survey_command(tool, common, "status", "What is fresh, stale (and why) or missing, and what is on disk");
  return {options, [&common](Monitor& monitor) {
            Survey survey = open_survey(common, monitor);
            std::string open;
            for (const StepStatus& step : survey.status())
              if (open.empty() && step.state != StepState::fresh) open = step.step;
            show(status_document(survey), common, monitor,
                 open.empty() ? "all steps are fresh; icefield export " + common.survey + " --cloud FILE.ply"
                              : "icefield " + open + " " + common.survey);
            return 0;
          }};
}

Command tidy_command(Arguments& tool, Common& common) {
  const auto dry_run = std::make_shared<bool>(false);
  Arguments options =
      survey_command(tool, common, "tidy",
                     "Free what no present result needs: intermediates of other settings, files left half-written");
  options.flag("--dry-run", *dry_run, "Only show it");
  return {options, [dry_run, &common](Monitor& monitor) {
            Survey survey = open_survey(common, monitor);
            const DiskUse use = *dry_run ? survey.disk_use() : survey.tidy();
            show(disk_document(use, !*dry_run), common, monitor, "icefield status " + common.survey);
            return 0;
          }};
}

Command settings_command(Arguments& tool, Common& common) {
  Arguments options = with_settings(
      survey_command(tool, common, "settings", "Every setting with its meaning, unit, default and present value"),
      common);
  return {options, [&common](Monitor& monitor) {
            Survey survey = open_survey(common, monitor);
            apply_settings(survey, common);
            show(settings_document(survey.settings()), common, monitor,
                 "change one with `icefield settings " + common.survey + " --set section.key=value` or in survey.toml");
            return 0;
          }};
}
