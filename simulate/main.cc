// icefield-simulate: makes up photos of a scene, and the truth about them.
#include <fmt/format.h>

#include <CLI/CLI.hpp>
#include <cstdio>
#include <unistd.h>

#include "icefield/io/camera_file.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/ply_file.h"
#include "simulate/plan.h"

namespace {

class Progress : public icefield::Monitor {
 public:
  void progress(std::string_view what, std::size_t done, std::size_t total) override {
    if (isatty(STDERR_FILENO)) fmt::print(stderr, "\r{} {}/{}{}", what, done, total, done == total ? "\n" : "");
  }
};

}  // namespace

int main(int argc, char** argv) {
  using namespace icefield;
  using namespace icefield::simulate;
  CLI::App app{"Makes up photo sets with known truth."};
  app.require_subcommand(1);
  std::string folder, output, photo;
  int threads = 0, quality = 85;
  PlanOptions plan;
  RenderOptions render_options;
  Progress monitor;

  auto* photos = app.add_subcommand("photos", "Render a set of photos with true cameras: FOLDER/photos, FOLDER/truth");
  photos->add_option("folder", folder)->required();
  photos
      ->add_option("--scene", plan.scene.kind,
                   "cairn (a ring at three heights), forefield (a flight) or station (a ring around what is hard for "
                   "dense stereo)")
      ->capture_default_str();
  photos->add_option("--seed", plan.scene.seed, "of the scene")->capture_default_str();
  photos->add_option("--lens-seed", plan.lens_seed)->capture_default_str();
  photos->add_option("--shot-seed", plan.shot_seed)->capture_default_str();
  photos->add_option("--detail", plan.scene.detail, "fineness of the scene, 0.2 to 1")
      ->check(CLI::Range(0.1, 2.0))
      ->capture_default_str();
  photos->add_option("--clouds", plan.scene.clouds, "share of the sun's light that clouds take")
      ->check(CLI::Range(0.0, 1.0))
      ->capture_default_str();
  photos->add_option("--photos", plan.photos)->check(CLI::Range(1, 5000))->capture_default_str();
  photos->add_option("--width", plan.width)->check(CLI::Range(16, 20000))->capture_default_str();
  photos->add_option("--height", plan.height)->check(CLI::Range(16, 20000))->capture_default_str();
  photos->add_option("--exposure", plan.exposure_ev, "of all photos, stops")->capture_default_str();
  photos->add_option("--exposure-jitter", plan.exposure_jitter_ev, "from photo to photo, stops")->capture_default_str();
  photos->add_option("--blur-share", plan.blur_share, "share of photos blurred by motion or defocus")
      ->check(CLI::Range(0.0, 1.0))
      ->capture_default_str();
  photos->add_option("--extent", plan.extent, "share of the ring, or of the flown area along each axis")
      ->check(CLI::Range(0.05, 1.0))
      ->capture_default_str();
  photos->add_option("--flying-height", plan.flying_height, "of the flight, metres; lower photos cover less each")
      ->check(CLI::Range(12.0, 500.0))
      ->capture_default_str();
  photos->add_option("--samples", render_options.samples, "rays a pixel, a square number")->capture_default_str();
  photos->add_option("--noise", render_options.noise)->capture_default_str();
  photos->add_option("--quality", quality, "of the JPEG files")->check(CLI::Range(1, 100))->capture_default_str();

  auto* surface = app.add_subcommand("surface", "The true visible surface of a set made before, as PLY");
  std::string bounds_from;
  surface->add_option("folder", folder)->required();
  surface->add_option("output", output)->required();
  surface->add_option("--bounds", bounds_from, "camera file whose bounds to take (default: the set's own)");

  auto* maps = app.add_subcommand(
      "maps", "True depth and normal of one photo, as float TIFF: OUTPUT_depth.tif, OUTPUT_normal.tif");
  maps->add_option("folder", folder)->required();
  maps->add_option("photo", photo)->required();
  maps->add_option("output", output)->required();

  auto* overlap = app.add_subcommand(
      "overlap",
      "Which pairs of photos truly see common surface, and how much: lines PHOTO | PHOTO | PERCENT | DEGREES");
  overlap->add_option("folder", folder)->required();
  overlap->add_option("output", output)->required();

  double spacing = 0.25;
  auto* dsm =
      app.add_subcommand("dsm", "True height of the uppermost surface of a set's subject, as float TIFF, north up");
  dsm->add_option("folder", folder)->required();
  dsm->add_option("output", output)->required();
  dsm->add_option("--spacing", spacing, "metres")->check(CLI::PositiveNumber)->capture_default_str();

  for (auto* command : app.get_subcommands({})) command->add_option("--threads", threads);
  CLI11_PARSE(app, argc, argv);
  try {
    const Executor executor(threads);
    if (*photos) {
      write_survey(folder, plan, render_options, quality, executor, monitor);
      fmt::print("{} photos in {}/photos, true cameras in {}/truth/cameras.json\n", plan.photos, folder, folder);
    } else if (*surface) {
      const PlanOptions made = read_plan(folder);
      const Scene scene(made.scene);
      Bounds bounds = scene.subject();
      if (!bounds_from.empty()) {
        const CameraFile file = read_camera_file(bounds_from);
        if (!file.bounds) throw Error(ErrorKind::input, bounds_from, "has no bounds", "leave --bounds out");
        bounds = *file.bounds;
      }
      const PointCloud truth = true_surface(scene, plan_photos(made), bounds, executor, monitor);
      write_ply(output, truth);
      fmt::print("{} points of the true surface in {}\n", truth.size(), output);
    } else if (*maps) {
      const PlanOptions made = read_plan(folder);
      const Scene scene(made.scene);
      for (const PlannedPhoto& planned : plan_photos(made)) {
        if (planned.name != photo) continue;
        const TrueMaps truth = true_maps(scene, planned.shot.camera, planned.shot.pose, executor);
        write_float_image(output + "_depth.tif", truth.depth);
        write_float_image(output + "_normal.tif", truth.normal);
        fmt::print("{}_depth.tif, {}_normal.tif\n", output, output);
        return 0;
      }
      throw Error(ErrorKind::input, photo, "is no photo of " + folder, "give its file name");
    } else if (*overlap) {
      const PlanOptions made = read_plan(folder);
      const std::vector<PhotoOverlap> overlaps = true_overlaps(Scene(made.scene), plan_photos(made), executor, monitor);
      write_overlap_file(output, overlaps);
      fmt::print("{} overlapping pairs in {}\n", overlaps.size(), output);
    } else if (*dsm) {
      const Scene scene(read_plan(folder).scene);
      const Bounds& area = scene.subject();
      const int columns = static_cast<int>(2 * area.half_size.x() / spacing),
                rows = static_cast<int>(2 * area.half_size.y() / spacing);
      ImageF heights(columns, rows);
      for (int y = 0; y < rows; ++y)
        for (int x = 0; x < columns; ++x)
          heights.at(x, y) = scene.height_at(area.centre.x() - area.half_size.x() + (x + 0.5) * spacing,
                                             area.centre.y() + area.half_size.y() - (y + 0.5) * spacing);
      write_float_image(output, heights);
      fmt::print("{} x {} heights in {}\n", columns, rows, output);
    }
  } catch (const Error& error) {
    fmt::print(stderr, "icefield-simulate: {}\n", error.what());
    return error.kind() == ErrorKind::usage ? 2 : error.kind() == ErrorKind::input ? 3 : 1;
  }
  return 0;
}
