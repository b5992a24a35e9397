// Band-limited procedural noise.
#pragma once
#include <Eigen/Core>
#include <cstdint>

namespace icefield::simulate {

// Gradient noise in space (Perlin, "Improving noise", 2002, with hashed gradients), about -1 to 1.
float noise(const Eigen::Vector3f& p, std::uint32_t seed);

// Sum of octaves from `frequency` (cycles per metre) on, each twice as fine and `gain` times as strong as the one
// before. Octaves finer than twice the footprint (size of a pixel on the surface, metres) fade out, so that the texture
// is anti-aliased at any distance and has detail at any distance.
float fractal(const Eigen::Vector3f& p, float frequency, int octaves, float gain, float footprint, std::uint32_t seed);

// Height of the ridges of a mountain range, 0 to 1.
float ridged(const Eigen::Vector3f& p, float frequency, int octaves, float footprint, std::uint32_t seed);

// Random spots: distance to the nearest one of a jittered grid, in cells; `id` tells them apart (Worley 1996).
float cells(const Eigen::Vector3f& p, float frequency, std::uint32_t seed, std::uint32_t& id);

inline float smooth_step(float low, float high, float x) {
  const float t = std::min(1.0f, std::max(0.0f, (x - low) / (high - low)));
  return t * t * (3 - 2 * t);
}

}  // namespace icefield::simulate
