// A coded target fitted to the pixels of a photo.
#pragma once
#include <Eigen/Core>
#include <vector>

#include "icefield/photo/image.h"

namespace icefield {

// A target as optics show it: 0 black, 1 white, blurred by `blur` (in its own plane, where its corners are 1 from the
// middle).
class TargetPicture {
 public:
  explicit TargetPicture(std::uint32_t teeth);
  void blur(double sigma);
  // Value and slope by place.
  struct Sample {
    double value;
    Eigen::Vector2d slope;
  };
  Sample at(const Eigen::Vector2d& place) const;

 private:
  int side_ = 0;
  ImageF sharp_, seen_;
};

struct TargetFit {
  bool good = false;
  Eigen::Matrix3d to_photo = Eigen::Matrix3d::Identity();  // from the plane of the target to image coordinates
  double agreement = 0;                                    // correlation of pixels and picture
  double worst_part = 1;  // of its parts, the one whose mean misses the picture by most: share of black to white
  double sigma_px = 0;    // of the middle
  double blur_px = 0;
};

// Least squares over a homography, black, white and how the light changes across the target, from a first guess. The
// guess must be right to about a third of a tooth. `blurs_px`: widths of the blur to try; the likeliest is kept.
TargetFit fit_target(const ImageU8& grey, TargetPicture& picture, const Eigen::Matrix3d& guess,
                     const std::vector<double>& blurs_px);

}  // namespace icefield
