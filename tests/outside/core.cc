#include <icefield/icefield.h>

#include <cstdio>

int main() {
  const icefield::Camera camera = icefield::make_camera(icefield::CameraModel::radial, 1200, 800, 1000);
  const auto pixel = icefield::project(camera, {0.1, 0.2, 1.0});
  std::printf("Icefield %d.%d: %.1f %.1f\n", ICEFIELD_VERSION_MAJOR, ICEFIELD_VERSION_MINOR, pixel->x(), pixel->y());
  return pixel->x() == 700 && pixel->y() == 600 ? 0 : 1;
}
