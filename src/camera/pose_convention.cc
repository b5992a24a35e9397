#include "icefield/camera/pose_convention.h"

#include <fmt/format.h>

#include <Eigen/LU>
#include <cmath>
#include <numbers>

namespace icefield {

using Eigen::AngleAxisd;
using Eigen::Matrix3d;
using Eigen::Quaterniond;
using Eigen::Vector3d;

namespace {

constexpr double kDegree = std::numbers::pi / 180;

bool is_body(RotationForm form) {
  return form == RotationForm::yaw_pitch_roll || form == RotationForm::yaw_pitch_roll_down;
}
bool is_angles(RotationForm form) {
  return form == RotationForm::omega_phi_kappa || is_body(form);
}

// From camera axes to those of the other kind: a half turn about x.
Matrix3d flip() {
  return Vector3d(1, -1, -1).asDiagonal();
}
// North, east, down into east, north, up.
Matrix3d to_east_north_up() {
  Matrix3d m;
  m << 0, 1, 0, 1, 0, 0, 0, 0, -1;
  return m;
}
// Camera axes (x right, y down, z ahead) in those of the body.
Matrix3d camera_in_body(RotationForm form) {
  Matrix3d m;
  if (form == RotationForm::yaw_pitch_roll)
    m << 0, 0, 1, 1, 0, 0, 0, 1, 0;
  else
    m << 0, -1, 0, 1, 0, 0, 0, 0, 1;
  return m;
}

Matrix3d turns(RotationForm form, const std::array<double, 9>& angles, double unit) {
  const double a = angles[0] * unit, b = angles[1] * unit, c = angles[2] * unit;
  if (form == RotationForm::omega_phi_kappa)
    return (AngleAxisd(a, Vector3d::UnitX()) * AngleAxisd(b, Vector3d::UnitY()) * AngleAxisd(c, Vector3d::UnitZ()))
        .toRotationMatrix();
  return (AngleAxisd(a, Vector3d::UnitZ()) * AngleAxisd(b, Vector3d::UnitY()) * AngleAxisd(c, Vector3d::UnitX()))
      .toRotationMatrix();
}

Matrix3d matrix_of(const std::array<double, 9>& v) {
  Matrix3d m;
  m << v[0], v[1], v[2], v[3], v[4], v[5], v[6], v[7], v[8];
  return m;
}

// The rotation that the numbers say, as they stand: of the convention's camera axes and direction.
Matrix3d stated(const WrittenPose& written, const PoseConvention& c) {
  const auto& v = written.rotation;
  switch (c.form) {
    case RotationForm::quaternion:
      return Quaterniond(v[0], v[1], v[2], v[3]).normalized().toRotationMatrix();
    case RotationForm::quaternion_xyzw:
      return Quaterniond(v[3], v[0], v[1], v[2]).normalized().toRotationMatrix();
    case RotationForm::matrix: {
      // The nearest rotation, by way of a quaternion of what is nearly one.
      return Quaterniond(matrix_of(v)).normalized().toRotationMatrix();
    }
    default:
      return turns(c.form, v, c.radians ? 1 : kDegree);
  }
}

}  // namespace

PoseConvention usual_convention(RotationForm form) {
  PoseConvention c;
  c.form = form;
  if (form == RotationForm::omega_phi_kappa) c.to_world = c.y_up = true;
  return c;
}

std::size_t numbers_of(RotationForm form) {
  return is_angles(form) ? 3 : form == RotationForm::matrix ? 9 : 4;
}

const char* name_of(RotationForm form) {
  switch (form) {
    case RotationForm::quaternion:
      return "quaternion";
    case RotationForm::quaternion_xyzw:
      return "quaternion-xyzw";
    case RotationForm::matrix:
      return "matrix";
    case RotationForm::omega_phi_kappa:
      return "opk";
    case RotationForm::yaw_pitch_roll:
      return "ypr";
    case RotationForm::yaw_pitch_roll_down:
      return "ypr-down";
  }
  return "";
}

std::optional<RotationForm> rotation_form_by_name(const std::string& name) {
  for (const RotationForm form :
       {RotationForm::quaternion, RotationForm::quaternion_xyzw, RotationForm::matrix, RotationForm::omega_phi_kappa,
        RotationForm::yaw_pitch_roll, RotationForm::yaw_pitch_roll_down})
    if (name == name_of(form)) return form;
  return std::nullopt;
}

std::string describe(const PoseConvention& c) {
  static const char* const kForms[] = {"quaternion w x y z",
                                       "quaternion x y z w",
                                       "matrix by rows",
                                       "omega, phi, kappa",
                                       "yaw, pitch, roll of a body whose camera looks ahead",
                                       "yaw, pitch, roll of a body whose camera looks down"};
  std::string text = kForms[static_cast<int>(c.form)];
  if (is_angles(c.form)) text += c.radians ? " in radians" : " in degrees";
  if (!is_body(c.form))
    text += fmt::format(" from {}, camera axes x right, {}", c.to_world ? "camera to world" : "world to camera",
                        c.y_up ? "y up, z backwards" : "y down, z ahead");
  return text +
         (c.translation ? ", places as translations of the world into the camera" : ", places of projection centres");
}

std::string rotation_fault(const WrittenPose& written, const PoseConvention& c) {
  const auto& v = written.rotation;
  for (std::size_t k = 0; k < numbers_of(c.form); ++k)
    if (!std::isfinite(v[k])) return "is not finite";
  if (!written.place.allFinite()) return "has a place that is not finite";
  if (c.form == RotationForm::matrix) {
    const Matrix3d m = matrix_of(v);
    const double off = (m * m.transpose() - Matrix3d::Identity()).cwiseAbs().maxCoeff();
    constexpr double kMost = 1e-3;
    if (off > kMost) return fmt::format("is no rotation: its rows are off being square and of length 1 by {:.3g}", off);
    if (m.determinant() < 0) return "is mirrored: its determinant is -1, one of its axes points the other way";
  } else if (numbers_of(c.form) == 4) {
    const double length = std::sqrt(v[0] * v[0] + v[1] * v[1] + v[2] * v[2] + v[3] * v[3]);
    constexpr double kMost = 1e-2;
    if (std::abs(length - 1) > kMost) return fmt::format("is no rotation: the quaternion's length is {:.4g}", length);
  } else {
    const double most = std::max({std::abs(v[0]), std::abs(v[1]), std::abs(v[2])});
    if (c.radians && most > 2 * std::numbers::pi + 0.01)
      return fmt::format("has an angle of {:.4g}, which looks like degrees", most);
    if (!c.radians && most > 720) return fmt::format("has an angle of {:.4g} degrees", most);
  }
  return "";
}

std::optional<Pose> pose_of(const WrittenPose& written, const PoseConvention& c) {
  if (!rotation_fault(written, c).empty()) return std::nullopt;
  const Matrix3d said = stated(written, c);
  Matrix3d to_camera;  // of axes y down
  if (is_body(c.form)) {
    to_camera = (to_east_north_up() * said * camera_in_body(c.form)).transpose();
  } else {
    to_camera = c.to_world ? Matrix3d(said.transpose()) : said;
    if (c.y_up) to_camera = flip() * to_camera;
  }
  Pose pose;
  pose.orientation = Quaterniond(to_camera).normalized();
  pose.centre = written.place;
  if (c.translation) {
    const Vector3d t = !is_body(c.form) && c.y_up ? Vector3d(flip() * written.place) : written.place;
    pose.centre = -(to_camera.transpose() * t);
  }
  return pose;
}

WrittenPose written(const Pose& pose, const PoseConvention& c) {
  WrittenPose out;
  const Matrix3d to_camera = pose.rotation();
  Matrix3d said;
  if (is_body(c.form)) {
    said = to_east_north_up().transpose() * to_camera.transpose() * camera_in_body(c.form).transpose();
  } else {
    said = c.y_up ? Matrix3d(flip() * to_camera) : to_camera;
    if (c.to_world) said.transposeInPlace();
  }
  const double unit = c.radians ? 1 : kDegree;
  auto& v = out.rotation;
  switch (c.form) {
    case RotationForm::quaternion:
    case RotationForm::quaternion_xyzw: {
      Quaterniond q(said);
      if (q.w() < 0) q.coeffs() = -q.coeffs();
      if (c.form == RotationForm::quaternion)
        v = {q.w(), q.x(), q.y(), q.z()};
      else
        v = {q.x(), q.y(), q.z(), q.w()};
      break;
    }
    case RotationForm::matrix:
      for (int i = 0; i < 9; ++i) v[static_cast<std::size_t>(i)] = said(i / 3, i % 3);
      break;
    case RotationForm::omega_phi_kappa:
      // said = Rx Ry Rz: its upper right is sin(phi).
      v[0] = std::atan2(-said(1, 2), said(2, 2)) / unit;
      v[1] = std::atan2(said(0, 2), std::hypot(said(0, 0), said(0, 1))) / unit;
      v[2] = std::atan2(-said(0, 1), said(0, 0)) / unit;
      break;
    default:
      // said = Rz Ry Rx: its lower left is -sin(pitch).
      v[0] = std::atan2(said(1, 0), said(0, 0)) / unit;
      v[1] = std::atan2(-said(2, 0), std::hypot(said(0, 0), said(1, 0))) / unit;
      v[2] = std::atan2(said(2, 1), said(2, 2)) / unit;
  }
  // Where two axes fall together, one of the turns about them says it all.
  if (is_angles(c.form)) {
    const bool opk = c.form == RotationForm::omega_phi_kappa;
    const double level = opk ? std::hypot(said(0, 0), said(0, 1)) : std::hypot(said(0, 0), said(1, 0));
    if (level < 1e-9) {
      if (opk)
        v[0] = 0, v[2] = std::atan2(said(1, 0), said(1, 1)) / unit;
      else
        v[2] = 0, v[0] = std::atan2(-said(0, 1), said(1, 1)) / unit;
    }
  }
  out.place = pose.centre;
  if (c.translation) {
    out.place = -(to_camera * pose.centre);
    if (!is_body(c.form) && c.y_up) out.place = flip() * out.place;
  }
  return out;
}

std::vector<PoseConvention> conventions_like(const PoseConvention& claimed) {
  std::vector<RotationForm> forms;
  if (numbers_of(claimed.form) == 4)
    forms = {RotationForm::quaternion, RotationForm::quaternion_xyzw};
  else if (is_body(claimed.form))
    forms = {RotationForm::yaw_pitch_roll, RotationForm::yaw_pitch_roll_down};
  else
    forms = {claimed.form};
  std::vector<PoseConvention> all;
  for (const RotationForm form : forms)
    for (const bool radians : {false, true})
      for (const bool to_world : {false, true})
        for (const bool y_up : {false, true})
          for (const bool translation : {false, true}) {
            if ((radians && !is_angles(form)) || ((to_world || y_up) && is_body(form))) continue;
            all.push_back({form, radians, to_world, y_up, translation});
          }
  return all;
}

}  // namespace icefield
