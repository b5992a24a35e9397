// Photos of a scene, and what is true in them.
#pragma once
#include <array>

#include "icefield/base/parallel.h"
#include "icefield/camera/camera.h"
#include "icefield/camera/pose.h"
#include "icefield/photo/image.h"
#include "simulate/scene.h"

namespace icefield::simulate {

struct Shot {
  Camera camera;
  Pose pose;
  double exposure_ev = 0;                            // brighter by this many stops
  Eigen::Vector3d motion = Eigen::Vector3d::Zero();  // of the camera while the shutter is open, metres
  double defocus_px = 0;                             // radius of the blur disc
};

struct RenderOptions {
  int samples = 4;           // per pixel, stratified; a square number
  double vignetting = 0.25;  // loss of light in the corners
  double noise = 1.0;        // factor on the sensor noise: 1 is a compact camera at ISO 200
  std::uint64_t seed = 1;    // of the noise
};

// 8-bit sRGB. Same scene, shot and options: same bits. Rows run on the executor.
ImageU8 render(const Scene& scene, const Shot& shot, const RenderOptions& options, const Executor& executor);

// What is seen from a place along a unit direction, as a photo without vignetting and noise has it; `pixel_angle`: over
// how much of it detail is averaged, radians.
std::array<std::uint8_t, 3> colour_seen(const Scene& scene, const Eigen::Vector3f& from,
                                        const Eigen::Vector3f& direction, float pixel_angle);

// Depth along the optical axis (metres; 0 where only sky is seen) and normal (world) at the middle of each pixel.
struct TrueMaps {
  ImageF depth;
  ImageF normal;  // 3 channels
};
TrueMaps true_maps(const Scene& scene, const Camera& camera, const Pose& pose, const Executor& executor);

}  // namespace icefield::simulate
