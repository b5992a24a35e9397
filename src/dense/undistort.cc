#include <algorithm>
#include <cmath>

#include "icefield/dense/dense.h"
#include "icefield/photo/filter.h"

namespace icefield {

DenseView undistort(const ImageU8& photo, const Camera& camera, const Pose& pose, int factor, const ImageU8& mask) {
  const ImageU8 small = shrink(photo, factor);
  const int channels = small.channels() >= 3 ? 3 : 1;
  DenseView view;
  view.pose = pose;
  view.camera = make_camera(CameraModel::pinhole, small.width(), small.height(), camera.focal() / factor);
  view.camera.parameters[1] = camera.principal_point().x() / factor;
  view.camera.parameters[2] = camera.principal_point().y() / factor;
  view.colour = ImageU8(small.width(), small.height(), channels);
  view.grey = ImageU8(small.width(), small.height());
  view.usable = ImageU8(small.width(), small.height());
  for (int y = 0; y < small.height(); ++y)
    for (int x = 0; x < small.width(); ++x) {
      const auto direction = unproject(view.camera, {x + 0.5, y + 0.5});
      const auto source = project(camera, direction->homogeneous());
      if (!source) continue;
      const double sx = source->x() / factor - 0.5, sy = source->y() / factor - 0.5;
      if (!(sx >= -0.5 && sy >= -0.5 && sx <= small.width() - 0.5 && sy <= small.height() - 0.5)) continue;
      const int x0 = std::clamp(static_cast<int>(std::floor(sx)), 0, small.width() - 1),
                y0 = std::clamp(static_cast<int>(std::floor(sy)), 0, small.height() - 1);
      const int x1 = std::min(x0 + 1, small.width() - 1), y1 = std::min(y0 + 1, small.height() - 1);
      const float fx = std::clamp(static_cast<float>(sx - x0), 0.0f, 1.0f),
                  fy = std::clamp(static_cast<float>(sy - y0), 0.0f, 1.0f);
      float value[3] = {};
      for (int c = 0; c < channels; ++c) {
        const float top = small.at(x0, y0, c) * (1 - fx) + small.at(x1, y0, c) * fx;
        const float bottom = small.at(x0, y1, c) * (1 - fx) + small.at(x1, y1, c) * fx;
        value[c] = top * (1 - fy) + bottom * fy;
        view.colour.at(x, y, c) = static_cast<std::uint8_t>(value[c] + 0.5f);
      }
      const float grey = channels == 3 ? 0.2126f * value[0] + 0.7152f * value[1] + 0.0722f * value[2] : value[0];
      view.grey.at(x, y) = static_cast<std::uint8_t>(grey + 0.5f);
      view.usable.at(x, y) =
          mask.empty() || mask.at(std::clamp(static_cast<int>(source->x()), 0, mask.width() - 1),
                                  std::clamp(static_cast<int>(source->y()), 0, mask.height() - 1)) > 0;
    }
  return view;
}

}  // namespace icefield
