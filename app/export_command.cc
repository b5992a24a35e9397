// `icefield export`
#include <nlohmann/json.hpp>

#include "command.h"
#include "icefield/io/map_tiles.h"
#include "icefield/io/mesh_file.h"
#include "icefield/io/ply_file.h"
#include "icefield/io/pose_table.h"
#include "icefield/io/raster_file.h"
#include "icefield/io/text_file.h"
#include "icefield/survey/export.h"

using namespace icefield;
namespace fs = std::filesystem;

namespace {

struct Request {
  std::size_t block = 1;
  std::string cameras, tie_points, cloud, mesh, undistorted, depth_maps, depth_format = "tif", depth_points, photo,
                                                                         las = "1.4", orthomosaic, tiles, poses;
  ConventionWords words;
  std::string scene, photo_map, scene_photos = "png";
  std::uint64_t points = 200'000;
  bool fit = false;
  bool ascii = false, stale = false, y_up = false, plain = false, png = false;
  double scale = 1;
  bool wants_other_than_files() const {
    return !scene.empty() || !photo_map.empty() || !undistorted.empty() || !depth_maps.empty() || !depth_points.empty();
  }
};

class Export {
 public:
  Export(Survey& survey, const Request& request, const Common& common, Monitor& monitor)
      : survey_(survey), request_(request), common_(common), monitor_(monitor), block_(request.block - 1) {}

  void write_all() {
    if (!request_.cameras.empty()) cameras();
    if (!request_.poses.empty()) poses();
    if (!request_.scene.empty()) scene();
    if (!request_.photo_map.empty()) photo_map();
    if (!request_.tie_points.empty()) tie_points();
    if (!request_.cloud.empty()) cloud();
    if (!request_.mesh.empty()) mesh();
    if (!request_.undistorted.empty()) {
      const std::size_t photos =
          export_undistorted(survey_, block_, request_.undistorted, executor_of(common_), monitor_);
      note(request_.undistorted, fmt::format("{} photos without distortion, and cameras.json", photos));
    }
    if (!request_.depth_maps.empty()) {
      const std::size_t maps = export_depth_maps(survey_, block_, request_.depth_maps, request_.depth_format, monitor_);
      note(request_.depth_maps, fmt::format("{} depth maps, and cameras.json", maps));
    }
    if (!request_.depth_points.empty()) depth_points();
    if (!request_.orthomosaic.empty()) orthomosaic();
    if (!request_.tiles.empty()) tiles();
    if (common_.json) fmt::print("{}\n", nlohmann::ordered_json{{"written", written_}}.dump(1));
  }

 private:
  void note(const fs::path& file, const std::string& what) {
    written_.push_back({{"file", file.string()}, {"content", what}});
    if (!common_.json) fmt::print("{}: {}\n", file.string(), what);
  }
  CameraFile cameras_now() {
    return request_.stale ? read_camera_file(survey_.file_as_it_is(block_, "cameras.json")) : survey_.cameras(block_);
  }
  CloudFormat format_of(const fs::path& file) const {
    const CloudFormat format = cloud_format_of(file, request_.ascii);
    return format == CloudFormat::las && request_.las == "1.2" ? CloudFormat::las_12 : format;
  }
  // LAS keeps coordinates by the smallest pixel on the subject.
  double spacing(CloudFormat format) {
    const bool las = format == CloudFormat::las || format == CloudFormat::las_12;
    const double gsd = las ? smallest_gsd(cameras_now()) : 0;
    return gsd > 0 ? gsd : CloudContent{}.spacing;
  }
  PointCloud placed(PointCloud cloud) { return survey_.in_world(block_, std::move(cloud)); }
  void cameras() {
    const CameraFile content = cameras_now();
    write_camera_file(request_.cameras, content);
    note(request_.cameras, fmt::format("{} cameras, {} poses", content.cameras.size(), content.photos.size()));
  }
  void scene() {
    SceneOptions options;
    options.convention = request_.words.of_angles();
    options.fit = request_.fit, options.points = request_.points, options.photos = request_.scene_photos;
    const SceneReport made = export_scene(survey_, block_, request_.scene, options, executor_of(common_), monitor_);
    note(request_.scene,
         fmt::format("a scene of {} photos without distortion, {} masks, {} seed points of the {}; frame.json says how "
                     "its coordinates come from the survey's, check.json has {} points to prove an import",
                     made.photos, made.masks, made.points, made.dense ? "dense cloud" : "tie points", made.checks));
  }
  void photo_map() {
    const char* const what[] = {"projection centres", "directions of view", "footprints"};
    const auto files = export_photo_map(survey_, block_, request_.photo_map);
    for (std::size_t k = 0; k < files.size(); ++k) note(files[k], what[k]);
  }
  void poses() {
    const CameraFile content = cameras_now();
    const PoseConvention convention = request_.words.of_angles();
    std::vector<std::string> names;
    std::vector<Pose> all;
    for (const CameraFile::Photo& photo : content.photos) {
      names.push_back(photo.name), all.push_back(photo.pose);
      all.back().centre += content.origin;
    }
    write_pose_table(request_.poses, names, all, convention);
    note(request_.poses, fmt::format("{} poses: {}", all.size(), describe(convention)));
  }
  void tie_points() {
    const CloudFormat format = format_of(request_.tie_points);
    const PointCloud points =
        request_.stale ? read_ply(survey_.file_as_it_is(block_, "tie_points.ply")) : placed(survey_.tie_points(block_));
    write_cloud(request_.tie_points, format, points, spacing(format));
    note(request_.tie_points, fmt::format("{} tie points", points.size()));
  }
  void cloud() {
    const CloudFormat format = format_of(request_.cloud);
    const fs::path ply = request_.stale ? survey_.file_as_it_is(block_, "dense.ply") : survey_.cloud_file(block_);
    note(request_.cloud, fmt::format("{} points", copy_cloud(ply, request_.cloud, format, spacing(format))));
  }
  void mesh() {
    const MeshFormat format = mesh_format_of(request_.mesh);
    MeshFileOptions options;
    options.y_up = request_.y_up, options.scale = request_.scale, options.png_pages = request_.png;
    // With its texture where the format has one and the survey does.
    const bool painted = (format == MeshFormat::glb || format == MeshFormat::obj) && !request_.plain &&
                         survey_.status_of("texture").step == "texture";
    const char* const name = painted ? "textured.glb" : "mesh.ply";
    const TexturedMesh read = read_textured_mesh(request_.stale ? survey_.file_as_it_is(block_, name)
                                                 : painted      ? survey_.textured_file(block_)
                                                                : survey_.mesh_file(block_));
    write_mesh(request_.mesh, read.mesh, format, options, &read.texture);
    note(request_.mesh, read.texture.empty() ? fmt::format("{} faces", read.mesh.faces.size())
                                             : fmt::format("{} faces with a texture of {} pages",
                                                           read.mesh.faces.size(), read.texture.pages.size()));
  }
  void depth_points() {
    const std::size_t photo =
        request_.photo.empty() ? 0 : survey_.photo_of_block(survey_.block(block_), request_.photo);
    const PointCloud points =
        placed(points_of(survey_.need_depth_map(block_, photo), survey_.settings().dense.max_cost));
    const CloudFormat format = format_of(request_.depth_points);
    write_cloud(request_.depth_points, format, points, spacing(format));
    note(request_.depth_points, fmt::format("{} points of one depth map", points.size()));
  }

  fs::path picture() {
    return request_.stale ? survey_.file_as_it_is(block_, "orthomosaic.tif")
                          : survey_.orthomosaic_file(block_, "orthomosaic.tif");
  }
  void orthomosaic() {
    const fs::path file = request_.orthomosaic;
    if (file.extension() == ".tif" || file.extension() == ".tiff") {
      write_file(file, read_file(picture(), std::size_t{1} << 40));
      note(file, "the orthomosaic");
      return;
    }
    for (const fs::path& written : write_world_picture(picture(), file))
      note(written, written == file ? "the orthomosaic" : written.extension() == ".prj" ? "its CRS" : "its place");
  }
  void tiles() {
    const MapTiles made =
        write_map_tiles(picture(), request_.tiles, fs::weakly_canonical(survey_.folder()).filename().string(),
                        executor_of(common_), monitor_);
    note(request_.tiles,
         fmt::format("{} tiles of levels {} to {}{}, and index.html that shows them", made.tiles, made.lowest,
                     made.highest, made.on_earth ? "" : " in the block's own coordinates, as it has no CRS"));
  }

  Survey& survey_;
  const Request& request_;
  const Common& common_;
  Monitor& monitor_;
  std::size_t block_;
  nlohmann::ordered_json written_ = nlohmann::ordered_json::array();
};

int run(const Common& common, const Request& request, Monitor& monitor) {
  if (request.cameras.empty() && request.tie_points.empty() && request.cloud.empty() && request.mesh.empty() &&
      request.poses.empty() && request.scene.empty() && request.photo_map.empty() && request.orthomosaic.empty() &&
      request.tiles.empty() && !request.wants_other_than_files())
    throw Error(ErrorKind::usage, "export", "has nothing to write",
                "give --cameras, --poses, --scene, --photo-map, --tie-points, --cloud, --mesh, --orthomosaic, --tiles, "
                "--undistorted, "
                "--depth-maps or "
                "--depth-points");
  Survey survey = open_survey(common, monitor);
  if (request.stale && request.wants_other_than_files())
    throw Error(ErrorKind::usage, "--stale", "is for cameras, tie points, cloud, mesh and orthomosaic alone",
                "leave it out, or export the others by themselves");
  if (!request.stale) {
    survey.block(request.block - 1);
    survey.mend_files();
  }
  Export(survey, request, common, monitor).write_all();
  return 0;
}

}  // namespace

Command export_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options = survey_command(tool, common, "export", "Write results in open formats");
  with_block(options, request->block);
  options.option("--cameras", request->cameras, "Write cameras and poses to this JSON file");
  options.option("--poses", request->poses, "Write exterior orientations as a table of text to this file");
  with_convention(options, request->words,
                  "How: quaternion (the default), quaternion-xyzw, matrix, opk, ypr (the camera looks ahead) or "
                  "ypr-down");
  options.option("--scene", request->scene,
                 "Write what programs that learn a scene take to this new folder: photos without distortion, masks, "
                 "cameras, poses.csv (as --angles says), seed points, glTF, and a check of the import");
  options.flag("--fit", request->fit, "The scene moved and scaled so that the subject lies within 1 of its middle");
  options.option("--points", request->points, "Seed points of the scene at most").positive();
  options.option("--scene-photos", request->scene_photos, "png or jpg").one_of({"png", "jpg"}).with_default();
  options.option("--photo-map", request->photo_map,
                 "Write where photos stand, where they look and what they see: .gpkg or .geojson, three files");
  options.option("--tie-points", request->tie_points, "Write the tie points to this file: .ply, .las or .xyz");
  options.option("--cloud", request->cloud, "Write the dense cloud to this file: .ply, .las or .xyz");
  options.option(
      "--mesh", request->mesh,
      "Write the mesh to this file: .ply, .obj, .stl or .glb; the last and .obj with its texture where there is one");
  options.flag("--plain", request->plain, "The mesh without its texture");
  options.flag("--png", request->png, "Pages of the texture as PNG, not JPEG");
  options.flag("--y-up", request->y_up, "The mesh with y up (glTF always has)");
  options.option("--scale", request->scale, "The mesh's coordinates times this, as 1000 for millimetres of metres")
      .positive();
  options.option("--orthomosaic", request->orthomosaic,
                 "Write the orthomosaic to this file: .tif, or .png or .jpg with a world file");
  options.option("--tiles", request->tiles,
                 "Write the orthomosaic as tiles for web maps to this folder, with a page that shows them from disk");
  options.option("--undistorted", request->undistorted,
                 "Write photos without distortion, and their pinhole cameras, to this folder");
  options.option("--depth-maps", request->depth_maps,
                 "Write the depth maps as images of 32-bit floats (depth along the optical axis, 0: none), and "
                 "their cameras, to this folder");
  options.option("--depth-format", request->depth_format, "tif or exr").one_of({"tif", "exr"}).with_default();
  options.option("--depth-points", request->depth_points,
                 "Write the depth map of one photo as coloured points to this file: .ply, .las or .xyz");
  options.option("--photo", request->photo, "Which photo that is (default: the first)");
  options.flag(
      "--stale", request->stale,
      "Cameras, tie points, cloud, mesh and orthomosaic as they lie there, even where they are of another state of the "
      "survey");
  options.flag("--ascii", request->ascii, "PLY as text");
  options
      .option("--las", request->las, "Version of LAS files: 1.4, or 1.2 with places and colours alone, for old readers")
      .one_of({"1.4", "1.2"})
      .with_default();
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
