// `icefield overlap`: how well the photos cover the ground, before anything dense is made.
#include "command.h"
#include "icefield/io/raster_file.h"
#include "icefield/report/documents.h"

using namespace icefield;

namespace {

struct Request {
  std::string output;
  OverlapOptions options;
  std::size_t block = 0;
};

void write_map(const std::string& file, const OverlapReport& report) {
  const OverlapMap& map = report.map;
  const std::string units = report.datum.units_name();
  RasterContent content;
  content.frame = map.frame, content.datum = report.datum;
  content.bands = {"photos that see the place", "GSD of the nearest, " + units,
                   "largest angle between two of them, degrees", "expected error of the height, " + units};
  RasterWriter out(file, content);
  ImageF all(map.frame.columns, map.frame.rows, 4);
  for (std::size_t i = 0; i < map.views.data().size(); ++i) {
    float* v = all.values().data() + 4 * i;
    v[0] = map.views.data()[i], v[1] = map.gsd.data()[i], v[2] = map.angle.data()[i], v[3] = map.error.data()[i];
  }
  out.write(0, 0, all);
  out.finish();
}

int run(const Common& common, const Request& request, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  const std::size_t blocks = survey.posed() ? survey.posed()->blocks.size() : survey.need_free_blocks().blocks.size();
  std::vector<OverlapReport> reports;
  for (std::size_t b = 0; b < blocks; ++b)
    if (request.block == 0 || request.block == b + 1) reports.push_back(survey.overlap(b, request.options));
  if (reports.empty())
    throw Error(ErrorKind::usage, fmt::format("block {}", request.block), "does not exist",
                fmt::format("the survey has {}", blocks));
  if (!request.output.empty()) {
    if (reports.size() > 1)
      throw Error(ErrorKind::usage, "--output " + request.output, "has room for one block's map",
                  "say which with --block");
    if (reports[0].summary.outcome != "made")
      throw Error(ErrorKind::computation, common.survey, "has no map: " + reports[0].summary.outcome,
                  "look at the photos with `icefield photos " + common.survey + "`");
    write_map(request.output, reports[0]);
  }
  show(overlap_document(reports), common, monitor,
       fmt::format("icefield view {} overlap --by views; or gsd, angle, error", common.survey));
  return 0;
}

}  // namespace

Command overlap_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options = survey_command(
      tool, common, "overlap",
      "How many photos see each place of the ground, how finely, under which angle and with which error of the height: "
      "right after `pose`, with advice where photos are missing and from where to take them");
  options.option("--block", request->block, "That block alone");
  options.option("--cell", request->options.cell, "Size of the map's cells; 0: some 300 along the longer side")
      .between(0.0, 1e9);
  options.option("--wanted", request->options.wanted, "Photos that each place needs").between(2, 50).with_default();
  options.option("--output", request->output, "The map as GeoTIFF of four bands");
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
