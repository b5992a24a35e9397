// icefield: the command-line tool, over the public headers only.
#include <fmt/format.h>

#include <filesystem>

#include <CLI/CLI.hpp>
#include <cstdio>
#include <new>

#include "commands.h"
#include "icefield/base/instructions.h"
#include "terminal.h"

namespace {

constexpr int kDone = 0, kNotComputed = 1, kWrongUsage = 2, kBadInput = 3, kInterrupted = 130;

int exit_status(icefield::ErrorKind kind) {
  switch (kind) {
    case icefield::ErrorKind::usage:
      return kWrongUsage;
    case icefield::ErrorKind::input:
      return kBadInput;
    case icefield::ErrorKind::computation:
    case icefield::ErrorKind::resource:
      return kNotComputed;
    case icefield::ErrorKind::interrupted:
      break;
  }
  return kInterrupted;
}

}  // namespace

int main(int argc, char** argv) {
  CLI::App app{
      "Icefield turns photo sets into measured 3D.\n"
      "The steps in order: begin, match, pose, adjust, densify; `run` does what is stale; `view` and `compare` look at "
      "it."};
  app.set_version_flag("--version", "icefield " ICEFIELD_VERSION);
  app.require_subcommand(1);
  app.get_formatter()->column_width(34);

  Common common;
  std::vector<std::string> sources;
  PhotosRequest photos_request;
  DensifyRequest densify_request;
  CloudRequest cloud_request;
  ExportRequest export_request;
  CompareRequest compare_request;
  AdjustCommandRequest adjust_request;
  JoinCommandRequest join_request;
  ViewRequest view_request;
  PairRequest pair_request;
  std::string to = "densify", pairs_file, masks;

  const auto command = [&](const char* name, const char* help) {
    auto* sub = app.add_subcommand(name, help);
    sub->add_option("survey", common.survey, "The survey's folder")->required();
    sub->add_flag("--json", common.json, "Results as JSON on standard output");
    sub->add_option("--threads", common.threads, "Threads; 0: as many as the machine has")->check(CLI::Range(0, 1024));
    sub->add_option("--instructions", common.instructions,
                    "Pin the instruction level (avx2, avx512), for results that match another machine's");
    sub->add_flag("--quiet", common.quiet, "Warnings and errors only on standard error");
    sub->add_flag("--verbose", common.verbose, "What the steps decide, on standard error");
    return sub;
  };
  const auto with_settings = [&](CLI::App* sub) {
    sub->add_option("--effort", common.effort,
                    "draft, standard or fine; of a step: that step's alone, of begin, photos, run, settings and demo: "
                    "of all; kept in survey.toml");
    sub->add_option("--set", common.set, "section.key=value, more than once; kept in survey.toml")
        ->allow_extra_args(false);
    return sub;
  };
  auto* begin = with_settings(
      command("begin", "Gather photos into a survey; read metadata; first cameras; score sharpness and exposure"));
  begin->add_option("photos", sources, "Photos and folders of photos")->required();
  auto* photos = with_settings(
      command("photos",
              "List the photos: camera, focal length and where it came from, sharpness, exposure; switch photos off"));
  for (auto* sub : {begin, photos})
    sub->add_option(
        "--masks", masks,
        "Folder of masks: for NAME.jpg a NAME.png of its size, black where pixels take no part; kept in survey.toml");
  photos->add_option("--off", photos_request.off, "Names of photos that take no part");
  photos->add_option("--on", photos_request.on, "Names of photos to take in again");
  photos
      ->add_option("--camera", photos_request.camera,
                   "The camera that the following say something of, by its number in the list; kept in survey.toml, in "
                   "place of what was given before; alone: forget that")
      ->check(CLI::PositiveNumber);
  photos->add_option("--model", photos_request.model,
                     "pinhole (no distortion), radial (the start for all), brown (with tangential terms), fisheye");
  photos->add_option("--focal-px", photos_request.focal_px, "Focal length of the camera, in pixels of its photos")
      ->check(CLI::PositiveNumber);
  photos
      ->add_option("--uncertain", photos_request.uncertainty_percent,
                   "Standard deviation of this focal length, percent")
      ->check(CLI::PositiveNumber);
  photos->add_option("--parameter", photos_request.parameters, "A further parameter, as radial_1=-0.08; more than once")
      ->allow_extra_args(false);
  auto* match =
      with_settings(command("match", "Find and describe features, choose pairs of photos, match and verify them"));
  match->add_option(
      "--pairs", pairs_file,
      "Text file of pairs to try whatever else is chosen, lines PHOTO | PHOTO; kept in the survey's pairs.txt");
  auto* pose = with_settings(command("pose", "Estimate poses, triangulate tie points, adjust"));
  auto* adjusting = command("adjust",
                            "Adjust a block again with other freedoms, or take out weak tie points in measured passes; "
                            "the block before is kept");
  adjusting->add_option("--block", adjust_request.block, "Which block")->check(CLI::PositiveNumber);
  adjusting
      ->add_option("--free", adjust_request.free,
                   "Camera parameters to adjust, and no others (focal, centre_x, radial_1 ...)")
      ->delimiter(',');
  adjusting->add_option("--fix", adjust_request.held, "Camera parameters that stay as they are")->delimiter(',');
  adjusting->add_flag("--remove-weak", adjust_request.remove_weak,
                      "Take out weak tie points, the weakest first, adjusting after each pass");
  adjusting->add_option("--level", adjust_request.level, "Standardised residual above which a tie point is weak")
      ->check(CLI::Range(1.0, 100.0))
      ->capture_default_str();
  adjusting
      ->add_option("--sigma", adjust_request.sigma,
                   "Largest standard deviation of a tie point, in pixels on the subject (GSD)")
      ->check(CLI::Range(0.01, 1e6))
      ->capture_default_str();
  adjusting->add_option("--angle", adjust_request.angle, "Smallest angle at which its rays meet, degrees")
      ->check(CLI::Range(0.0, 90.0))
      ->capture_default_str();
  adjusting->add_option("--share", adjust_request.share_percent, "Most that one pass takes, percent of the tie points")
      ->check(CLI::Range(0.01, 50.0))
      ->capture_default_str();
  adjusting->add_option("--passes", adjust_request.passes, "Most passes")
      ->check(CLI::Range(1, 1000))
      ->capture_default_str();
  adjusting->add_flag("--undo", adjust_request.undo, "Bring back the block before the last adjustment");
  auto* joining = command(
      "join", "Lay one block into another by their common tie points and adjust; adjust --undo parts them again");
  joining->add_option("first", join_request.first, "Number of a block: its frame stays")
      ->required()
      ->check(CLI::PositiveNumber);
  joining->add_option("second", join_request.second, "Number of the other")->required()->check(CLI::PositiveNumber);
  joining->add_option("--least", join_request.least, "Common tie points that must agree")
      ->check(CLI::Range(3, 100000))
      ->capture_default_str();
  auto* densify = with_settings(command("densify", "Depth maps and dense cloud"));
  densify
      ->add_option("--bounds", densify_request.bounds,
                   "Centre x y z and size x y z of the box outside which nothing is kept, in the block's units, and "
                   "its turn about the vertical in degrees; kept in survey.toml")
      ->expected(6, 7);
  densify->add_option("--outline", densify_request.outline,
                      "Keep what lies in this polygon, in plan: text file, a corner X Y in each line; with --bounds: "
                      "and in the box; kept in survey.toml");
  densify->add_flag("--automatic-bounds", densify_request.automatic_bounds, "Forget the bounds given before")
      ->excludes("--bounds")
      ->excludes("--outline");
  densify->add_flag("--dry-run", densify_request.dry_run, "Only say what it would take: time, memory, disk");
  auto* clouds =
      app.add_subcommand("cloud", "Work on clouds as files: merge, crop, clean, thin, normals, tiles; in this order");
  clouds->add_option("input", cloud_request.inputs, "PLY files; several are merged")->required();
  clouds->add_option("--output", cloud_request.output, "File to write: .ply, .las or .xyz")->required();
  clouds
      ->add_option("--box", cloud_request.box,
                   "Keep what is in this box: centre x y z, size x y z, and its turn about the vertical in degrees")
      ->expected(6, 7);
  clouds->add_option("--outline", cloud_request.outline,
                     "Keep what is in this polygon: text file, a corner X Y in each line");
  clouds->add_flag("--outside", cloud_request.outside, "Keep what is outside of box and polygon instead");
  clouds->add_flag("--clean", cloud_request.clean, "Set aside what is likely no surface");
  clouds
      ->add_option("--conflicts", cloud_request.cleaning.max_conflicts_per_view,
                   "Photos that see past a point, for each that agrees on it; 0: not asked")
      ->check(CLI::Range(0.0, 100.0))
      ->capture_default_str();
  clouds
      ->add_option("--loneliness", cloud_request.cleaning.max_loneliness,
                   "Distance of a point to its neighbours, against theirs; 0: not asked")
      ->check(CLI::Range(0.0, 1000.0))
      ->capture_default_str();
  clouds
      ->add_option("--island", cloud_request.cleaning.min_island_points,
                   "Smaller groups of connected points are set aside; 0: none")
      ->check(CLI::Range(0, 100000000))
      ->capture_default_str();
  clouds->add_option("--aside", cloud_request.aside,
                     "File for what cleaning takes out, each point with its reason; merged with the rest it is back");
  clouds->add_option("--thin", cloud_request.spacing, "One point for each cube of this size")
      ->check(CLI::PositiveNumber);
  clouds->add_flag("--normals", cloud_request.normals, "Normals from each point's neighbours");
  clouds->add_option("--tiles", cloud_request.tiles, "A file for each square of this size, OUTPUT_COLUMN_ROW")
      ->check(CLI::PositiveNumber);
  clouds->add_flag("--ascii", cloud_request.ascii, "PLY as text");
  clouds->add_flag("--json", common.json, "Results as JSON on standard output");
  clouds->add_flag("--quiet", common.quiet, "Warnings and errors only on standard error");
  clouds->add_option("--threads", cloud_request.threads, "Threads; 0: as many as the machine has")
      ->check(CLI::Range(0, 1024));
  auto* exporting = command("export", "Write results in open formats");
  exporting->add_option("--block", export_request.block, "Which block")->check(CLI::PositiveNumber);
  exporting->add_option("--cameras", export_request.cameras, "Write cameras and poses to this JSON file");
  exporting->add_option("--tie-points", export_request.tie_points,
                        "Write the tie points to this file: .ply, .las or .xyz");
  exporting->add_option("--cloud", export_request.cloud, "Write the dense cloud to this file: .ply, .las or .xyz");
  exporting->add_option("--undistorted", export_request.undistorted,
                        "Write photos without distortion, and their pinhole cameras, to this folder");
  exporting->add_option("--depth-maps", export_request.depth_maps,
                        "Write the depth maps as images of 32-bit floats (depth along the optical axis, 0: none), and "
                        "their cameras, to this folder");
  exporting->add_option("--depth-format", export_request.depth_format, "tif or exr")
      ->check(CLI::IsMember({"tif", "exr"}))
      ->capture_default_str();
  exporting->add_option("--depth-points", export_request.depth_points,
                        "Write the depth map of one photo as coloured points to this file: .ply, .las or .xyz");
  exporting->add_option("--photo", export_request.photo, "Which photo that is (default: the first)");
  exporting->add_flag(
      "--stale", export_request.stale,
      "Cameras, tie points and cloud as they lie there, even where they are of another state of the survey");
  exporting->add_flag("--ascii", export_request.ascii, "PLY as text");
  auto* compare = command("compare", "Measure cameras and cloud against known truth");
  compare->add_option("--block", compare_request.block, "Which block")->check(CLI::PositiveNumber);
  compare->add_option("--cameras", compare_request.cameras, "True cameras (JSON as `export` writes it)")->required();
  compare->add_option("--overlap", compare_request.overlap,
                      "True overlaps of photos (text as `icefield-simulate overlap` writes it)");
  compare->add_option("--surface", compare_request.surface,
                      "True surface (PLY with gsd, as `icefield-simulate surface` writes it)");
  compare->add_flag("--stale", compare_request.stale,
                    "The cloud as it lies there, even where it is of another state of the survey");
  const char* kViews =
      "features, matches, pairs, block, residuals, lens, through, cloud, clouds (two, side by side) or depth";
  auto* view = command("view",
                       "Draw a PNG of features, matches, the table of pairs, a block, residuals, the scene through a "
                       "photo, the dense cloud, two clouds or a depth map");
  view->add_option("what", view_request.what, kViews)
      ->check(CLI::IsMember(
          {"features", "matches", "pairs", "block", "residuals", "lens", "through", "cloud", "clouds", "depth"}))
      ->capture_default_str();
  view->add_option("--output", view_request.output, "The PNG file (default: WHAT.png in the survey's results)");
  view->add_option("--photo", view_request.photo,
                   "For features, matches, residuals, through and depth: which photo (default: the first)");
  view->add_option("--with", view_request.other,
                   "For matches: the other photo (default: the one with the most matches); for cloud by distance, and "
                   "for clouds: another PLY file");
  view->add_option("--block", view_request.block, "Which block")->check(CLI::PositiveNumber);
  view->add_option("--camera", view_request.camera, "For lens: which camera, as `photos` numbers them")
      ->check(CLI::PositiveNumber);
  view->add_option("--from", view_request.from, "For block, cloud and clouds: perspective, above, front or side")
      ->check(CLI::IsMember({"perspective", "above", "front", "side"}))
      ->capture_default_str();
  view->add_option(
          "--by", view_request.by,
          "For block: tie points by colour, views, residual or uncertainty; for cloud: colour, height, normal, views, "
          "error, or distance to the cloud named by --with; for depth: depth, normal, confidence or views")
      ->check(CLI::IsMember({"colour", "views", "residual", "uncertainty", "height", "normal", "error", "confidence",
                             "depth", "distance"}))
      ->capture_default_str();
  view->add_option("--file", view_request.file,
                   "For cloud and clouds: this PLY file instead of the block's dense cloud");
  view->add_flag(
      "--stale", view_request.stale,
      "For block and cloud: the files as they lie there, even where they are of another state of the survey");
  view->add_flag("--no-names", view_request.no_names, "For block: photos without their names");
  view->add_flag("--cloud", view_request.cloud, "For through: the dense cloud instead of the tie points");
  view->add_option("--enlarged", view_request.enlarged,
                   "For residuals and lens: how many times (default: so that they can be seen)")
      ->check(CLI::Range(0.0, 1e6));
  view->add_option("--azimuth", view_request.azimuth_deg, "Where the eye is around the vertical, degrees")
      ->capture_default_str();
  view->add_option("--elevation", view_request.elevation_deg, "and above the horizontal")->capture_default_str();
  auto* pair = command("pair", "Study two photos: features, matches, two-view geometry, the possible poses, points");
  pair->add_option("first", pair_request.first, "Name of a photo")->required();
  pair->add_option("second", pair_request.second, "Name of another")->required();
  pair->add_option("--points", pair_request.points, "Write the points to this PLY file, in the first photo's frame");
  auto* run = with_settings(command("run", "Do every stale step up to a given one"));
  run->add_option("--to", to, "match, pose or densify")
      ->check(CLI::IsMember({"match", "pose", "densify"}))
      ->capture_default_str();
  auto* status = command("status", "What is fresh, stale (and why) or missing, and what is on disk");
  bool dry_tidy = false;
  auto* tidy =
      command("tidy", "Free what no present result needs: intermediates of other settings, files left half-written");
  tidy->add_flag("--dry-run", dry_tidy, "Only show it");
  auto* settings =
      with_settings(command("settings", "Every setting with its meaning, unit, default and present value"));
  auto* demo = with_settings(command("demo", "Copy the demo photos into a new survey and run the whole chain on them"));

  try {
    app.parse(argc, argv);
  } catch (const CLI::ParseError& e) {
    const int status_of_help = app.exit(e, std::cout, std::cerr);
    return status_of_help == 0 ? kDone : kWrongUsage;
  }
  TerminalMonitor monitor(common.quiet, common.verbose);
  try {
    icefield::require_baseline_instructions();
    if (!common.instructions.empty()) icefield::pin_instruction_level(common.instructions);
    if (*begin) return begin_command(common, sources, masks, monitor);
    photos_request.masks = masks;
    if (*photos) return photos_command(common, photos_request, monitor);
    if (*match) return match_command(common, pairs_file, monitor);
    if (*pose) return pose_command(common, monitor);
    if (*adjusting) return adjust_command(common, adjust_request, monitor);
    if (*joining) return join_command(common, join_request, monitor);
    if (*densify) return densify_command(common, densify_request, monitor);
    cloud_request.json = common.json;
    if (*clouds) return cloud_command(cloud_request, monitor);
    if (*exporting) return export_command(common, export_request, monitor);
    if (*compare) return compare_command(common, compare_request, monitor);
    if (*pair) return pair_command(common, pair_request, monitor);
    if (*view) return view_command(common, view_request, monitor);
    if (*run) return run_command(common, to, monitor);
    if (*status) return status_command(common, monitor);
    if (*tidy) return tidy_command(common, dry_tidy, monitor);
    if (*settings) return settings_command(common, monitor);
    if (*demo) return demo_command(common, monitor);
  } catch (const icefield::Error& e) {
    monitor.progress("", 1, 1);
    if (common.json) fmt::print("{}\n", error_json(e));
    fmt::print(stderr, "icefield: {}\n", e.what());
    return exit_status(e.kind());
  } catch (const std::filesystem::filesystem_error& e) {
    const icefield::Error error(icefield::ErrorKind::resource, e.path1().string(),
                                "cannot be used (" + e.code().message() + ")", "check permissions and free space");
    if (common.json) fmt::print("{}\n", error_json(error));
    fmt::print(stderr, "icefield: {}\n", error.what());
    return exit_status(error.kind());
  } catch (const std::bad_alloc&) {
    fmt::print(stderr, "icefield: memory: is used up; close other programs, or use --effort draft\n");
    return kNotComputed;
  } catch (const std::exception& e) {
    fmt::print(stderr, "icefield: unexpected: {}; please report it with the command\n", e.what());
    return kNotComputed;
  }
  return kWrongUsage;
}
