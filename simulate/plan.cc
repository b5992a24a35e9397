#include "simulate/plan.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <memory>
#include <nlohmann/json.hpp>
#include <numbers>

#include "icefield/base/random.h"
#include "icefield/io/camera_file.h"
#include "icefield/io/control_file.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/target_sheet.h"
#include "icefield/io/text_file.h"

namespace icefield::simulate {
namespace fs = std::filesystem;
namespace {

constexpr double kPi = std::numbers::pi;
using Eigen::Vector3d;

Camera make_lens(const PlanOptions& options, double nominal_focal_px) {
  CounterRandom random(combine_keys(options.lens_seed, 31));
  // What is engraved on a lens is off by a little.
  Camera camera =
      make_camera(CameraModel::radial, options.width, options.height, nominal_focal_px * random.uniform(0.985, 1.015));
  camera.parameters[3] = random.uniform(-0.09, 0.02);
  camera.parameters[4] = random.uniform(-0.02, 0.03);
  return camera;
}

Vector3d wobble(CounterRandom& random, double size) {
  return size * Vector3d(random.normal(), random.normal(), random.normal());
}

Pose tilted(Pose pose, const Vector3d& by) {
  pose.orientation = (rotation_from_vector(by) * pose.orientation).normalized();
  return pose;
}

std::string clock_time(int seconds) {
  return fmt::format("2026:08:19 {:02}:{:02}:{:02}", 9 + seconds / 3600, seconds / 60 % 60, seconds % 60);
}

constexpr double kHandSensor_mm = 23.5;  // width

// What a camera in the hand writes into its photos.
PhotoMetadata of_hand_camera(double focal_mm) {
  PhotoMetadata metadata;
  metadata.focal_mm = focal_mm;
  metadata.focal_35mm =
      std::round(focal_mm * std::hypot(36.0, 24.0) / std::hypot(kHandSensor_mm, kHandSensor_mm * 2 / 3));
  metadata.make = "Firnlicht";
  metadata.model = "FL-2 Hand";
  metadata.lens = "Firnlicht 18-35";
  return metadata;
}

std::vector<PlannedPhoto> plan_ring(const PlanOptions& options) {
  CounterRandom random(combine_keys(options.shot_seed, 41));
  CounterRandom lens_random(combine_keys(options.lens_seed, 32));
  const double focal_mm = lens_random.uniform(19.5, 23.0);
  const double rounded_mm = std::round(focal_mm * 10) / 10;
  const Camera camera = make_lens(options, rounded_mm / kHandSensor_mm * options.width);
  std::vector<PlannedPhoto> photos;
  // Shares of the photos and heights of the three rings.
  const double shares[] = {0.36, 0.36, 0.28}, heights[] = {0.55, 1.5, 2.7}, radii[] = {3.5, 3.4, 2.9};
  int placed = 0;
  for (int ring = 0; ring < 3; ++ring) {
    const int count =
        ring == 2 ? options.photos - placed : static_cast<int>(std::lround(shares[ring] * options.photos));
    for (int k = 0; k < count; ++k) {
      const double angle = 2 * kPi * options.extent * (k + 0.33 * ring + 0.08 * random.normal()) / count;
      const double radius = radii[ring] * (1 + 0.05 * random.normal());
      const Vector3d centre(radius * std::cos(angle), radius * std::sin(angle), heights[ring] + 0.08 * random.normal());
      const Vector3d target = Vector3d(0, 0, 0.72) + wobble(random, 0.06);
      PlannedPhoto photo;
      photo.shot.camera = camera;
      photo.shot.pose = tilted(look_at(centre, target, Vector3d::UnitZ()), Vector3d(0, 0, 0.04 * random.normal()));
      photo.metadata = of_hand_camera(rounded_mm);
      photo.name = fmt::format("{}_{:03}.jpg", options.scene.kind, placed + 1);
      photo.metadata.time = clock_time(8 * placed);
      photos.push_back(photo);
      ++placed;
    }
  }
  return photos;
}

// Two rounds about a lantern, each of three rings; between them it was turned over.
std::vector<PlannedPhoto> plan_rounds(const PlanOptions& options) {
  CounterRandom random(combine_keys(options.shot_seed, 43));
  CounterRandom lens_random(combine_keys(options.lens_seed, 32));
  const double rounded_mm = std::round(lens_random.uniform(24.0, 28.0) * 10) / 10;
  const Camera camera = make_lens(options, rounded_mm / kHandSensor_mm * options.width);
  std::vector<PlannedPhoto> photos;
  for (int round = 0; round < 2; ++round) {
    const int count = round == 0 ? (options.photos + 1) / 2 : options.photos / 2;
    const Eigen::Isometry3d place = lantern_place(round + 1).cast<double>();
    const Eigen::Quaterniond turn(place.linear());
    // From close to the slab, from a little above, and from far above: what is low in one round is low in the other.
    const int low = (9 * count + 10) / 20, middle_ring = (3 * count + 5) / 10;
    for (int k = 0; k < count; ++k) {
      const int ring = k < low                 ? 0
                       : k < low + middle_ring ? 1
                                               : 2,
                first = ring == 0   ? 0
                        : ring == 1 ? low
                                    : low + middle_ring,
                of = ring == 0   ? low
                     : ring == 1 ? middle_ring
                                 : count - low - middle_ring;
      const double ups[] = {6, 26, 52};
      const double angle =
                       2 * kPi * options.extent * (k - first + 0.33 * ring) / of + 0.05 * random.normal() + 0.7 * round,
                   up = (ups[ring] + 1.5 * random.normal()) * kPi / 180, far = 0.85 * (1 + 0.04 * random.normal());
      const Vector3d middle(0, 0, 0.21), centre = middle + far * Vector3d(std::cos(up) * std::cos(angle),
                                                                          std::cos(up) * std::sin(angle), std::sin(up));
      const Pose seen = tilted(look_at(centre, middle + wobble(random, 0.012), Vector3d::UnitZ()),
                               Vector3d(0, 0, 0.05 * random.normal()));
      PlannedPhoto photo;
      photo.position = round + 1;
      photo.folder = round == 0 ? "standing" : "turned";
      photo.name = fmt::format("{}_{:03}.jpg", photo.folder, k + 1);
      photo.shot.camera = camera;
      photo.shot.pose.centre = place.inverse() * seen.centre;
      photo.shot.pose.orientation = (seen.orientation * turn).normalized();
      photo.metadata = of_hand_camera(rounded_mm);
      photo.metadata.time = clock_time(600 * round + 8 * k);
      photos.push_back(photo);
    }
  }
  return photos;
}

// As it is seen in the scene of its position.
Shot in_scene(const PlannedPhoto& photo) {
  Shot shot = photo.shot;
  if (photo.position == 0) return shot;
  const Eigen::Isometry3d place = lantern_place(photo.position).cast<double>();
  shot.pose.centre = place * shot.pose.centre;
  shot.pose.orientation = (shot.pose.orientation * Eigen::Quaterniond(place.linear()).conjugate()).normalized();
  return shot;
}

std::vector<PlannedPhoto> plan_flight(const PlanOptions& options) {
  CounterRandom random(combine_keys(options.shot_seed, 51));
  CounterRandom gimbal(combine_keys(options.shot_seed, 53));
  CounterRandom lens_random(combine_keys(options.lens_seed, 52));
  const double sensor_mm = 13.2, rounded_mm = std::round(lens_random.uniform(8.4, 9.6) * 10) / 10;
  const Camera camera = make_lens(options, rounded_mm / sensor_mm * options.width);
  const int obliques = std::max(2, options.photos / 5);
  const int nadirs = options.photos - obliques;
  const int strips = std::max(2, static_cast<int>(std::lround(std::sqrt(nadirs * 0.55))));
  const int per_strip = (nadirs + strips - 1) / strips;
  std::vector<PlannedPhoto> photos;
  const auto add = [&](const Pose& pose) {
    PlannedPhoto photo;
    photo.shot.camera = camera;
    photo.shot.pose = pose;
    photo.metadata.focal_mm = rounded_mm;
    photo.metadata.focal_35mm = std::round(rounded_mm * std::hypot(36.0, 24.0) / std::hypot(13.2, 8.8));
    photo.metadata.make = "Gletscherblick";
    photo.metadata.model = "GB Aero 20";
    const int index = static_cast<int>(photos.size());
    photo.name = fmt::format("flight_{:03}.jpg", index + 1);
    photo.metadata.time = clock_time(4 * index);
    // A made-up place in the Alps; GPS of a small receiver.
    const Vector3d noise(1.2 * random.normal(), 1.2 * random.normal(), 2.0 * random.normal());
    const Vector3d measured = pose.centre + noise;
    // What the gimbal reports.
    const Vector3d axis = pose.viewing_direction();
    photo.metadata.view_azimuth_deg =
        std::fmod(std::atan2(axis.x(), axis.y()) * 180 / kPi + gimbal.normal() + 720, 360);
    photo.metadata.view_elevation_deg =
        std::clamp(std::asin(std::clamp(axis.z(), -1.0, 1.0)) * 180 / kPi + 0.5 * gimbal.normal(), -90.0, 90.0);
    photo.metadata.gps =
        GpsPosition{46.8 + measured.y() / 111190.0, 10.75 + measured.x() / (111190.0 * std::cos(46.8 * kPi / 180)),
                    2310 + measured.z()};
    photos.push_back(photo);
  };
  for (int i = 0; i < nadirs; ++i) {
    const int strip = i / per_strip, along = strip % 2 == 0 ? i % per_strip : per_strip - 1 - i % per_strip;
    const double x =
        (per_strip == 1 ? 0.0 : (along / (per_strip - 1.0) - 0.5) * 108 * options.extent) + 0.8 * random.normal();
    const double y = (strips == 1 ? 0.0 : (strip / (strips - 1.0) - 0.5) * 74 * options.extent) + 0.8 * random.normal();
    const Vector3d centre(x, y, options.flying_height + 3 + 0.5 * random.normal());
    const double heading = strip % 2 == 0 ? 1 : -1;
    add(tilted(look_at(centre, centre - Vector3d::UnitZ(), heading * Vector3d::UnitY()), wobble(random, 0.035)));
  }
  // A low flight looks down at the same angle from nearer by.
  const double reach = options.extent * std::min(1.0, options.flying_height / 58);
  for (int k = 0; k < obliques; ++k) {
    const double angle = 2 * kPi * (k + 0.2 * random.normal()) / obliques;
    const Vector3d centre(reach * 72 * std::cos(angle), reach * 62 * std::sin(angle),
                          options.flying_height - 6 + random.normal());
    add(tilted(look_at(centre, {6 * std::cos(angle), 5 * std::sin(angle), 3}, Vector3d::UnitZ()),
               wobble(random, 0.02)));
  }
  return photos;
}

}  // namespace

std::vector<PlannedPhoto> plan_photos(const PlanOptions& options) {
  std::vector<PlannedPhoto> photos = options.scene.kind == "forefield" ? plan_flight(options)
                                     : options.scene.kind == "lantern" ? plan_rounds(options)
                                                                       : plan_ring(options);
  CounterRandom random(combine_keys(options.shot_seed, 61));
  for (PlannedPhoto& photo : photos) {
    photo.metadata.width = options.width;
    photo.metadata.height = options.height;
    photo.shot.exposure_ev = options.exposure_ev + options.exposure_jitter_ev * random.normal();
    const double fate = random.uniform(), strength = random.uniform(0.5, 1.0);
    if (fate < 0.5 * options.blur_share)
      photo.shot.defocus_px = 4 * strength;
    else if (fate < options.blur_share)
      photo.shot.motion = wobble(random, strength * (options.scene.kind == "forefield" ? 0.3 : 0.015));
  }
  return photos;
}

namespace {

// Where the middles of the targets are, as a table of points.
void write_boards(const fs::path& folder, const std::vector<Board>& boards) {
  std::vector<ControlPointRow> rows;
  for (const Board& board : boards) {
    ControlPointRow row;
    row.name = target_name(board.number);
    row.place = board.middle.cast<double>();
    rows.push_back(row);
  }
  write_file(folder / "truth" / "targets.csv", text_of_control_points(rows));
}

}  // namespace

void write_survey(const fs::path& folder, const PlanOptions& options, const RenderOptions& render_options, int quality,
                  const Executor& executor, Monitor& monitor) {
  const Scene scene(options.scene);
  const auto photos = plan_photos(options);
  std::map<int, std::unique_ptr<const Scene>> others;  // by position
  fs::create_directories(folder / "photos");
  fs::create_directories(folder / "truth");
  CameraFile truth;
  truth.datum.units = "m";
  truth.camera_names = {"true lens"};
  truth.cameras = {photos.front().shot.camera};
  truth.bounds = scene.subject();
  for (std::size_t i = 0; i < photos.size(); ++i) {
    monitor.check();
    monitor.progress("render", i, photos.size());
    RenderOptions own = render_options;
    own.seed = combine_keys(render_options.seed, i);
    if (photos[i].shot.defocus_px > 0 || !photos[i].shot.motion.isZero()) own.samples = std::max(own.samples, 16);
    std::unique_ptr<const Scene>& other = others[photos[i].position];
    if (photos[i].position != options.scene.position && !other) {
      SceneOptions moved = options.scene;
      moved.position = photos[i].position;
      other = std::make_unique<const Scene>(moved);
    }
    const ImageU8 image = render(other ? *other : scene, in_scene(photos[i]), own, executor);
    const fs::path round = folder / "photos" / photos[i].folder;
    fs::create_directories(round);
    write_photo(round / photos[i].name, image, photos[i].metadata, quality);
    truth.photos.push_back({photos[i].name, 0, photos[i].shot.pose});
  }
  monitor.progress("render", photos.size(), photos.size());
  write_camera_file(folder / "truth" / "cameras.json", truth);
  if (!scene.boards().empty()) write_boards(folder, scene.boards());
  const nlohmann::ordered_json plan = {{"scene", options.scene.kind},
                                       {"seed", options.scene.seed},
                                       {"detail", options.scene.detail},
                                       {"clouds", options.scene.clouds},
                                       {"targets", options.scene.targets},
                                       {"target_size", options.scene.target_size},
                                       {"bushes", options.scene.bushes},
                                       {"relief", options.scene.relief},
                                       {"photos", options.photos},
                                       {"width", options.width},
                                       {"height", options.height},
                                       {"lens_seed", options.lens_seed},
                                       {"shot_seed", options.shot_seed},
                                       {"exposure_ev", options.exposure_ev},
                                       {"exposure_jitter_ev", options.exposure_jitter_ev},
                                       {"blur_share", options.blur_share},
                                       {"extent", options.extent},
                                       {"flying_height", options.flying_height}};
  write_file(folder / "truth" / "scene.json", plan.dump(1) + "\n");
}

PlanOptions read_plan(const fs::path& folder) {
  const fs::path file = folder / "truth" / "scene.json";
  try {
    const auto plan = nlohmann::json::parse(read_file(file));
    PlanOptions options;
    options.scene = {plan.at("scene"),          plan.at("seed"),          plan.at("detail"),
                     plan.value("clouds", 0.0), plan.value("targets", 0), plan.value("target_size", 0.0),
                     plan.value("bushes", 0),   plan.value("relief", 1.0)};
    options.photos = plan.at("photos");
    options.width = plan.at("width");
    options.height = plan.at("height");
    options.lens_seed = plan.at("lens_seed");
    options.shot_seed = plan.at("shot_seed");
    options.exposure_ev = plan.at("exposure_ev");
    options.exposure_jitter_ev = plan.at("exposure_jitter_ev");
    options.blur_share = plan.at("blur_share");
    options.extent = plan.value("extent", 1.0);
    options.flying_height = plan.value("flying_height", options.flying_height);
    return options;
  } catch (const nlohmann::json::exception& e) {
    throw Error(ErrorKind::input, file.string(), std::string("cannot be read (") + e.what() + ")",
                "make the scene again");
  }
}

}  // namespace icefield::simulate
