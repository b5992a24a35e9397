// icefield-simulate: makes up photos of a scene, and the truth about them.
#include <fmt/format.h>

#include <cstdio>
#include <unistd.h>

#include "app/arguments.h"
#include "icefield/io/camera_file.h"
#include "icefield/io/mesh_file.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/ply_file.h"
#include "simulate/plan.h"
#include "simulate/survey_control.h"

namespace {

class Progress : public icefield::Monitor {
 public:
  void progress(std::string_view what, std::size_t done, std::size_t total) override {
    if (isatty(STDERR_FILENO)) fmt::print(stderr, "\r{} {}/{}{}", what, done, total, done == total ? "\n" : "");
  }
};

using namespace icefield;
using namespace icefield::simulate;

struct Request {
  std::string folder, output, photo, bounds_from;
  int threads = 0, quality = 85;
  double spacing = 0.25, step = 0;
  PlanOptions plan;
  RenderOptions render;
  SurveyControlOptions control;
};

void make_photos(const Request& r, const Executor& executor, Monitor& monitor) {
  write_survey(r.folder, r.plan, r.render, r.quality, executor, monitor);
  fmt::print("{} photos in {}/photos, true cameras in {}/truth/cameras.json\n", r.plan.photos, r.folder, r.folder);
}

void make_surface(const Request& r, const Executor& executor, Monitor& monitor) {
  const PlanOptions made = read_plan(r.folder);
  const Scene scene(made.scene);
  Bounds bounds = scene.subject();
  if (!r.bounds_from.empty()) {
    const CameraFile file = read_camera_file(r.bounds_from);
    if (!file.bounds) throw Error(ErrorKind::input, r.bounds_from, "has no bounds", "leave --bounds out");
    bounds = *file.bounds;
  }
  const PointCloud truth = true_surface(scene, plan_photos(made), bounds, executor, monitor);
  write_ply(r.output, truth);
  fmt::print("{} points of the true surface in {}\n", truth.size(), r.output);
}

void make_solid(const Request& r, const Executor& executor, Monitor& monitor) {
  const Scene scene(read_plan(r.folder).scene);
  const double step = r.step > 0 ? r.step : scene.subject().half_size.maxCoeff() / 100;
  const icefield::Mesh solid = true_solid(scene, scene.subject(), step, executor, monitor);
  write_mesh(r.output, solid, mesh_format_of(r.output));
  fmt::print("{} faces of the true surface, closed, in {}\n", solid.faces.size(), r.output);
}

void make_maps(const Request& r, const Executor& executor, Monitor&) {
  const PlanOptions made = read_plan(r.folder);
  const Scene scene(made.scene);
  for (const PlannedPhoto& planned : plan_photos(made)) {
    if (planned.name != r.photo) continue;
    const TrueMaps truth = true_maps(scene, planned.shot.camera, planned.shot.pose, executor);
    write_float_image(r.output + "_depth.tif", truth.depth);
    write_float_image(r.output + "_normal.tif", truth.normal);
    fmt::print("{}_depth.tif, {}_normal.tif\n", r.output, r.output);
    return;
  }
  throw Error(ErrorKind::input, r.photo, "is no photo of " + r.folder, "give its file name");
}

void make_overlap(const Request& r, const Executor& executor, Monitor& monitor) {
  const PlanOptions made = read_plan(r.folder);
  const std::vector<PhotoOverlap> overlaps = true_overlaps(Scene(made.scene), plan_photos(made), executor, monitor);
  write_overlap_file(r.output, overlaps);
  fmt::print("{} overlapping pairs in {}\n", overlaps.size(), r.output);
}

void make_survey_control(const Request& r, const Executor&, Monitor&) {
  write_survey_control(r.folder, r.output, r.control);
  fmt::print("control of {} in {}: points.csv, marks.csv{}\n", r.folder, r.output,
             r.control.plan.fixes ? ", positions.csv" : "");
}

void make_dsm(const Request& r, const Executor&, Monitor&) {
  const Scene scene(read_plan(r.folder).scene);
  const Bounds& area = scene.subject();
  const int columns = static_cast<int>(2 * area.half_size.x() / r.spacing),
            rows = static_cast<int>(2 * area.half_size.y() / r.spacing);
  ImageF heights(columns, rows);
  for (int y = 0; y < rows; ++y)
    for (int x = 0; x < columns; ++x)
      heights.at(x, y) = scene.height_at(area.centre.x() - area.half_size.x() + (x + 0.5) * r.spacing,
                                         area.centre.y() + area.half_size.y() - (y + 0.5) * r.spacing);
  write_float_image(r.output, heights);
  fmt::print("{} x {} heights in {}\n", columns, rows, r.output);
}

void ask_for_photos(Arguments photos, Request& r) {
  PlanOptions& plan = r.plan;
  photos.option("folder", r.folder).required();
  photos
      .option("--scene", plan.scene.kind,
              "cairn (a ring at three heights), forefield (a flight), station (a ring around what is hard for "
              "dense stereo) or lantern (two rounds, between which it is turned over)")
      .with_default();
  photos.option("--seed", plan.scene.seed, "of the scene").with_default();
  photos.option("--lens-seed", plan.lens_seed).with_default();
  photos.option("--shot-seed", plan.shot_seed).with_default();
  photos.option("--detail", plan.scene.detail, "fineness of the scene, 0.2 to 1").between(0.1, 2.0).with_default();
  photos.option("--clouds", plan.scene.clouds, "share of the sun's light that clouds take")
      .between(0.0, 1.0)
      .with_default();
  photos.option("--targets", plan.scene.targets, "boards with coded targets lie about; truth/targets.csv has them")
      .between(0, 180);
  photos.option("--target-size", plan.scene.target_size, "from corner to corner, metres").positive();
  photos.option("--bushes", plan.scene.bushes, "that stand about in the forefield").between(0, 9000).with_default();
  photos.option("--relief", plan.scene.relief, "of the forefield: its heights are multiplied by this")
      .between(0.0, 4.0)
      .with_default();
  photos.option("--photos", plan.photos).between(1, 5000).with_default();
  photos.option("--width", plan.width).between(16, 20000).with_default();
  photos.option("--height", plan.height).between(16, 20000).with_default();
  photos.option("--exposure", plan.exposure_ev, "of all photos, stops").with_default();
  photos.option("--exposure-jitter", plan.exposure_jitter_ev, "from photo to photo, stops").with_default();
  photos.option("--blur-share", plan.blur_share, "share of photos blurred by motion or defocus")
      .between(0.0, 1.0)
      .with_default();
  photos.option("--extent", plan.extent, "share of the ring, or of the flown area along each axis")
      .between(0.05, 1.0)
      .with_default();
  photos.option("--flying-height", plan.flying_height, "of the flight, metres; lower photos cover less each")
      .between(12.0, 500.0)
      .with_default();
  photos.option("--samples", r.render.samples, "rays a pixel, a square number").with_default();
  photos.option("--noise", r.render.noise).with_default();
  photos.option("--quality", r.quality, "of the JPEG files").between(1, 100).with_default();
}

struct Command {
  Arguments arguments;
  void (*make)(const Request&, const Executor&, Monitor&);
};

std::vector<Command> commands_of(Arguments& app, Request& r) {
  Arguments photos = app.command("photos", "Render a set of photos with true cameras: FOLDER/photos, FOLDER/truth");
  ask_for_photos(photos, r);
  Arguments surface = app.command("surface", "The true visible surface of a set made before, as PLY");
  Arguments solid = app.command("solid", "The true surface of a set's subject as a closed mesh with true colours");
  Arguments maps =
      app.command("maps", "True depth and normal of one photo, as float TIFF: OUTPUT_depth.tif, OUTPUT_normal.tif");
  Arguments overlap = app.command(
      "overlap",
      "Which pairs of photos truly see common surface, and how much: lines PHOTO | PHOTO | PERCENT | DEGREES");
  Arguments dsm =
      app.command("dsm", "True height of the uppermost surface of a set's subject, as float TIFF, north up");
  Arguments control = app.command(
      "control",
      "Surveyed points of a set made before, and where they are seen: OUTPUT/points.csv, marks.csv, truth.csv");
  for (Arguments command : {surface, solid, maps, overlap, dsm, control}) command.option("folder", r.folder).required();
  maps.option("photo", r.photo).required();
  for (Arguments command : {surface, solid, maps, overlap, dsm, control}) command.option("output", r.output).required();
  ControlPlan& plan = r.control.plan;
  control.option("--crs", r.control.crs, "projected, with heights over the sea or over the ellipsoid").with_default();
  control.option("--points", plan.control, "control points").with_default();
  control.option("--check", plan.check, "check points").with_default();
  control.option("--point-sigma", plan.point_sigma_m, "of their coordinates, metres").with_default();
  control.option("--mark-sigma", plan.mark_sigma_px, "px").with_default();
  control.flag("--positions", plan.fixes, "positions.csv of the photos as well");
  control.option("--position-sigma", plan.fix_sigma_m, "metres").with_default();
  control.option("--seed", plan.seed).with_default();
  control
      .option("--fault", r.control.fault,
              "none, gross, exchanged, axes, zone, degrees, feet, mark, far (one point) or two-crs")
      .with_default();
  surface.option("--bounds", r.bounds_from, "camera file whose bounds to take (default: the set's own)");
  solid.option("--step", r.step, "of the grid that it is made on, metres; without it a hundredth of half the subject")
      .positive();
  dsm.option("--spacing", r.spacing, "metres").positive().with_default();
  for (Arguments command : app.commands()) command.option("--threads", r.threads);
  return {{photos, make_photos},   {surface, make_surface}, {solid, make_solid},           {maps, make_maps},
          {overlap, make_overlap}, {dsm, make_dsm},         {control, make_survey_control}};
}

}  // namespace

int main(int argc, char** argv) {
  Arguments app("Makes up photo sets with known truth.");
  app.needs_command();
  Request request;
  const std::vector<Command> commands = commands_of(app, request);
  if (!app.parse(argc, argv)) return app.status();
  Progress monitor;
  try {
    const Executor executor(request.threads);
    for (const Command& command : commands)
      if (command.arguments.given()) command.make(request, executor, monitor);
  } catch (const Error& error) {
    fmt::print(stderr, "icefield-simulate: {}\n", error.what());
    return error.kind() == ErrorKind::usage ? 2 : error.kind() == ErrorKind::input ? 3 : 1;
  }
  return 0;
}
