// `icefield sharpen`: a mesh from anywhere moved to where photos with known cameras agree.
#include "command.h"
#include "icefield/io/mesh_file.h"
#include "icefield/report/documents.h"
#include "icefield/survey/make_mesh.h"
#include "icefield/survey/photos_by_name.h"

using namespace icefield;

namespace {

struct Request {
  std::string input, output, cameras, photos;
};

int run(const Common& common, const Request& request, Monitor& monitor) {
  const MeshFormat format = mesh_format_of(request.output);  // before anything is done
  const Settings settings = settings_of_section(common, "mesh");
  if (settings.mesh.sharpen.rounds == 0)
    throw Error(ErrorKind::usage, "mesh.sharpen", "is 0, which asks for nothing", "give the number of rounds");
  Mesh mesh = read_mesh(request.input);
  if (mesh.empty()) throw Error(ErrorKind::input, request.input, "has no face", "give a mesh");
  const CameraFile cameras = read_camera_file(request.cameras);
  if (mesh.datum.crs.empty()) mesh.datum = cameras.datum;  // formats that cannot say it
  const PosedPhotos posed = photos_by_name(cameras, request.photos);
  const SharpenSummary done = sharpen_in_frame(mesh, {posed.block, *posed.photos, posed.frame}, settings.mesh.sharpen,
                                               executor_of(common), monitor);
  if (done.rounds == 0)
    throw Error(ErrorKind::computation, request.input, "cannot be sharpened: " + done.outcome,
                done.photos_missing.empty() ? "check that mesh and cameras are in one frame: same units, same axes"
                                            : "give the folder where the photos lie: " + done.photos_missing.front());
  write_mesh(request.output, mesh, format);
  show(sharpen_document(done, request.output), common, monitor);
  return 0;
}

}  // namespace

Command sharpen_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options = tool.command("sharpen",
                                   "Move a mesh (PLY, OBJ, STL, .glb) to where photos with known cameras agree. The "
                                   "mesh of a survey is sharpened as "
                                   "it is made (mesh.sharpen)");
  options.option("input", request->input, "Mesh: .ply, .obj, .stl or .glb").required();
  options.option("--cameras", request->cameras, "The cameras.json of the photos, in the mesh's coordinates").required();
  options.option("--photos", request->photos, "The folder with the photos that it names").required();
  options.option("--output", request->output, "File to write: .ply, .obj, .stl or .glb").required();
  options.option("--set", common.set, "mesh.sharpen=ROUNDS and its other settings, more than once").one_each();
  options.flag("--json", common.json, "Results as JSON on standard output");
  options.flag("--quiet", common.quiet, "Warnings and errors only on standard error");
  options.option("--threads", common.threads, "Threads; 0: as many as the machine has").between(0, 1024);
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
