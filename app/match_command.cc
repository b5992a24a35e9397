// `icefield match`
#include "command.h"
#include "icefield/report/documents.h"

using namespace icefield;

Command match_command(Arguments& tool, Common& common) {
  const auto pairs = std::make_shared<std::string>();
  Arguments options =
      with_settings(survey_command(tool, common, "match",
                                   "Find and describe features, choose pairs of photos, match and verify them"),
                    common);
  options.option(
      "--pairs", *pairs,
      "Text file of pairs to try whatever else is chosen, lines PHOTO | PHOTO; kept in the survey's pairs.txt");
  return {options, [pairs, &common](Monitor& monitor) {
            Survey survey = open_survey(common, monitor);
            apply_settings(survey, common, "match");
            if (!pairs->empty()) survey.list_pairs(*pairs);
            const MatchReport report = survey.match();
            const bool none = report.verified == 0;
            show(match_document(survey.photos(), report), common, monitor,
                 none ? "" : "icefield pose " + common.survey);
            if (none)
              throw Error(ErrorKind::computation, common.survey, "no pair of photos shares a view",
                          "take photos that overlap by two thirds; `icefield photos` shows sharpness and exposure");
            return 0;
          }};
}
