// `icefield join`
#include "command.h"
#include "icefield/report/documents.h"

using namespace icefield;

namespace {

struct Request {
  std::size_t first = 1, second = 2;
  JoinOptions options;
};

int run(const Common& common, const Request& request, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  survey.need_free_blocks();
  const JoinResult joined = survey.join(request.first - 1, request.second - 1, request.options);
  if (!joined.joined)
    throw Error(ErrorKind::computation, fmt::format("blocks {} and {}", request.first, request.second),
                "cannot be joined (" + joined.outcome + ")",
                "photos that show both parts tie them together; --least asks for fewer common points");
  show(join_document(survey.photos(), survey.need_free_blocks(), joined), common, monitor,
       fmt::format("icefield view {0} block; icefield adjust {0} --undo parts them again", common.survey));
  return 0;
}

}  // namespace

Command join_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options = survey_command(
      tool, common, "join",
      "Lay one block into another by their common tie points and adjust; adjust --undo parts them again");
  options.option("first", request->first, "Number of a block: its frame stays").required().positive();
  options.option("second", request->second, "Number of the other").required().positive();
  options.option("--least", request->options.min_agreeing, "Common tie points that must agree")
      .between(3, 100000)
      .with_default();
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
