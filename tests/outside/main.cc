#include <icefield/adjust/adjust.h>
#include <icefield/survey/settings.h>

#include <cstdio>

int main() {
  const icefield::Camera camera = icefield::make_camera(icefield::CameraModel::radial, 1200, 800, 1000);
  const auto pixel = icefield::project(camera, {0.1, 0.2, 1.0});
  std::printf("%.1f %.1f, %zu settings\n", pixel->x(), pixel->y(), icefield::Settings().list().size());
  return pixel->x() == 700 && pixel->y() == 600 ? 0 : 1;
}
