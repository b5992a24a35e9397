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
            std::vector<OverlapReport> overlaps;
            for (std::size_t b = 0; b < result.blocks.size(); ++b) overlaps.push_back(survey.overlap(b));
            show(pose_document(survey.photos(), result, overlaps), common, monitor,
                 fmt::format("look at it with `icefield view {0} block` and `icefield view {0} overlap --by views`, "
                             "then icefield densify {0}",
                             common.survey));
            return 0;
          }};
}
