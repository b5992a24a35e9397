// flat_set FOLDER --photos 200 --width 4000 --height 3000: many large photos of a flight over flat made-up ground, in
// minutes where ray casting takes hours. Made to time `icefield match` and to watch how its time grows; FOLDER/photos,
// FOLDER/truth/cameras.json (the frame of the ground, one pixel of it a metre).
#include <fmt/format.h>

#include <Eigen/Dense>
#include <cmath>
#include <filesystem>

#include "app/arguments.h"
#include "icefield/base/parallel.h"
#include "icefield/base/random.h"
#include "icefield/io/camera_file.h"
#include "icefield/io/photo_file.h"
#include "simulate/noise.h"

// One sample a pixel: the ground is smooth at the size of its pixels, and is seen at that size.
static icefield::ImageU8 seen(const icefield::ImageU8& ground, const Eigen::Matrix3d& to_photo, int width, int height) {
  const Eigen::Matrix3d back = to_photo.inverse();
  icefield::ImageU8 photo(width, height);
  for (int y = 0; y < height; ++y)
    for (int x = 0; x < width; ++x) {
      const Eigen::Vector3d p = back * Eigen::Vector3d(x + 0.5, y + 0.5, 1);
      const double gx = std::clamp(p.x() / p.z() - 0.5, 0.0, ground.width() - 2.0),
                   gy = std::clamp(p.y() / p.z() - 0.5, 0.0, ground.height() - 2.0);
      const int x0 = static_cast<int>(gx), y0 = static_cast<int>(gy);
      const double fx = gx - x0, fy = gy - y0;
      const std::uint8_t *above = ground.row(y0) + x0, *below = ground.row(y0 + 1) + x0;
      photo.at(x, y) = static_cast<std::uint8_t>((1 - fy) * ((1 - fx) * above[0] + fx * above[1]) +
                                                 fy * ((1 - fx) * below[0] + fx * below[1]) + 0.5);
    }
  return photo;
}

int main(int argc, char** argv) {
  using namespace icefield;
  namespace fs = std::filesystem;
  using Eigen::Matrix3d;
  using Eigen::Vector3d;
  Arguments app{"Many large photos of flat ground, quickly"};
  std::string folder;
  int photos = 200, width = 4000, height = 3000, quality = 90, threads = 2;
  std::uint64_t seed = 1;
  app.option("folder", folder).required();
  app.option("--photos", photos).between(1, 20000).with_default();
  app.option("--width", width).with_default();
  app.option("--height", height).with_default();
  app.option("--quality", quality).with_default();
  app.option("--seed", seed).with_default();
  app.option("--threads", threads).with_default();
  if (!app.parse(argc, argv)) return app.status();
  try {
    const Executor executor(threads);
    Monitor silent;
    // Strips 40 percent of the width apart, photos a quarter of the height.
    const int strips = std::max(1, static_cast<int>(std::lround(std::sqrt(photos * 0.25 * height / (0.4 * width))))),
              per_strip = (photos + strips - 1) / strips;
    const double step_x = 0.4 * width, step_y = 0.25 * height, margin = 0.65 * std::hypot(width, height);
    const int ground_width = static_cast<int>((strips - 1) * step_x + 2 * margin),
              ground_height = static_cast<int>((per_strip - 1) * step_y + 2 * margin);
    ImageU8 ground(ground_width, ground_height);
    executor.run("", static_cast<std::size_t>(ground_height), silent, [&](std::size_t row) {
      for (int x = 0; x < ground_width; ++x) {
        const float v = simulate::fractal({0.02f * static_cast<float>(x), 0.02f * static_cast<float>(row), 0.3f}, 1.0f,
                                          6, 0.72f, 0.02f, static_cast<std::uint32_t>(seed));
        ground.at(x, static_cast<int>(row)) =
            static_cast<std::uint8_t>(std::lround(255 * std::clamp(0.45f + 0.25f * v, 0.0f, 1.0f)));
      }
    });
    fs::create_directories(fs::path(folder) / "photos");
    fs::create_directories(fs::path(folder) / "truth");
    const double focal_mm = 9.0, focal = focal_mm / 13.2 * width;
    CameraFile truth;
    truth.datum.units = "m";
    truth.camera_names = {"true lens"};
    truth.cameras = {make_camera(CameraModel::radial, width, height, focal)};
    const Matrix3d k = (Matrix3d() << focal, 0, 0.5 * width, 0, focal, 0.5 * height, 0, 0, 1).finished();
    truth.photos.resize(static_cast<std::size_t>(photos));
    executor.run("", truth.photos.size(), silent, [&](std::size_t unit) {
      const int i = static_cast<int>(unit);
      CounterRandom random(combine_keys(seed, static_cast<std::uint64_t>(i)));
      const int strip = i / per_strip, along = strip % 2 == 0 ? i % per_strip : per_strip - 1 - i % per_strip;
      // x to the right and y down over the ground, z into it: one pixel of a photo sees one of the ground.
      const Vector3d centre(margin + strip * step_x + 0.02 * width * random.normal(),
                            margin + along * step_y + 0.02 * height * random.normal(),
                            -focal * (1 + 0.02 * random.normal()));
      const double heading = (strip % 2 == 0 ? 0.0 : 3.14159265358979) + 0.03 * random.normal();
      const Eigen::Quaterniond turn(Eigen::AngleAxisd(heading, Vector3d::UnitZ()) *
                                    Eigen::AngleAxisd(0.02 * random.normal(), Vector3d::UnitX()) *
                                    Eigen::AngleAxisd(0.02 * random.normal(), Vector3d::UnitY()));
      const Matrix3d r = turn.toRotationMatrix();
      Matrix3d plane;
      plane << r.col(0), r.col(1), -(r * centre);
      const ImageU8 grey = seen(ground, k * plane, width, height);
      ImageU8 colour(width, height, 3);
      for (std::size_t p = 0; p < grey.pixels(); ++p) {
        const double noise = 3 * (random.uniform() + random.uniform() - 1);
        for (std::size_t c = 0; c < 3; ++c)
          colour.values()[3 * p + c] = static_cast<std::uint8_t>(
              std::clamp(grey.values()[p] * (1.04 - 0.04 * static_cast<double>(c)) + noise, 0.0, 255.0));
      }
      PhotoMetadata metadata;
      metadata.width = width, metadata.height = height;
      metadata.focal_mm = focal_mm;
      metadata.make = "Gletscherblick", metadata.model = "GB Aero 20";
      metadata.time = fmt::format("2026:08:19 {:02}:{:02}:{:02}", 9 + 4 * i / 3600, 4 * i / 60 % 60, 4 * i % 60);
      // A made-up place; a pixel of the ground is taken for two centimetres, and the receiver is off by a metre.
      const double east = 0.02 * centre.x() + random.normal(), north = -0.02 * centre.y() + random.normal();
      metadata.gps =
          GpsPosition{46.8 + north / 111190.0, 10.75 + east / (111190.0 * std::cos(46.8 * 3.14159265358979 / 180)),
                      2310 - 0.02 * centre.z()};
      const std::string name = fmt::format("flat_{:05}.jpg", i + 1);
      write_photo(fs::path(folder) / "photos" / name, colour, metadata, quality);
      truth.photos[unit] = {name, 0, {turn, centre}};
    });
    write_camera_file(fs::path(folder) / "truth" / "cameras.json", truth);
    fmt::print("{} photos in {}/photos\n", photos, folder);
  } catch (const std::exception& error) {
    fmt::print(stderr, "flat_set: {}\n", error.what());
    return 1;
  }
  return 0;
}
