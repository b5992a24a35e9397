// `icefield measure`: distances and angles between marked spots.
#include "command.h"
#include "icefield/report/documents.h"

using namespace icefield;

namespace {

struct Request {
  std::vector<std::string> spots;
  std::size_t block = 1;
};

int run(const Common& common, const Request& request, Monitor& monitor) {
  if (request.spots.size() < 2)
    throw Error(ErrorKind::usage, "measure", "has one spot to measure from", "name two marked points or more");
  Survey survey = open_survey(common, monitor);
  const std::vector<LocatedSpot> spots = survey.locate_spots(request.block - 1, request.spots);
  const Datum datum = survey.block(request.block - 1).datum;
  show(measure_document(survey.world_frame(request.block - 1), datum, request.spots, spots), common, monitor);
  return 0;
}

}  // namespace

Command measure_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options = survey_command(tool, common, "measure",
                                     "Places of marked spots, the distances between them, and of three the angle at "
                                     "the second, with their standard deviations");
  options.option("spots", request->spots, "Names of marked points, two or more").required();
  with_block(options, request->block);
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
