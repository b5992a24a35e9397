// Orientation and description of a keypoint from one layer of the scale space.
#pragma once
#include <cstdint>

#include "icefield/feature/feature.h"
#include "src/feature/scale_space.h"

namespace icefield {

inline constexpr int kMaxAngles = 3;
// Rows and columns that a patch reaches from its middle, in standard deviations of the layer's blur.
inline constexpr float kPatchReach = 11.3f;

// Positions are indices (the middle of the first pixel is 0), sigma in pixels of the layer.
struct DescribeKernels {
  // Directions of the highest peaks of the gradient histogram (Lowe 2004, section 5), radians; returns their number.
  // The samples lie on a grid that is scaled with the keypoint.
  int (*orientations)(const LayerView& layer, float x, float y, float sigma, float* angles);
  // 4 x 4 cells of 8 directions (Lowe 2004, section 6) from a grid of samples that is turned and scaled with the
  // keypoint, so that the weights of the samples are the same for all keypoints; square-root normalised bytes.
  void (*describe)(const LayerView& layer, float x, float y, float sigma, float angle, std::uint8_t* out);
};

DescribeKernels best_describe_kernels();
DescribeKernels plain_describe_kernels();  // the twin that tests hold them to

}  // namespace icefield
