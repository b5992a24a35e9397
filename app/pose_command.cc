// `icefield pose`
#include "command.h"
#include "icefield/report/documents.h"

using namespace icefield;

Command pose_command(Arguments& tool, Common& common) {
  Arguments options =
      with_settings(survey_command(tool, common, "pose", "Estimate poses, triangulate tie points, adjust"), common);
  return {options, [&common](Monitor& monitor) {
            Survey survey = open_survey(common, monitor);
            apply_settings(survey, common, "pose");
            if (!common.effort.empty())
              monitor.log(LogLevel::info,
                          "no setting of `pose` hangs on the effort; `match --effort` finds more features or fewer");
            const OrientResult& result = survey.pose();
            show(pose_document(survey.photos(), result), common, monitor,
                 fmt::format("look at it with `icefield view {0} block`, then icefield densify {0}", common.survey));
            return 0;
          }};
}
