// `icefield compare`
#include "command.h"
#include "icefield/io/overlap_file.h"
#include "icefield/io/mesh_file.h"
#include "icefield/io/cloud_reader.h"
#include "icefield/report/documents.h"
#include "icefield/surface/sample_mesh.h"

using namespace icefield;

namespace {

struct Request {
  std::size_t block = 1;
  std::string cameras, surface, overlap;
  bool stale = false, mesh = false;
};

int run(const Common& common, const Request& request, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  SurveyTruth truth;
  truth.cameras = read_camera_file(request.cameras);
  truth.name = request.cameras;
  if (!request.overlap.empty()) truth.overlaps = read_overlap_file(request.overlap);
  if (!request.surface.empty()) truth.surface = read_cloud(request.surface);
  std::optional<PointCloud> cloud;
  if (truth.surface && request.mesh) {
    const auto file =
        request.stale ? survey.file_as_it_is(request.block - 1, "mesh.ply") : survey.mesh_file(request.block - 1);
    // A point for each pixel of the photos, in the frame of the block.
    const double gsd = block_statistics(survey.block(request.block - 1)).median_gsd;
    cloud = sample_mesh(read_mesh(file), gsd, executor_of(common));
    const WorldFrame frame = survey.world_frame(request.block - 1);
    for (std::size_t i = 0; i < cloud->size(); ++i)
      cloud->positions[i] = frame.to_local(cloud->position(i)).cast<float>();
    cloud->origin.setZero();
  } else if (truth.surface && request.stale) {
    cloud = read_cloud(survey.file_as_it_is(request.block - 1, "dense.ply"));
  }
  if (!survey.posed() && !truth.surface)
    monitor.log(LogLevel::warning, common.survey + ": has no fresh block: only the pairs are compared");
  const SurveyComparison compared =
      compare_survey(survey, request.block - 1, truth, std::move(cloud), executor_of(common), monitor);
  show(comparison_document(compared), common, monitor);
  return 0;
}

}  // namespace

Command compare_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options = survey_command(tool, common, "compare", "Measure cameras and cloud against known truth");
  with_block(options, request->block);
  options.option("--cameras", request->cameras, "True cameras (JSON as `export` writes it)").required();
  options.option("--overlap", request->overlap,
                 "True overlaps of photos (text as `icefield-simulate overlap` writes it)");
  options.option("--surface", request->surface,
                 "True surface (PLY with gsd, as `icefield-simulate surface` writes it)");
  options.flag("--mesh", request->mesh, "The mesh, sampled once a pixel, in place of the cloud");
  options.flag("--stale", request->stale,
               "The cloud or mesh as it lies there, even where it is of another state of the survey");
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
