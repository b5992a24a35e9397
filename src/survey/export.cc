#include "icefield/survey/export.h"

#include <fmt/format.h>

#include "icefield/io/photo_file.h"
#include "src/survey/survey_state.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

// Of the file made of a photo of a block; the number keeps photos of one name apart.
std::string file_name(const std::string& photo, std::size_t index, const std::string& extension) {
  return fs::path(photo).filename().stem().string() + fmt::format("_{:04}.{}", index + 1, extension);
}

}  // namespace

Camera without_distortion(const Camera& camera) {
  Camera plain = make_camera(CameraModel::pinhole, camera.width, camera.height, camera.focal());
  plain.parameters[1] = camera.parameters[1];
  plain.parameters[2] = camera.parameters[2];
  return plain;
}

std::size_t export_undistorted(Survey& survey, std::size_t block, const fs::path& folder, const Executor& executor,
                               Monitor& monitor) {
  const Block& posed = survey.block(block);
  const PhotoList& list = survey.photos();
  CameraFile cameras = survey.cameras(block);
  const auto pictures = survey.source();
  make_folder(folder);
  executor.run("undistort", posed.photos.size(), monitor, [&](std::size_t i) {
    const PosedPhoto& photo = posed.photos[i];
    const SurveyPhoto& source = list.photos[photo.photo.value];
    const DenseView view = undistort(pictures->load(photo.photo), posed.camera_of(photo), photo.pose, 1);
    PhotoMetadata metadata = source.metadata;
    metadata.display_rotation = 1;
    write_photo(folder / file_name(source.name, i, "png"), view.colour, metadata);
  });
  for (Camera& camera : cameras.cameras) camera = without_distortion(camera);
  for (std::size_t i = 0; i < cameras.photos.size(); ++i)
    cameras.photos[i].name = file_name(cameras.photos[i].name, i, "png");
  write_camera_file(folder / "cameras.json", cameras);
  return posed.photos.size();
}

std::size_t export_depth_maps(Survey& survey, std::size_t block, const fs::path& folder, const std::string& extension,
                              Monitor& monitor) {
  const Block& posed = survey.block(block);
  const CameraFile known = survey.cameras(block);
  make_folder(folder);
  CameraFile cameras = known;
  cameras.cameras.clear(), cameras.camera_names.clear(), cameras.photos.clear();
  for (std::size_t i = 0; i < posed.photos.size(); ++i) {
    monitor.check();
    monitor.progress("depth maps", i, posed.photos.size());
    const auto map = survey.depth_map(block, i);
    if (!map) continue;  // a photo without neighbours
    ImageF depth = map->depth;
    for (int y = 0; y < depth.height(); ++y)
      for (int x = 0; x < depth.width(); ++x)
        if (map->cost_at(x, y) > survey.settings().dense.max_cost) depth.at(x, y) = 0;
    const std::string photo = survey.photo_name(posed.photos[i].photo), name = file_name(photo, i, extension);
    write_float_image(folder / name, depth);
    cameras.photos.push_back({name, cameras.cameras.size(), map->pose, known.photos[i].gsd});
    cameras.cameras.push_back(map->camera);
    cameras.camera_names.push_back("depth map of " + photo);
  }
  if (cameras.photos.empty())
    throw Error(ErrorKind::usage, survey.folder().string(), "has no fresh depth map",
                "run `icefield densify " + survey.folder().string() + "` first");
  cameras.fingerprint.clear();
  write_camera_file(folder / "cameras.json", cameras);
  return cameras.photos.size();
}

double smallest_gsd(const CameraFile& cameras) {
  double gsd = 0;
  for (const CameraFile::Photo& photo : cameras.photos)
    if (photo.gsd > 0 && (gsd == 0 || photo.gsd < gsd)) gsd = photo.gsd;
  return gsd;
}

}  // namespace icefield
