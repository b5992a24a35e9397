#include "icefield/camera/camera.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <numbers>

#include "src/camera/formula.h"

namespace icefield {
namespace {

constexpr CameraParameter kPinhole[] = {
    {"focal", "px", "focal length"},
    {"centre_x", "px", "principal point, from the left border"},
    {"centre_y", "px", "principal point, from the upper border"},
};
constexpr CameraParameter kRadial[] = {
    kPinhole[0],
    kPinhole[1],
    kPinhole[2],
    {"radial_1", "1", "radial distortion, factor of r^2"},
    {"radial_2", "1", "radial distortion, factor of r^4"},
};
constexpr CameraParameter kBrown[] = {
    kRadial[0],
    kRadial[1],
    kRadial[2],
    kRadial[3],
    kRadial[4],
    {"radial_3", "1", "radial distortion, factor of r^6"},
    {"tangential_1", "1", "tangential distortion, factor of 2 x y and r^2 + 2 y^2"},
    {"tangential_2", "1", "tangential distortion, factor of r^2 + 2 x^2 and 2 x y"},
};
constexpr CameraParameter kFisheye[] = {
    kPinhole[0],
    kPinhole[1],
    kPinhole[2],
    {"angular_1", "1", "distortion of the angle from the axis, factor of its 3rd power"},
    {"angular_2", "1", "distortion of the angle from the axis, factor of its 5th power"},
    {"angular_3", "1", "distortion of the angle from the axis, factor of its 7th power"},
    {"angular_4", "1", "distortion of the angle from the axis, factor of its 9th power"},
};

struct ModelEntry {
  const char* name;
  std::span<const CameraParameter> parameters;
};
constexpr ModelEntry kModels[] = {{"pinhole", kPinhole}, {"radial", kRadial}, {"brown", kBrown}, {"fisheye", kFisheye}};

}  // namespace

std::span<const CameraParameter> camera_parameters(CameraModel model) {
  return kModels[static_cast<int>(model)].parameters;
}
const char* camera_model_name(CameraModel model) {
  return kModels[static_cast<int>(model)].name;
}

std::optional<CameraModel> camera_model_by_name(std::string_view name) {
  for (std::size_t i = 0; i < std::size(kModels); ++i)
    if (name == kModels[i].name) return static_cast<CameraModel>(i);
  return std::nullopt;
}

Camera make_camera(CameraModel model, int width, int height, double focal_px) {
  Camera camera;
  camera.model = model;
  camera.width = width;
  camera.height = height;
  camera.parameters[0] = focal_px;
  camera.parameters[1] = 0.5 * width;
  camera.parameters[2] = 0.5 * height;
  return camera;
}

double focal_from_field_of_view(int width, int height, double degrees) {
  return 0.5 * std::max(width, height) / std::tan(0.5 * degrees * std::numbers::pi / 180);
}

double field_of_view_deg(const Camera& camera) {
  return 2 * std::atan(0.5 * std::max(camera.width, camera.height) / camera.focal()) * 180 / std::numbers::pi;
}

std::optional<Eigen::Vector2d> project(const Camera& camera, const Eigen::Vector3d& point) {
  bool sound = false;
  const Eigen::Vector2d pixel = project_by_formula(camera, point, sound);
  if (!sound) return std::nullopt;
  return pixel;
}

std::optional<Eigen::Vector2d> project(const Camera& camera, const Eigen::Vector3d& point, Matrix2x3& d_point,
                                       Matrix2xParameters& d_parameters) {
  bool sound = false;
  d_parameters.setZero();
  const Eigen::Vector2d pixel = project_by_formula(camera, point, sound, d_point, d_parameters);
  if (!sound) return std::nullopt;
  return pixel;
}

namespace {

// The radius with r s(r^2) = target, by Newton's method.
std::optional<double> undistorted_radius(const Camera& camera, double target) {
  double r = target;
  for (int i = 0; i < 50; ++i) {
    const RadialScale s = radial_scale(camera, r * r);
    const double slope = s.value + 2 * r * r * s.slope;
    if (slope <= kLeastSlope) return std::nullopt;
    const double step = (r * s.value - target) / slope;
    r = std::max(0.0, r - step);
    if (std::abs(step) < 1e-13 * (1 + r)) break;
  }
  const RadialScale s = radial_scale(camera, r * r);
  if (s.folded(r * r) || std::abs(r * s.value - target) > 1e-9 * (1 + target)) return std::nullopt;
  return r;
}

std::optional<Eigen::Vector2d> unproject_fisheye(const Camera& camera, const Eigen::Vector2d& distorted) {
  const double target = distorted.norm();
  if (target < 1e-12) return distorted;
  constexpr double kLargest = 0.999 * std::numbers::pi / 2;
  double angle = std::min(target, kLargest);
  FisheyeAngle bent = fisheye_angle(camera, angle);
  for (int i = 0; i < 50; ++i) {
    if (bent.slope <= kLeastSlope) return std::nullopt;
    const double step = (bent.value - target) / bent.slope;
    angle = std::clamp(angle - step, 0.0, kLargest);
    bent = fisheye_angle(camera, angle);
    if (std::abs(step) < 1e-14 * (1 + angle)) break;
  }
  if (bent.slope <= kLeastSlope || std::abs(bent.value - target) > 1e-9 * (1 + target)) return std::nullopt;
  return distorted * (std::tan(angle) / target);
}

// Newton's method in the plane, from the place without the tangential terms.
std::optional<Eigen::Vector2d> unproject_brown(const Camera& camera, const Eigen::Vector2d& distorted) {
  const auto radius = undistorted_radius(camera, distorted.norm());
  if (!radius) return std::nullopt;
  Eigen::Vector2d xy = distorted.norm() > 0 ? Eigen::Vector2d(distorted * (*radius / distorted.norm())) : distorted;
  Camera unit = camera;
  unit.parameters[0] = 1, unit.parameters[1] = unit.parameters[2] = 0;
  bool sound = false;
  Eigen::Vector2d gap;
  for (int i = 0; i < 50; ++i) {
    Matrix2x3 d_point;
    Matrix2xParameters d_parameters;
    gap = project_by_formula(unit, xy.homogeneous(), sound, d_point, d_parameters) - distorted;
    const double determinant = d_point(0, 0) * d_point(1, 1) - d_point(0, 1) * d_point(1, 0);
    if (!sound || !(determinant > kLeastSlope * kLeastSlope)) return std::nullopt;
    const Eigen::Vector2d step(d_point(1, 1) * gap.x() - d_point(0, 1) * gap.y(),
                               d_point(0, 0) * gap.y() - d_point(1, 0) * gap.x());
    xy -= step / determinant;
    if (step.norm() < 1e-13 * determinant * (1 + xy.norm())) break;
  }
  if (gap.norm() > 1e-9 * (1 + distorted.norm())) return std::nullopt;
  return xy;
}

}  // namespace

std::optional<Eigen::Vector2d> unproject(const Camera& camera, const Eigen::Vector2d& pixel) {
  const Eigen::Vector2d distorted = (pixel - camera.principal_point()) / camera.focal();
  switch (camera.model) {
    case CameraModel::pinhole:
      return distorted;
    case CameraModel::brown:
      return unproject_brown(camera, distorted);
    case CameraModel::fisheye:
      return unproject_fisheye(camera, distorted);
    case CameraModel::radial:
      break;
  }
  const double target = distorted.norm();
  if (target == 0) return distorted;
  const auto radius = undistorted_radius(camera, target);
  if (!radius) return std::nullopt;
  return distorted * (*radius / target);
}

}  // namespace icefield
