// `icefield agree`: surveys of parts of the photos against one of all of them.
#include <map>

#include "command.h"
#include "icefield/io/mesh_file.h"
#include "icefield/judge/agree.h"
#include "icefield/report/documents.h"
#include "icefield/surface/sample_mesh.h"
#include "icefield/survey/make_mesh.h"

using namespace icefield;

namespace {

struct Request {
  std::vector<std::string> parts, surfaces;
};

// Of a block, in its own frame.
std::vector<NamedPose> poses_of(Survey& survey) {
  std::vector<NamedPose> poses = named_poses(survey.cameras(0));
  const Block& block = survey.block(0);
  for (std::size_t i = 0; i < poses.size(); ++i) poses[i].pose = block.photos[i].pose;
  return poses;
}

// Sampled once a pixel, in the frame of the whole.
PointCloud surface_of(Survey& part, const std::filesystem::path& file, const Similarity& to_whole, double gsd,
                      const Executor& executor) {
  PointCloud cloud = sample_mesh(mesh_in_frame(read_mesh(file), part.world_frame(0)), gsd / to_whole.scale, executor);
  for (std::size_t i = 0; i < cloud.size(); ++i) {
    cloud.positions[i] = (to_whole * cloud.position(i)).cast<float>();
    cloud.normals[i] = (to_whole.rotation * cloud.normals[i].cast<double>()).cast<float>();
  }
  cloud.origin.setZero();
  return cloud;
}

int run(const Common& common, const Request& request, Monitor& monitor) {
  if (!request.surfaces.empty() && request.surfaces.size() != request.parts.size())
    throw Error(ErrorKind::usage, "--surfaces", "are not as many as the parts", "give one for each, in their order");
  const Executor executor = executor_of(common);
  Survey whole = open_survey(common, monitor);
  const std::vector<NamedPose> all = poses_of(whole);
  const Block& block = whole.block(0);
  const double gsd = block_statistics(block).median_gsd;
  std::map<std::string, std::size_t> place;
  for (std::size_t i = 0; i < all.size(); ++i) place[all[i].name] = i;

  PartsAgreement found;
  found.units = block.datum.units_name();
  std::vector<int> part_of(block.photos.size(), kNoPart);
  std::vector<PointCloud> surfaces;
  for (std::size_t k = 0; k < request.parts.size(); ++k) {
    Survey part(request.parts[k], executor, monitor);
    const std::vector<NamedPose> own = poses_of(part);
    for (const NamedPose& pose : own)
      if (const auto at = place.find(pose.name); at != place.end()) part_of[at->second] = static_cast<int>(k);
    const auto cameras = compare_cameras(own, all);
    if (!cameras)
      throw Error(ErrorKind::input, request.parts[k],
                  fmt::format("shares fewer than three photos with block 1 of {} (of {}), or they stand in one line",
                              common.survey, whole.need_posed().blocks.size()),
                  whole.need_posed().blocks.size() > 1
                      ? "the parts have not come together: photos of both from like sides, larger ones, or marks "
                        "(`icefield join --by-marks`) tie them"
                      : "name surveys of some of its photos");
    found.parts.push_back({request.parts[k], *cameras});
    if (!request.surfaces.empty())
      surfaces.push_back(surface_of(part, request.surfaces[k], cameras->to_truth, gsd, executor));
  }
  found.ties = ties_across(block, part_of);
  for (std::size_t i = 0; i < surfaces.size(); ++i)
    for (std::size_t k = i + 1; k < surfaces.size(); ++k)
      found.surfaces.push_back(
          {request.parts[i], request.parts[k], compare_surfaces(surfaces[i], surfaces[k], gsd, 10, executor)});
  show(agreement_document(found), common, monitor);
  return 0;
}

}  // namespace

Command agree_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options = survey_command(tool, common, "agree",
                                     "How well surveys of parts of the photos agree with one of all of them: poses, "
                                     "tie points across, and their surfaces with one another");
  options.option("parts", request->parts, "Surveys of parts of the photos").required();
  options.option("--surfaces", request->surfaces,
                 "Of each part a mesh (PLY, OBJ, STL, .glb) in the coordinates of its block, cropped to what was not "
                 "moved by itself");
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
