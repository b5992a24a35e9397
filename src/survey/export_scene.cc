// Scenes for programs that learn from posed photos, and maps of where photos stand.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <nlohmann/json.hpp>
#include <numbers>

#include "icefield/base/error.h"
#include "icefield/base/statistics.h"
#include "icefield/dense/depth_map.h"
#include "icefield/io/gltf_scene.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/pose_table.h"
#include "icefield/io/text_file.h"
#include "icefield/io/tiled_cloud.h"
#include "icefield/io/vector_file.h"
#include "icefield/survey/export.h"
#include "src/survey/survey_state.h"

namespace icefield {
namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;
using Eigen::Vector2d;
using Eigen::Vector3d;

namespace {

Json json_of(const Vector3d& v) {
  return {v.x(), v.y(), v.z()};
}

// The names of files: those of the photos, kept apart where two are called the same.
std::vector<std::string> names_in_scene(const std::vector<CameraFile::Photo>& photos, const std::string& extension) {
  std::vector<std::string> names;
  std::map<std::string, int> seen;
  for (const CameraFile::Photo& photo : photos) {
    const std::string stem = fs::path(photo.name).stem().string();
    const int before = seen[stem]++;
    names.push_back(before == 0 ? stem + "." + extension : fmt::format("{}_{}.{}", stem, before + 1, extension));
  }
  return names;
}

bool all_count(const ImageU8& mask) {
  return std::all_of(mask.data().begin(), mask.data().end(), [](std::uint8_t v) { return v != 0; });
}

// The subject's middle, and the ball around it that holds nearly all seed points.
std::pair<Vector3d, double> ball_of(const PointCloud& points) {
  std::array<std::vector<double>, 3> at;
  for (std::size_t i = 0; i < points.size(); ++i)
    for (int c = 0; c < 3; ++c) at[static_cast<std::size_t>(c)].push_back(points.position(i)[c]);
  Vector3d middle;
  for (int c = 0; c < 3; ++c) middle[c] = median(at[static_cast<std::size_t>(c)]);
  std::vector<double> away;
  for (std::size_t i = 0; i < points.size(); ++i) away.push_back((points.position(i) - middle).norm());
  std::sort(away.begin(), away.end());
  constexpr double kShare = 0.98;
  return {middle, away[static_cast<std::size_t>(kShare * static_cast<double>(away.size() - 1))]};
}

}  // namespace

SceneReport export_scene(Survey& survey, std::size_t block, const fs::path& folder, const SceneOptions& options,
                         const Executor& executor, Monitor& monitor) {
  const Block& posed = survey.block(block);
  std::error_code fault;
  if (fs::exists(folder, fault) && (!fs::is_directory(folder, fault) || !fs::is_empty(folder, fault)))
    throw Error(ErrorKind::usage, folder.string(), "is there already, and nothing of it is written over",
                "name a folder that is not there, or an empty one");
  CameraFile cameras = survey.cameras(block);
  // Seed points in the coordinates of the files.
  PointCloud points;
  SceneReport report;
  try {
    const TiledCloud cloud(survey.cloud_file(block));
    points = cloud.overview(options.points);
    report.dense = true;
  } catch (const Error&) {
    points = survey.in_world(block, survey.tie_points(block));
  }
  if (points.size() > options.points) {
    std::vector<std::uint32_t> some;
    for (std::uint64_t k = 0; k < options.points; ++k)
      some.push_back(static_cast<std::uint32_t>(k * points.size() / options.points));
    points = pick(points, some);
  }
  if (points.size() == 0)
    throw Error(ErrorKind::computation, survey.folder().string(), "has no point to begin with",
                "run `icefield pose` and `icefield densify` first");
  points.normals = {}, points.views = {}, points.errors = {}, points.conflicts = {};
  if (options.fit) {
    const auto [middle, radius] = ball_of(points);
    report.centre = middle;
    if (radius > 0) report.scale = 1 / radius;
  }
  report.points = points.size(), report.photos = posed.photos.size();
  const auto into = [&](const Vector3d& p) -> Vector3d { return report.scale * (p - report.centre); };
  const bool moved = options.fit;
  PointCloud seeds = points;
  if (moved) {
    for (std::size_t i = 0; i < points.size(); ++i) seeds.positions[i] = into(points.position(i)).cast<float>();
    seeds.origin = Vector3d::Zero(), seeds.datum = {};
  }
  CameraFile scene = cameras;
  scene.fingerprint.clear();
  const std::vector<std::string> names = names_in_scene(cameras.photos, options.photos);
  for (Camera& camera : scene.cameras) camera = without_distortion(camera);
  for (std::size_t i = 0; i < scene.photos.size(); ++i) {
    scene.photos[i].name = names[i];
    if (!moved) continue;
    scene.photos[i].pose.centre = into(cameras.origin + cameras.photos[i].pose.centre);
    scene.photos[i].gsd *= report.scale;
  }
  if (moved) scene.origin = Vector3d::Zero(), scene.datum = {}, scene.bounds.reset();
  for (const fs::path& made : {folder, folder / "photos", folder / "masks"}) {
    fs::create_directories(made, fault);
    if (fault)
      throw Error(ErrorKind::resource, made.string(), "cannot be made: " + fault.message(),
                  "name a folder that can be written to");
  }
  // Photos, and masks where something of them does not count.
  const auto pictures = survey.source();
  std::vector<std::uint8_t> masked(posed.photos.size(), 0);
  executor.run("photos of the scene", posed.photos.size(), monitor, [&](std::size_t i) {
    const PosedPhoto& photo = posed.photos[i];
    const DenseView view =
        undistort(pictures->load(photo.photo), posed.camera_of(photo), photo.pose, 1, pictures->mask(photo.photo));
    write_photo(folder / "photos" / names[i], view.colour, {}, 95);
    if (view.usable.empty() || all_count(view.usable)) return;
    ImageU8 mask = view.usable;
    for (std::uint8_t& v : mask.values()) v = v != 0 ? 255 : 0;
    write_photo(folder / "masks" / (fs::path(names[i]).stem().string() + ".png"), mask);
    masked[i] = 1;
  });
  report.masks = static_cast<std::size_t>(std::count(masked.begin(), masked.end(), 1));
  if (report.masks == 0) fs::remove(folder / "masks", fault);
  write_camera_file(folder / "cameras.json", scene);
  std::vector<Pose> poses;
  for (const CameraFile::Photo& photo : scene.photos) {
    poses.push_back(photo.pose);
    poses.back().centre += scene.origin;
  }
  write_pose_table(folder / "poses.csv", names, poses, options.convention);
  write_cloud(folder / "points.ply", CloudFormat::ply, seeds);
  write_scene_glb(folder / "scene.glb", scene, seeds);
  const Json frame = {
      {"about", "scene = scale * (survey - centre); survey = scene / scale + centre"},
      {"scale", report.scale},
      {"centre", json_of(report.centre)},
      {"survey_units", cameras.datum.units_name()},
      {"survey_crs", cameras.datum.crs},
      {"axes",
       std::string("right-handed; ") +
           (cameras.datum.axes == Axes::east_north_up ? "x east, y north, z up" : "z up as far as the survey knows")},
      {"cameras.json", "orientation: quaternion w x y z, world to camera; camera axes x right, y down, z ahead"},
      {"poses.csv", describe(options.convention)},
      {"scene.glb", "y up, as glTF has it: x, z, -y of the scene, less the origin in asset.extras"},
      {"pixels", "continuous: the photo's upper left corner is 0, 0, the middle of its first pixel 0.5, 0.5"}};
  write_file(folder / "frame.json", frame.dump(1) + "\n");
  // Tie points that many photos see, spread over the list.
  std::vector<std::pair<std::size_t, std::size_t>> seen;  // how often, which
  for (std::size_t i = 0; i < posed.points.size(); ++i)
    if (posed.of_point(i).size() >= 3) seen.emplace_back(posed.of_point(i).size(), i);
  std::stable_sort(seen.begin(), seen.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
  constexpr std::size_t kChecks = 10;
  const std::size_t from = std::max(kChecks, seen.size() / 4);
  const WorldFrame world = survey.world_frame(block);
  Json checks = Json::array();
  for (std::size_t k = 0; k < kChecks && k < seen.size(); ++k) {
    const std::size_t i = seen[k * std::min(from, seen.size()) / kChecks].second;
    Vector3d place = world.to_world(posed.points[i]);
    if (moved) place = into(place);
    Json in = Json::array();
    for (const Observation& o : posed.of_point(i)) {
      const CameraFile::Photo& photo = scene.photos[o.photo.value];
      const auto pixel = project(scene.cameras[photo.camera], photo.pose.to_camera(place - scene.origin));
      const auto ray = unproject(posed.camera_of(posed.photos[o.photo.value]), o.pixel);
      if (!pixel || !ray) continue;
      const auto measured = project(scene.cameras[photo.camera], ray->homogeneous());
      in.push_back(
          {{"photo", photo.name}, {"pixel", {pixel->x(), pixel->y()}}, {"measured", {measured->x(), measured->y()}}});
    }
    checks.push_back({{"position", json_of(place)}, {"seen", in}});
  }
  report.checks = checks.size();
  write_file(folder / "check.json",
             Json{{"about",
                   "each position, projected into each photo, must fall on `pixel`; `measured` is where its "
                   "feature was found"},
                  {"points", checks}}
                     .dump(1) +
                 "\n");
  return report;
}

std::vector<fs::path> export_photo_map(Survey& survey, std::size_t block, const fs::path& file) {
  const Block& posed = survey.block(block);
  const CameraFile cameras = survey.cameras(block);
  const WorldFrame world = survey.world_frame(block);
  std::vector<std::vector<double>> heights(posed.photos.size());
  for (std::size_t i = 0; i < posed.points.size(); ++i)
    for (const Observation& o : posed.of_point(i)) heights[o.photo.value].push_back(posed.points[i].z());
  ShapeLayer centres, directions, footprints;
  centres.kind = ShapeKind::points, directions.kind = ShapeKind::lines, footprints.kind = ShapeKind::areas;
  centres.name = "centres", directions.name = "directions", footprints.name = "footprints";
  for (ShapeLayer* layer : {&centres, &directions, &footprints}) layer->datum = cameras.datum;
  for (std::size_t k = 0; k < posed.photos.size(); ++k) {
    const PosedPhoto& photo = posed.photos[k];
    const Camera& camera = posed.camera_of(photo);
    const Vector3d centre = photo.pose.centre, way = photo.pose.viewing_direction(), at = world.to_world(centre);
    const double heading = std::fmod(std::atan2(way.x(), way.y()) * 180 / std::numbers::pi + 360, 360),
                 tilt = std::acos(std::clamp(-way.z(), -1.0, 1.0)) * 180 / std::numbers::pi;
    Shape shape;
    shape.places = {at.head<2>()};
    shape.numbers = {{"height", at.z()}, {"heading", heading}, {"tilt", tilt}, {"gsd", cameras.photos[k].gsd}};
    shape.texts = {{"photo", cameras.photos[k].name}};
    centres.shapes.push_back(shape);
    if (heights[k].empty()) continue;
    const double ground = median(heights[k]);
    // As far as a ray goes until it meets the ground; level ones end at ten times the height over it.
    const auto meet = [&](const Vector3d& ray) -> Vector2d {
      const double down = centre.z() - ground, most = 10 * std::max(std::abs(down), 1e-9);
      double t = ray.z() * down < 0 ? -down / ray.z() : std::numeric_limits<double>::infinity();
      const double across = ray.head<2>().norm();
      if (t * across > most) t = across > 0 ? most / across : 0;
      return world.to_world(Vector3d(centre + t * ray)).head<2>();
    };
    Shape line = shape;
    line.places = {at.head<2>(), meet(way)};
    if ((line.places[1] - line.places[0]).norm() > 0) directions.shapes.push_back(line);
    Shape area = shape;
    area.places.clear();
    const double w = camera.width, h = camera.height;
    for (const auto& [x, y] : {std::pair(0.0, 0.0), {w, 0.0}, {w, h}, {0.0, h}})
      if (const auto ray = unproject(camera, {x, y}))
        area.places.push_back(meet(photo.pose.orientation.conjugate() * ray->homogeneous()));
    if (area.places.size() == 4) footprints.shapes.push_back(area);
  }
  const auto beside = [&](const char* what) {
    return file.parent_path() / (file.stem().string() + "_" + what + file.extension().string());
  };
  const std::vector<fs::path> files = {file, beside("directions"), beside("footprints")};
  write_shapes(files[0], centres);
  write_shapes(files[1], directions);
  write_shapes(files[2], footprints);
  return files;
}

}  // namespace icefield
