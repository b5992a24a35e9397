// `icefield texture`: pictures on the mesh of a survey, or on any mesh with cameras that are known.
#include "command.h"
#include "icefield/io/mesh_file.h"
#include "icefield/report/documents.h"
#include "icefield/survey/make_mesh.h"
#include "icefield/survey/photos_by_name.h"

using namespace icefield;
namespace fs = std::filesystem;

namespace {

struct Request {
  std::string output, cameras, photos;
  bool png = false;
};

// Of a mesh that belongs to no survey.
int run_on_mesh(const Common& common, const Request& request, Monitor& monitor) {
  if (request.output.empty() || request.cameras.empty() || request.photos.empty())
    throw Error(ErrorKind::usage, common.survey, "is a mesh, and something to texture it with is missing",
                "give --cameras, --photos and --output");
  const MeshFormat format = mesh_format_of(request.output);
  if (format != MeshFormat::glb && format != MeshFormat::obj)
    throw Error(ErrorKind::usage, request.output, "is of a format that carries no texture", "write .glb or .obj");
  const Settings settings = settings_of_section(common, "texture");
  Mesh mesh = read_mesh(common.survey);
  if (mesh.empty()) throw Error(ErrorKind::input, common.survey, "has no face", "give a mesh");
  const CameraFile cameras = read_camera_file(request.cameras);
  if (mesh.datum.crs.empty()) mesh.datum = cameras.datum;  // formats that cannot say it
  const PosedPhotos posed = photos_by_name(cameras, request.photos);
  TextureReport report;
  const TextureResult result = make_texture(mesh_in_frame(mesh, posed.frame), posed.block, *posed.photos,
                                            settings.texture, executor_of(common), monitor);
  report.summary = result.summary;
  report.file = request.output;
  if (report.summary.photos == 0)
    throw Error(ErrorKind::computation, common.survey, "is seen by no photo",
                "check that mesh and cameras are in one frame: same units, same axes");
  MeshFileOptions options;
  options.png_pages = request.png;
  write_mesh(request.output, apply_split(mesh, result.split), format, options, &result.texture);
  show(texture_document({&report, 1}, mesh.datum.units_name()), common, monitor);
  return 0;
}

int run(const Common& common, const Request& request, Monitor& monitor) {
  std::error_code ignored;
  if (fs::is_regular_file(common.survey, ignored)) return run_on_mesh(common, request, monitor);
  if (!request.output.empty() || !request.cameras.empty() || !request.photos.empty())
    throw Error(ErrorKind::usage, "texture", "knows cameras and photos of a survey by itself",
                "leave out --cameras, --photos and --output; icefield export " + common.survey + " --mesh FILE.glb");
  Survey survey = open_survey(common, monitor);
  apply_settings(survey, common);
  const std::vector<TextureReport> reports = survey.texture();
  show(texture_document(reports, survey.block(reports.front().block).datum.units_name()), common, monitor,
       fmt::format("icefield view {0} mesh --by texture; icefield export {0} --mesh {0}.glb", common.survey));
  return 0;
}

}  // namespace

Command texture_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options = survey_command(
      tool, common, "texture",
      "Pictures on the mesh of a survey, from its photos; or on any mesh (PLY, OBJ, STL, .glb) with known cameras");
  options.option("--set", common.set, "section.key=value, more than once; kept in survey.toml").one_each();
  options.option("--cameras", request->cameras,
                 "For a mesh: the cameras.json of the photos, in the mesh's coordinates");
  options.option("--photos", request->photos, "For a mesh: the folder with the photos that it names");
  options.option("--output", request->output, "For a mesh: .glb, or .obj with pages beside it");
  options.flag("--png", request->png, "For a mesh: pages as PNG, not JPEG");
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
