#include "icefield/camera/camera.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace icefield {
namespace {

constexpr CameraParameter kPinhole[] = {
    {"focal", "px", "focal length"},
    {"centre_x", "px", "principal point, from the left border"},
    {"centre_y", "px", "principal point, from the upper border"},
};
constexpr CameraParameter kRadial[] = {
    kPinhole[0], kPinhole[1], kPinhole[2],
    {"radial_1", "1", "radial distortion, factor of r^2"},
    {"radial_2", "1", "radial distortion, factor of r^4"},
};

struct ModelEntry {
  const char* name;
  std::span<const CameraParameter> parameters;
};
constexpr ModelEntry kModels[] = {{"pinhole", kPinhole}, {"radial", kRadial}};

// Radial scale s(r2) and its derivative by r2. The distorted radius r s grows with r while s + 2 r2 s' > 0.
struct RadialScale {
  double value = 1, slope = 0;
  bool folded(double r2) const { return value + 2 * r2 * slope <= 0.05; }
};

RadialScale radial_scale(const Camera& camera, double r2) {
  if (camera.model == CameraModel::pinhole) return {};
  const double k1 = camera.parameters[3], k2 = camera.parameters[4];
  return {1 + r2 * (k1 + r2 * k2), k1 + 2 * k2 * r2};
}

}  // namespace

std::span<const CameraParameter> camera_parameters(CameraModel model) {
  return kModels[static_cast<int>(model)].parameters;
}
const char* camera_model_name(CameraModel model) { return kModels[static_cast<int>(model)].name; }

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
  if (!(point.z() > 0)) return std::nullopt;
  const Eigen::Vector2d xy = point.head<2>() / point.z();
  const double r2 = xy.squaredNorm();
  const RadialScale s = radial_scale(camera, r2);
  if (s.folded(r2)) return std::nullopt;
  return Eigen::Vector2d(camera.focal() * s.value * xy + camera.principal_point());
}

std::optional<Eigen::Vector2d> project(const Camera& camera, const Eigen::Vector3d& point, Matrix2x3& d_point,
                                       Matrix2xParameters& d_parameters) {
  if (!(point.z() > 0)) return std::nullopt;
  const double inv_z = 1 / point.z();
  const Eigen::Vector2d xy = point.head<2>() * inv_z;
  const double r2 = xy.squaredNorm();
  const RadialScale s = radial_scale(camera, r2);
  if (s.folded(r2)) return std::nullopt;
  const double f = camera.focal();

  const Eigen::Matrix2d d_xy = f * (s.value * Eigen::Matrix2d::Identity() + 2 * s.slope * xy * xy.transpose());
  d_point.leftCols<2>() = d_xy * inv_z;
  d_point.col(2) = -d_xy * xy * inv_z;

  d_parameters.setZero();
  d_parameters.col(0) = s.value * xy;
  d_parameters(0, 1) = 1;
  d_parameters(1, 2) = 1;
  if (camera.model == CameraModel::radial) {
    d_parameters.col(3) = f * r2 * xy;
    d_parameters.col(4) = f * r2 * r2 * xy;
  }
  return Eigen::Vector2d(f * s.value * xy + camera.principal_point());
}

std::optional<Eigen::Vector2d> unproject(const Camera& camera, const Eigen::Vector2d& pixel) {
  const Eigen::Vector2d distorted = (pixel - camera.principal_point()) / camera.focal();
  const double target = distorted.norm();
  if (camera.model == CameraModel::pinhole || target == 0) return distorted;
  // One unknown, the undistorted radius: target = r s(r^2).
  double r = target;
  for (int i = 0; i < 50; ++i) {
    const RadialScale s = radial_scale(camera, r * r);
    const double slope = s.value + 2 * r * r * s.slope;
    if (slope <= 0.05) return std::nullopt;
    const double step = (r * s.value - target) / slope;
    r = std::max(0.0, r - step);
    if (std::abs(step) < 1e-13 * (1 + r)) break;
  }
  const RadialScale s = radial_scale(camera, r * r);
  if (s.folded(r * r) || std::abs(r * s.value - target) > 1e-9 * (1 + target)) return std::nullopt;
  return distorted * (r / target);
}

}  // namespace icefield
