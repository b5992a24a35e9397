// Coded targets of our own design: how they look, and how they are found in photos. docs/formats.md has a drawing.
#pragma once
#include <Eigen/Core>
#include <cstdint>
#include <string>
#include <vector>

#include "icefield/photo/image.h"

namespace icefield {

// A black hexagon with a white disc in its middle and up to three teeth on each side, which say its number. In the
// plane of the target: x right, y down, the middle at (0, 0), corner s of six at 60 s degrees from x towards y, 1 from
// the middle to where the corner teeth end. Tooth 3 s + k fills third k of the side from corner s to corner s + 1,
// between the body and the outer hexagon.
inline constexpr double kTargetBody = 0.68;   // from the middle to a corner of the body
inline constexpr double kTargetDisc = 0.34;   // radius of the disc
inline constexpr double kTargetPaper = 1.35;  // so far around there must be nothing but white
inline constexpr int kTargetTeeth = 18;

// Numbers are 1 to target_count(). The codes of any two differ in at least four teeth however they are turned, those of
// the first 58 in five, of the first 33 in six; and from their mirror images in three.
int target_count();
// Bit i is tooth i. Throws Error(usage) for a number that there is not.
std::uint32_t target_teeth(int number);
// Corners of the black figure with its teeth, in the plane of the target; the disc is cut out of it.
std::vector<Eigen::Vector2d> target_outline(int number);

struct FindTargetsOptions {
  // Of their widest extent, from the end of a tooth to the end of that across, px. Below about 18 teeth cannot be told
  // apart.
  double least_diameter_px = 16;
  double least_agreement = 0.85;  // correlation of the pixels with the target as it must look
  // Between black and white, of 255.
  double least_contrast = 24;
};

struct FoundTarget {
  int number = 0;
  Eigen::Vector2d pixel = Eigen::Vector2d::Zero();  // of its middle, image coordinates
  double sigma_px = 0;                              // standard deviation of a coordinate
  double diameter_px = 0;                           // twice the mean distance from the middle to the corners
  double agreement = 0;                             // correlation with the target as it must look
  int mended_teeth = 0;                             // that were read wrongly
  // From the plane of the target to the photo.
  Eigen::Matrix3d to_photo = Eigen::Matrix3d::Identity();
};

// All targets in a photo, by number, then from the top. `photo`: 8 bits, one channel or more (of three, red, green,
// blue). Light islands in the dark whose form is an ellipse are looked for at all sizes; what stands around them is
// read as teeth; and then the whole target is fitted to the pixels by a homography and their brightness (least squares;
// Gruen, "Adaptive least squares correlation: a powerful image matching technique", 1985). Its middle, not that of the
// ellipse, is the place. In the calling thread; about 10 ms a megapixel.
std::vector<FoundTarget> find_targets(const ImageU8& photo, const FindTargetsOptions& options = {});

}  // namespace icefield
