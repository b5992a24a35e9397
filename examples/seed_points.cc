// Reads a scene that `icefield export --scene` wrote, and draws its seed points into one of its photos: the way into a
// reader of your own.
//
//   seed_points SCENE PHOTO.png OUTPUT.png
#include <cstdio>

#include "icefield/base/error.h"
#include "icefield/io/camera_file.h"
#include "icefield/io/cloud_reader.h"
#include "icefield/io/photo_file.h"

int main(int argc, char** argv) {
  if (argc != 4) {
    std::fprintf(stderr, "usage: seed_points SCENE PHOTO OUTPUT.png\n");
    return 2;
  }
  try {
    const std::filesystem::path scene = argv[1];
    const icefield::CameraFile cameras = icefield::read_camera_file(scene / "cameras.json");
    const icefield::PointCloud points = icefield::read_cloud(scene / "points.ply");
    icefield::ImageU8 picture = icefield::read_photo(scene / "photos" / argv[2]);
    std::size_t drawn = 0;
    for (const icefield::CameraFile::Photo& photo : cameras.photos) {
      if (photo.name != argv[2]) continue;
      const icefield::Camera& camera = cameras.cameras[photo.camera];
      for (std::size_t i = 0; i < points.size(); ++i) {
        // By hand: turn into the camera's axes, divide by depth, scale by the focal length.
        const Eigen::Vector3d p = photo.pose.to_camera(points.position(i) - cameras.origin);
        if (p.z() <= 0) continue;
        const double x = camera.focal() * p.x() / p.z() + camera.principal_point().x();
        const double y = camera.focal() * p.y() / p.z() + camera.principal_point().y();
        if (x < 0 || y < 0 || x >= picture.width() || y >= picture.height()) continue;
        for (int c = 0; c < picture.channels(); ++c)
          picture.at(static_cast<int>(x), static_cast<int>(y), c) = static_cast<std::uint8_t>(c == 0 ? 255 : 40);
        ++drawn;
      }
    }
    icefield::write_photo(argv[3], picture);
    std::printf("%zu of %zu points in %s\n", drawn, points.size(), argv[3]);
    return drawn > 0 ? 0 : 1;
  } catch (const icefield::Error& error) {
    std::fprintf(stderr, "%s\n", error.what());
    return 1;
  }
}
