// Pairs of photos whose true correspondence is known everywhere: planar warps of one picture, and two photos of a
// scene.
#pragma once
#include <Eigen/Core>
#include <functional>
#include <optional>

#include "simulate/render.h"

namespace icefield::simulate {

// Where a place of the first photo (image coordinates, px) truly is in the second, and how much larger it appears there
// (ratio of lengths). Nothing where the second does not show it.
struct TruePlace {
  Eigen::Vector2d place;
  double scale;
};
using TrueMapping = std::function<std::optional<TruePlace>(const Eigen::Vector2d&)>;

struct PhotoPair {
  ImageU8 first, second;
  TrueMapping mapping;
};

// `picture` through a homography (picture to result, image coordinates). The samples of each pixel lie no farther apart
// than half a pixel of the picture, so that strong reductions do not alias.
ImageU8 warp(const ImageU8& picture, const Eigen::Matrix3d& homography, int width, int height,
             const Executor& executor);

// Two views of a flat picture, the second of the given size.
TrueMapping planar_mapping(const Eigen::Matrix3d& first_to_second, int width, int height);

// By the true surface; hidden places have none. `first_depth` and `second_depth` as from true_maps.
TrueMapping scene_mapping(const Shot& first, const ImageF& first_depth, const Shot& second, const ImageF& second_depth);

// Faults of a photo.
ImageU8 exposed(const ImageU8& photo, double stops);                         // in linear light, cut off at white
ImageU8 blurred(const ImageU8& photo, double sigma_px);                      // Gaussian
ImageU8 with_noise(const ImageU8& photo, double sigma, std::uint64_t seed);  // grey levels of 255

}  // namespace icefield::simulate
