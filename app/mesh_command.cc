// `icefield mesh`: a surface of the dense cloud of a survey, or of any cloud.
#include "command.h"
#include "icefield/io/mesh_file.h"
#include "icefield/io/ply_file.h"
#include "icefield/report/documents.h"
#include "icefield/survey/make_mesh.h"

using namespace icefield;
namespace fs = std::filesystem;

namespace {

struct Request {
  std::string output;
};

// Of a cloud that belongs to no survey.
int run_on_cloud(const Common& common, const Request& request, Monitor& monitor) {
  if (request.output.empty())
    throw Error(ErrorKind::usage, common.survey, "is a cloud, and nothing says where its mesh goes",
                "name a .ply, .obj, .stl or .glb with --output");
  const MeshFormat format = mesh_format_of(request.output);
  const Settings settings = settings_of_section(common, "mesh");
  MeshReport report;
  const Mesh mesh = make_mesh(read_ply(common.survey), settings.mesh, report, executor_of(common), monitor);
  if (mesh.empty())
    throw Error(ErrorKind::computation, common.survey, "has no surface: " + report.fitted.outcome,
                "give a cloud with more points, or lower mesh.min_support");
  report.file = request.output;
  write_mesh(request.output, mesh, format);
  show(mesh_document({&report, 1}, mesh.datum.units_name()), common, monitor,
       fmt::format("icefield reshape {} trims, mends and lightens it", request.output));
  return 0;
}

int run(const Common& common, const Request& request, Monitor& monitor) {
  std::error_code ignored;
  if (fs::is_regular_file(common.survey, ignored)) return run_on_cloud(common, request, monitor);
  if (!request.output.empty())
    throw Error(ErrorKind::usage, "--output " + request.output, "is for a cloud that belongs to no survey",
                "icefield export " + common.survey + " --mesh " + request.output);
  Survey survey = open_survey(common, monitor);
  apply_settings(survey, common);
  const std::vector<MeshReport> reports = survey.mesh();
  show(mesh_document(reports, survey.block(reports.front().block).datum.units_name()), common, monitor,
       fmt::format("icefield view {0} mesh; icefield export {0} --mesh {0}.glb", common.survey));
  return 0;
}

}  // namespace

Command mesh_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options =
      survey_command(tool, common, "mesh",
                     "A surface of the dense cloud, which ends where the cloud ends, with a colour and the expected "
                     "error at each vertex. In place of a survey a cloud (PLY) can be named");
  options.option("--set", common.set, "section.key=value, more than once; kept in survey.toml").one_each();
  options.option("--output", request->output, "For a cloud: the mesh, .ply, .obj, .stl or .glb");
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
