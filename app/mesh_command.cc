// `icefield mesh`: a surface of the dense cloud of a survey, or of any cloud.
#include "command.h"
#include "icefield/io/mesh_file.h"
#include "icefield/io/ply_file.h"
#include "icefield/report/documents.h"
#include "icefield/survey/make_mesh.h"
#include "icefield/survey/photos_by_name.h"

using namespace icefield;
namespace fs = std::filesystem;

namespace {

struct Request {
  std::string output, cameras, photos;
};

// Of a cloud that belongs to no survey.
int run_on_cloud(const Common& common, const Request& request, Monitor& monitor) {
  if (request.output.empty())
    throw Error(ErrorKind::usage, common.survey, "is a cloud, and nothing says where its mesh goes",
                "name a .ply, .obj, .stl or .glb with --output");
  const MeshFormat format = mesh_format_of(request.output);
  const Settings settings = settings_of_section(common, "mesh");
  if (request.cameras.empty() != request.photos.empty())
    throw Error(ErrorKind::usage, request.cameras.empty() ? "--photos" : "--cameras",
                "is given alone, and sharpening the mesh needs both", "give --cameras and --photos, or neither");
  MeshReport report;
  const PointCloud cloud = cloud_for_mesh(common.survey, settings.mesh, report);
  std::optional<PosedPhotos> posed;
  std::optional<PosedSource> photos;
  if (!request.cameras.empty()) {
    posed = photos_by_name(read_camera_file(request.cameras), request.photos);
    photos.emplace(PosedSource{posed->block, *posed->photos, posed->frame});
  }
  const Mesh mesh = make_mesh(cloud, settings.mesh, photos ? &*photos : nullptr, report, executor_of(common), monitor);
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
  if (!request.cameras.empty() || !request.photos.empty())
    throw Error(ErrorKind::usage, "mesh", "knows cameras and photos of a survey by itself",
                "leave out --cameras and --photos");
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
                     "error at each vertex, sharpened by the photos. In place of a survey a cloud (PLY) can be named");
  options.option("--set", common.set, "section.key=value, more than once; kept in survey.toml").one_each();
  options.option("--output", request->output, "For a cloud: the mesh, .ply, .obj, .stl or .glb");
  options.option("--cameras", request->cameras,
                 "For a cloud: cameras.json in its coordinates, to sharpen the mesh by the photos");
  options.option("--photos", request->photos, "For a cloud: the folder with the photos that it names");
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
