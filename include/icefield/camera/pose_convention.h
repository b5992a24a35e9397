// How others write poses: rotations as angles, quaternions or matrices, one way or the other, of one camera frame or
// another.
#pragma once
#include <Eigen/Core>
#include <array>
#include <optional>
#include <string>
#include <vector>

#include "icefield/camera/pose.h"

namespace icefield {

enum class RotationForm : std::uint8_t {
  quaternion,       // w x y z
  quaternion_xyzw,  // x y z w
  matrix,           // nine numbers, row by row
  // Three turns: D = Rx(omega) Ry(phi) Rz(kappa), each about an axis that the ones before it have turned (Kraus,
  // "Photogrammetry", 2007).
  omega_phi_kappa,
  // Heading from north over east, up, and to the right: D = Rz(yaw) Ry(pitch) Rx(roll) of a body with x ahead, y to the
  // right and z down, in north, east, down; the world is east, north, up. The camera looks ahead along the body's x ...
  yaw_pitch_roll,
  yaw_pitch_roll_down,  // ... or down along its z, with the image's upper side ahead
};

struct PoseConvention {
  RotationForm form = RotationForm::quaternion;
  bool radians = false;      // of angles; otherwise degrees
  bool to_world = false;     // the rotation leads from the camera to the world; not used by yaw, pitch, roll
  bool y_up = false;         // camera axes x right, y up, z backwards; otherwise x right, y down, z ahead; nor there
  bool translation = false;  // the place is t in X_cam = R X_world + t, in these camera axes, not the projection centre
  bool operator==(const PoseConvention&) const = default;
};
// As photogrammetry writes them: omega, phi, kappa in degrees from the camera, y up, to the world; the others as
// Icefield does.
PoseConvention usual_convention(RotationForm form);
std::size_t numbers_of(RotationForm form);  // 3, 4 or 9
// "omega, phi, kappa in degrees from camera to world, camera axes x right, y up, z backwards, places of projection
// centres"
std::string describe(const PoseConvention& convention);
// "quaternion", "quaternion-xyzw", "matrix", "opk", "ypr", "ypr-down"
const char* name_of(RotationForm form);
std::optional<RotationForm> rotation_form_by_name(const std::string& name);

// A pose as it is written.
struct WrittenPose {
  Eigen::Vector3d place = Eigen::Vector3d::Zero();
  std::array<double, 9> rotation{};  // as many as the form has
};
// Nothing for numbers that are no rotation: see rotation_fault.
std::optional<Pose> pose_of(const WrittenPose& written, const PoseConvention& convention);
WrittenPose written(const Pose& pose, const PoseConvention& convention);

// What is wrong with numbers that should be a rotation; empty where nothing is. A matrix may be off by a thousandth, a
// quaternion's length by a hundredth; mirrored ones are named, and angles that look like the other unit.
std::string rotation_fault(const WrittenPose& written, const PoseConvention& convention);

// All that may be meant by the numbers of a form: every direction, axis, unit, order of its numbers and kind of place.
std::vector<PoseConvention> conventions_like(const PoseConvention& convention);

}  // namespace icefield
