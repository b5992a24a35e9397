// The formulas of the camera models, inline for loops over many observations.
#pragma once
#include <cmath>

#include "icefield/camera/camera.h"

namespace icefield {

// A distorted radius grows with the true one while its slope is above this; beyond, the lens folds back.
inline constexpr double kLeastSlope = 0.05;

// Radial scale s(r2) and its derivative by r2; the distorted radius is r s.
struct RadialScale {
  double value = 1, slope = 0;
  bool folded(double r2) const { return value + 2 * r2 * slope <= kLeastSlope; }
};

inline RadialScale radial_scale(const Camera& camera, double r2) {
  if (camera.model == CameraModel::pinhole) return {};
  const double k1 = camera.parameters[3], k2 = camera.parameters[4],
               k3 = camera.model == CameraModel::brown ? camera.parameters[5] : 0;
  return {1 + r2 * (k1 + r2 * (k2 + r2 * k3)), k1 + r2 * (2 * k2 + 3 * k3 * r2)};
}

// The angle after a fisheye, and its derivative by the angle from the axis.
struct FisheyeAngle {
  double value, slope;
};
inline FisheyeAngle fisheye_angle(const Camera& camera, double angle) {
  const double *k = camera.parameters.data() + 3, t2 = angle * angle;
  return {angle * (1 + t2 * (k[0] + t2 * (k[1] + t2 * (k[2] + t2 * k[3])))),
          1 + t2 * (3 * k[0] + t2 * (5 * k[1] + t2 * (7 * k[2] + t2 * 9 * k[3])))};
}

// For loops that need no derivatives.
struct NoDerivatives {};

// The bare formula, also for points behind the camera (mirrored, or beyond 90 degrees) and beyond the fold; `sound`
// tells whether it is neither. With derivatives by the point (2 x 3) and by the parameters (2 x their number); columns
// of parameters that the model does not have are not written.
template <class DPoint = NoDerivatives, class DParameters = NoDerivatives>
Eigen::Vector2d project_by_formula(const Camera& camera, const Eigen::Vector3d& point, bool& sound,
                                   DPoint&& d_point = {}, DParameters&& d_parameters = {}) {
  constexpr bool kDerivatives = !std::is_same_v<std::remove_cvref_t<DPoint>, NoDerivatives>;
  const double f = camera.focal();
  Eigen::Vector2d distorted;
  if (camera.model == CameraModel::fisheye) {
    const double rho2 = point.head<2>().squaredNorm(), rho = std::sqrt(rho2), norm2 = rho2 + point.z() * point.z();
    const double angle = std::atan2(rho, point.z());
    const FisheyeAngle bent = fisheye_angle(camera, angle);
    sound = point.z() > 0 && bent.slope > kLeastSlope;
    const bool middle = rho < 1e-9 * std::abs(point.z());
    const double scale = middle ? 1 / point.z() : bent.value / rho;  // distorted = scale (X, Y)
    distorted = scale * point.head<2>();
    if constexpr (kDerivatives) {
      const double along = middle ? 0 : f * (bent.slope * point.z() / norm2 - scale) / rho2;
      d_point(0, 0) = f * scale + along * point.x() * point.x();
      d_point(0, 1) = d_point(1, 0) = along * point.x() * point.y();
      d_point(1, 1) = f * scale + along * point.y() * point.y();
      d_point(0, 2) = -f * bent.slope * point.x() / norm2;
      d_point(1, 2) = -f * bent.slope * point.y() / norm2;
      double power = f * (middle ? 0 : angle / rho);
      for (int k = 0; k < 4; ++k) {
        power *= angle * angle;
        d_parameters(0, 3 + k) = power * point.x();
        d_parameters(1, 3 + k) = power * point.y();
      }
    }
  } else {
    const double inv_z = 1 / point.z();
    const double x = point.x() * inv_z, y = point.y() * inv_z, r2 = x * x + y * y;
    const RadialScale s = radial_scale(camera, r2);
    sound = point.z() > 0 && !s.folded(r2);
    distorted = {s.value * x, s.value * y};
    double xx = 0, mixed = 0,
           yy = 0;  // derivatives of the distorted place by x and y: a symmetric matrix in all models
    if constexpr (kDerivatives) {
      xx = s.value + 2 * s.slope * x * x;
      mixed = 2 * s.slope * x * y;
      yy = s.value + 2 * s.slope * y * y;
    }
    if (camera.model == CameraModel::brown) {
      const double p1 = camera.parameters[6], p2 = camera.parameters[7];
      distorted.x() += 2 * p1 * x * y + p2 * (r2 + 2 * x * x);
      distorted.y() += p1 * (r2 + 2 * y * y) + 2 * p2 * x * y;
      if constexpr (kDerivatives) {
        xx += 2 * p1 * y + 6 * p2 * x;
        mixed += 2 * p1 * x + 2 * p2 * y;
        yy += 6 * p1 * y + 2 * p2 * x;
        d_parameters(0, 5) = f * r2 * r2 * r2 * x;
        d_parameters(1, 5) = f * r2 * r2 * r2 * y;
        d_parameters(0, 6) = d_parameters(1, 7) = 2 * f * x * y;
        d_parameters(0, 7) = f * (r2 + 2 * x * x);
        d_parameters(1, 6) = f * (r2 + 2 * y * y);
      }
    }
    if constexpr (kDerivatives) {
      const double scale = f * inv_z;
      xx *= scale, mixed *= scale, yy *= scale;
      d_point(0, 0) = xx;
      d_point(0, 1) = d_point(1, 0) = mixed;
      d_point(1, 1) = yy;
      d_point(0, 2) = -(xx * x + mixed * y);
      d_point(1, 2) = -(mixed * x + yy * y);
      if (camera.model != CameraModel::pinhole) {
        const double first = f * r2;
        d_parameters(0, 3) = first * x;
        d_parameters(1, 3) = first * y;
        d_parameters(0, 4) = first * r2 * x;
        d_parameters(1, 4) = first * r2 * y;
      }
    }
  }
  if constexpr (kDerivatives) {
    d_parameters(0, 0) = distorted.x();
    d_parameters(1, 0) = distorted.y();
    d_parameters(0, 1) = d_parameters(1, 2) = 1;
    d_parameters(1, 1) = d_parameters(0, 2) = 0;
  }
  return f * distorted + camera.principal_point();
}

}  // namespace icefield
