// `icefield terrain`: ground, surface model and terrain model of a survey, or of any cloud.
#include "command.h"
#include "icefield/report/documents.h"
#include "icefield/survey/make_terrain.h"

using namespace icefield;
namespace fs = std::filesystem;

namespace {

// Of a cloud that belongs to no survey.
int run_on_cloud(const Common& common, const std::string& output, Monitor& monitor) {
  if (output.empty())
    throw Error(ErrorKind::usage, common.survey, "is a cloud, and nothing says where its models go",
                "name a folder with --output");
  const Settings settings = settings_of_section(common, "terrain");
  std::error_code fault;
  fs::create_directories(output, fault);
  if (fault)
    throw Error(ErrorKind::resource, output, "cannot be made: " + fault.message(), "give a folder that can be written");
  const fs::path folder = output;
  const TiledCloud cloud(common.survey);
  TerrainReport report = make_terrain(cloud, 0, settings.terrain,
                                      {folder / "classes.ply", folder / "dsm.tif", folder / "dsm_quality.tif",
                                       folder / "dtm.tif", folder / "dtm_quality.tif"},
                                      "", executor_of(common), monitor);
  report.file = folder / "dsm.tif";
  show(terrain_document({&report, 1}, cloud.content().datum.units_name()), common, monitor,
       fmt::format("icefield heights {} --picture {}", report.file.string(), (folder / "dsm.png").string()));
  return 0;
}

int run(const Common& common, const std::string& output, Monitor& monitor) {
  std::error_code ignored;
  if (fs::is_regular_file(common.survey, ignored)) return run_on_cloud(common, output, monitor);
  if (!output.empty())
    throw Error(ErrorKind::usage, "--output " + output, "is for a cloud that belongs to no survey",
                "leave it out: the models go into the survey's results");
  Survey survey = open_survey(common, monitor);
  apply_settings(survey, common);
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
  const auto output = std::make_shared<std::string>();
  Arguments options = survey_command(
      tool, common, "terrain",
      "Which points of the dense cloud lie on the ground, and heights in plan: the surface with all that stands on it "
      "(DSM) and the ground alone (DTM), each cell with its error. In place of a survey a cloud (PLY) can be named");
  options.option("--set", common.set, "section.key=value, more than once; kept in survey.toml").one_each();
  options.option("--output", *output, "For a cloud: the folder that its models go into");
  return {options, [output, &common](Monitor& monitor) { return run(common, *output, monitor); }};
}
