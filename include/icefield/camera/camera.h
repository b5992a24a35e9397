// Interior orientation: from directions in the camera frame to pixels and back.
#pragma once
#include <Eigen/Core>
#include <array>
#include <optional>
#include <span>
#include <string>
#include <string_view>

namespace icefield {

enum class CameraModel : std::uint8_t { pinhole, radial, brown, fisheye };

// One named parameter of a model.
struct CameraParameter {
  const char* name;
  const char* unit;  // "px" or "1"
  const char* meaning;
};

inline constexpr int kMaxCameraParameters = 8;

// The camera frame is x right, y down, z forward; image coordinates are continuous with the top-left corner of the
// image at (0, 0). With x = X/Z, y = Y/Z, r^2 = x^2 + y^2 and t the angle from the axis (0 <= t < 90 degrees) the
// models are
//   pinhole  u = f x + cx, v = f y + cy                                      parameters f, cx, cy
//   radial   u = f s x + cx, v = f s y + cy, s = 1 + k1 r^2 + k2 r^4         parameters f, cx, cy, k1, k2
//   brown    s = 1 + k1 r^2 + k2 r^4 + k3 r^6,                               parameters f, cx, cy, k1, k2, k3, p1, p2
//            u = f (s x + 2 p1 x y + p2 (r^2 + 2 x^2)) + cx,                 (Brown, "Close-range camera calibration",
//            v = f (s y + p1 (r^2 + 2 y^2) + 2 p2 x y) + cy                  1971)
//   fisheye  u = f b x/r + cx, v = f b y/r + cy,                             parameters f, cx, cy, k1, k2, k3, k4
//            b = t (1 + k1 t^2 + k2 t^4 + k3 t^6 + k4 t^8)                   (Kannala and Brandt, "A generic camera
//            model
//                                                                            and calibration method", 2006)
struct Camera {
  CameraModel model = CameraModel::radial;
  int width = 0, height = 0;                              // px, as stored
  std::array<double, kMaxCameraParameters> parameters{};  // in the order of camera_parameters(model)

  double focal() const { return parameters[0]; }
  Eigen::Vector2d principal_point() const { return {parameters[1], parameters[2]}; }
  bool operator==(const Camera&) const = default;
};

std::span<const CameraParameter> camera_parameters(CameraModel model);
const char* camera_model_name(CameraModel model);
std::optional<CameraModel> camera_model_by_name(std::string_view name);

// A camera of the given model with its principal point in the middle and no distortion.
Camera make_camera(CameraModel model, int width, int height, double focal_px);
double focal_from_field_of_view(int width, int height, double field_of_view_deg);  // along the longer side
double field_of_view_deg(const Camera& camera);                                    // along the longer side

using Matrix2x3 = Eigen::Matrix<double, 2, 3>;
using Matrix2xParameters = Eigen::Matrix<double, 2, kMaxCameraParameters>;

// Pixel of a point in the camera frame. Nothing for points behind the camera (z <= 0) or so far outside the field of
// view that the distortion polynomial folds back.
std::optional<Eigen::Vector2d> project(const Camera& camera, const Eigen::Vector3d& point);

// The same with derivatives: `d_point` by the point, `d_parameters` by the parameters (unused columns are 0).
std::optional<Eigen::Vector2d> project(const Camera& camera, const Eigen::Vector3d& point, Matrix2x3& d_point,
                                       Matrix2xParameters& d_parameters);

// The direction (x, y, 1) that is projected to a pixel: Newton iteration, to 1e-12. Nothing where the distortion has no
// inverse, far outside the image.
std::optional<Eigen::Vector2d> unproject(const Camera& camera, const Eigen::Vector2d& pixel);

}  // namespace icefield
