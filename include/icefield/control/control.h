// What is known of places on the ground and of cameras: surveyed points and their marks, lengths, positions of photos.
#pragma once
#include <Eigen/Core>
#include <cstdint>
#include <limits>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "icefield/block/block.h"

namespace icefield {

// What a surveyed point, or a known length, is for.
enum class ControlUse : std::uint8_t {
  control,  // takes part in the adjustment
  check,    // never does: it is compared with the result
  spot,     // of a point: no coordinates are known, its own are wanted
};
const char* describe(ControlUse use);

inline constexpr double kNotKnown = std::numeric_limits<double>::infinity();

// Positions and lengths are metres of the frame that a block is to be brought into (world_frame.h).
struct SurveyedPoint {
  std::string name;
  ControlUse use = ControlUse::control;
  Eigen::Vector3d position = Eigen::Vector3d::Zero();
  Eigen::Vector3d sigma{0.01, 0.01, 0.01};  // standard deviations; kNotKnown for a coordinate that is not known
};

// Where a point was seen in a photo.
struct Mark {
  PhotoIndex photo;         // in the photo list of the job
  std::uint32_t point = 0;  // in the list of points
  Eigen::Vector2d pixel = Eigen::Vector2d::Zero();
  double sigma_px = 0.5;  // standard deviation of a coordinate
  ObservationKind kind = ObservationKind::mark;
};

struct KnownLength {
  std::uint32_t first = 0, second = 0;  // in the list of points
  double length = 1, sigma = 1e-3;
  ControlUse use = ControlUse::control;
};

// A photo's position as its receiver has it.
struct PhotoFix {
  PhotoIndex photo;
  Eigen::Vector3d position = Eigen::Vector3d::Zero();
  Eigen::Vector3d sigma{3, 3, 5};  // standard deviations
  bool stated = false;             // by the file; else a guess that the fixes themselves may better
};

// How a photo was held, as the camera or its mount tells it. A weak hint: all photos of a flight may share its error.
struct PhotoView {
  PhotoIndex photo;
  Eigen::Vector3d up = -Eigen::Vector3d::UnitY();  // unit, in the camera frame: the frame's z axis
  std::optional<Eigen::Vector3d> north;            // unit, in the camera frame: the frame's y axis
  double up_sigma = 0.035, north_sigma = 0.17;     // radians
};

// Of a photo that was held without roll. `azimuth`: of its line of sight, clockwise from the frame's y axis; without
// it, or where the photo looks nearly straight up or down, `north` stays unknown. `elevation`: over the horizon.
// Radians. `display_rotation`: the EXIF tag, 1 to 8: which side of the stored photo is its upper one.
PhotoView photo_view(PhotoIndex photo, std::optional<double> azimuth, double elevation, int display_rotation = 1);

// What points say of a frame that no coordinates fix: which way is up, where x goes, where it begins. By place in the
// list of points.
struct FrameByPoints {
  std::vector<std::uint32_t> level;                             // three or more at one height
  std::optional<std::pair<std::uint32_t, std::uint32_t>> up;    // from the first to the second: up
  std::optional<std::pair<std::uint32_t, std::uint32_t>> axis;  // from the first to the second, in plan: x
  std::optional<std::uint32_t> zero;                            // where all coordinates are 0
  bool empty() const { return level.empty() && !up && !axis && !zero; }
};

struct Control {
  std::vector<SurveyedPoint> points;
  std::vector<Mark> marks;
  std::vector<KnownLength> lengths;
  std::vector<PhotoFix> fixes;
  std::vector<PhotoView> views;
  FrameByPoints frame;  // where neither coordinates nor fixes hold the block
  // Of the receiver's antenna from the projection centre, in the camera frame (x right, y down, z forward).
  Eigen::Vector3d antenna = Eigen::Vector3d::Zero();
};

// Throws Error(usage) naming what does not fit: marks and lengths of points that there are not, standard deviations
// that are not above 0, lengths of a point with itself.
void check_control(const Control& control);

}  // namespace icefield
