// `icefield terrain`: ground, surface model and terrain model of a survey, or of any cloud.
#include "command.h"
#include "icefield/io/vector_file.h"
#include "icefield/report/documents.h"
#include "icefield/survey/make_terrain.h"

using namespace icefield;
namespace fs = std::filesystem;

namespace {

struct Request {
  std::string output, ground_within, other_within;
};

// Outlines of a file as the setting that keeps them.
std::string hint_of(const std::string& file, const Datum& datum) {
  return text_of_outlines(read_plan_shapes(file, datum, ShapeKind::areas));
}

// Of a cloud that belongs to no survey.
int run_on_cloud(const Common& common, const Request& request, Monitor& monitor) {
  const std::string& output = request.output;
  if (output.empty())
    throw Error(ErrorKind::usage, common.survey, "is a cloud, and nothing says where its models go",
                "name a folder with --output");
  Settings settings = settings_of_section(common, "terrain");
  std::error_code fault;
  fs::create_directories(output, fault);
  if (fault)
    throw Error(ErrorKind::resource, output, "cannot be made: " + fault.message(), "give a folder that can be written");
  const fs::path folder = output;
  const TiledCloud cloud(common.survey);
  const Datum& datum = cloud.content().datum;
  if (!request.ground_within.empty()) settings.terrain.ground_within = hint_of(request.ground_within, datum);
  if (!request.other_within.empty()) settings.terrain.other_within = hint_of(request.other_within, datum);
  TerrainReport report = make_terrain(cloud, 0, settings.terrain,
                                      {folder / "classes.ply", folder / "dsm.tif", folder / "dsm_quality.tif",
                                       folder / "dtm.tif", folder / "dtm_quality.tif"},
                                      "", executor_of(common), monitor);
  report.file = folder / "dsm.tif";
  show(terrain_document({&report, 1}, cloud.content().datum.units_name()), common, monitor,
       fmt::format("icefield heights {} --picture {}", report.file.string(), (folder / "dsm.png").string()));
  return 0;
}

int run(const Common& common, const Request& request, Monitor& monitor) {
  std::error_code ignored;
  if (fs::is_regular_file(common.survey, ignored)) return run_on_cloud(common, request, monitor);
  if (!request.output.empty())
    throw Error(ErrorKind::usage, "--output " + request.output, "is for a cloud that belongs to no survey",
                "leave it out: the models go into the survey's results");
  Survey survey = open_survey(common, monitor);
  apply_settings(survey, common);
  if (!request.ground_within.empty() || !request.other_within.empty()) {
    survey.densify();
    const Datum datum = survey.block(0).datum;
    if (!request.ground_within.empty()) survey.set("terrain.ground_within", hint_of(request.ground_within, datum));
    if (!request.other_within.empty()) survey.set("terrain.other_within", hint_of(request.other_within, datum));
  }
  const std::vector<TerrainReport> reports = survey.terrain();
  if (reports.empty())
    throw Error(ErrorKind::computation, common.survey, "has no block within the bounds",
                "give other bounds to `icefield densify " + common.survey + "`");
  show(terrain_document(reports, survey.block(reports.front().block).datum.units_name()), common, monitor,
       fmt::format("icefield view {} terrain; icefield heights {}", common.survey, reports.front().file.string()));
  return 0;
}

}  // namespace

Command terrain_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options = survey_command(
      tool, common, "terrain",
      "Which points of the dense cloud lie on the ground, and heights in plan: the surface with all that stands on it "
      "(DSM) and the ground alone (DTM), each cell with its error. In place of a survey a cloud (PLY, LAS) can be "
      "named");
  options.option("--set", common.set, "section.key=value, more than once; kept in survey.toml").one_each();
  options.option("--output", request->output, "For a cloud: the folder that its models go into");
  options.option("--ground-within", request->ground_within,
                 "Areas in plan whose lowest points are ground, whatever they look like: GeoPackage, GeoJSON, or text "
                 "with a corner X Y in each line; kept in survey.toml");
  options.option("--other-within", request->other_within, "Areas in plan without ground; kept in survey.toml");
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
