#include "icefield/control/control.h"

#include <fmt/format.h>

#include <cmath>

#include "icefield/base/error.h"

namespace icefield {

const char* describe(ControlUse use) {
  return use == ControlUse::control ? "control" : use == ControlUse::check ? "check" : "spot";
}

PhotoView photo_view(PhotoIndex photo, std::optional<double> azimuth, double elevation, int display_rotation) {
  using Eigen::Vector3d;
  // The directions that point right and down on the screen, in the frame of the stored photo.
  Vector3d right = Vector3d::UnitX(), down = Vector3d::UnitY();
  switch (display_rotation) {
    case 2:
      right = -right;
      break;
    case 3:
      right = -right, down = -down;
      break;
    case 4:
      down = -down;
      break;
    case 5:
      std::swap(right, down);
      break;
    case 6:
      right = -Vector3d::UnitY(), down = Vector3d::UnitX();
      break;
    case 7:
      right = -Vector3d::UnitY(), down = -Vector3d::UnitX();
      break;
    case 8:
      right = Vector3d::UnitY(), down = -Vector3d::UnitX();
      break;
    default:
      break;
  }
  const Vector3d forward = Vector3d::UnitZ();
  PhotoView view;
  view.photo = photo;
  view.up = std::sin(elevation) * forward - std::cos(elevation) * down;
  constexpr double kSteep = 1.2;  // radians: beyond it the azimuth of a line of sight means little
  if (azimuth && std::abs(elevation) < kSteep)
    view.north =
        std::cos(*azimuth) * (std::cos(elevation) * forward + std::sin(elevation) * down) - std::sin(*azimuth) * right;
  return view;
}

void check_control(const Control& control) {
  const auto bad = [](const std::string& what, const char* fault, const char* remedy) {
    throw Error(ErrorKind::usage, what, fault, remedy);
  };
  for (const SurveyedPoint& point : control.points) {
    if (point.use != ControlUse::spot && !point.position.allFinite())
      bad("point '" + point.name + "'", "has a coordinate that is no number", "give three numbers");
    for (int c = 0; c < 3; ++c)
      if (!(point.sigma[c] > 0))
        bad("point '" + point.name + "'", "has a standard deviation that is not above 0", "give it in metres");
  }
  for (const Mark& mark : control.marks) {
    if (mark.point >= control.points.size())
      bad(fmt::format("a mark of point {}", mark.point), "is of a point that there is not",
          "give an index of the points");
    if (!(mark.sigma_px > 0) || !mark.pixel.allFinite())
      bad("a mark of point '" + control.points[mark.point].name + "'",
          "has a place that is no number or a standard deviation that is not above 0", "give both in pixels");
  }
  for (const KnownLength& length : control.lengths) {
    if (length.first >= control.points.size() || length.second >= control.points.size())
      bad(fmt::format("the length between points {} and {}", length.first, length.second),
          "has an end that there is not", "give indices of the points");
    const std::string what = fmt::format("the length between '{}' and '{}'", control.points[length.first].name,
                                         control.points[length.second].name);
    if (length.first == length.second) bad(what, "has one point at both ends", "give two points");
    if (!(length.length > 0 && length.sigma > 0) || !std::isfinite(length.length))
      bad(what, "or its standard deviation is not above 0", "give both in metres");
  }
  const auto known = [&](std::uint32_t point, const char* what) {
    if (point >= control.points.size())
      bad(fmt::format("{} {}", what, point), "is a point that there is not", "give an index of the points");
  };
  const FrameByPoints& frame = control.frame;
  for (const std::uint32_t point : frame.level) known(point, "the level point");
  if (!frame.level.empty() && frame.level.size() < 3) bad("a level plane", "takes three points or more", "give three");
  for (const auto& pair : {frame.up, frame.axis})
    if (pair) {
      known(pair->first, "the end");
      known(pair->second, "the end");
      if (pair->first == pair->second)
        bad("a direction from '" + control.points[pair->first].name + "' to itself", "is none", "give two points");
    }
  if (frame.zero) known(*frame.zero, "the point");
  for (const PhotoView& view : control.views)
    if (std::abs(view.up.norm() - 1) > 1e-6 || (view.north && std::abs(view.north->norm() - 1) > 1e-6) ||
        !(view.up_sigma > 0 && view.north_sigma > 0))
      bad(fmt::format("the directions in photo {}", view.photo.value),
          "are no unit vectors, or a standard deviation is not above 0", "give directions of length 1, and radians");
  for (const PhotoFix& fix : control.fixes)
    if (!fix.position.allFinite() || !(fix.sigma.minCoeff() > 0))
      bad(fmt::format("the position of photo {}", fix.photo.value),
          "is no number or has a standard deviation that is not above 0", "leave it out");
}

}  // namespace icefield
