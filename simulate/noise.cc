#include "simulate/noise.h"

#include <algorithm>
#include <cmath>

namespace icefield::simulate {
namespace {

using Ints = std::uint32_t __attribute__((vector_size(32)));
using Floats = float __attribute__((vector_size(32)));

std::uint32_t hash(std::int32_t x, std::int32_t y, std::int32_t z, std::uint32_t seed) {
  std::uint32_t h = seed * 0x9e3779b9u;
  h = (h ^ static_cast<std::uint32_t>(x)) * 0x85ebca6bu;
  h = (h ^ (h >> 15) ^ static_cast<std::uint32_t>(y)) * 0xc2b2ae35u;
  h = (h ^ (h >> 13) ^ static_cast<std::uint32_t>(z)) * 0x27d4eb2fu;
  h ^= h >> 15;
  h *= 0x2c1b3c6du;
  return h ^ (h >> 16);
}

float fade(float t) {
  return t * t * t * (t * (t * 6 - 15) + 10);
}

// Share of an octave that a pixel of the given footprint resolves.
float resolved(float frequency, float footprint) {
  return 1.0f - smooth_step(0.25f, 0.6f, frequency * footprint);
}

}  // namespace

float noise(const Eigen::Vector3f& p, std::uint32_t seed) {
  const float fx = std::floor(p.x()), fy = std::floor(p.y()), fz = std::floor(p.z());
  const auto ix = static_cast<std::uint32_t>(static_cast<std::int32_t>(fx)),
             iy = static_cast<std::uint32_t>(static_cast<std::int32_t>(fy)),
             iz = static_cast<std::uint32_t>(static_cast<std::int32_t>(fz));
  const float x = p.x() - fx, y = p.y() - fy, z = p.z() - fz;
  // The eight corners of the cell are the eight lanes of a vector.
  constexpr Ints kX = {0, 1, 0, 1, 0, 1, 0, 1}, kY = {0, 0, 1, 1, 0, 0, 1, 1}, kZ = {0, 0, 0, 0, 1, 1, 1, 1};
  Ints h = (seed * 0x9e3779b9u ^ (ix + kX)) * 0x85ebca6bu;
  h = (h ^ (h >> 15) ^ (iy + kY)) * 0xc2b2ae35u;
  h = (h ^ (h >> 13) ^ (iz + kZ)) * 0x27d4eb2fu;
  h ^= h >> 15;
  h *= 0x2c1b3c6du;
  h ^= h >> 16;
  const Floats dx = x - __builtin_convertvector(kX, Floats), dy = y - __builtin_convertvector(kY, Floats),
               dz = z - __builtin_convertvector(kZ, Floats);
  const Ints g = h & 15u;
  const Floats u = g < 8u ? dx : dy;
  const Floats v = g < 4u ? dy : (g == 12u || g == 14u) ? dx : dz;
  const Floats gradients = ((g & 1u) != 0u ? -u : u) + ((g & 2u) != 0u ? -v : v);
  const float wx = fade(x), wy = fade(y), wz = fade(z);
  const Floats weights = ((kX != 0u) ? Floats{} + wx : Floats{} + (1 - wx)) *
                         ((kY != 0u) ? Floats{} + wy : Floats{} + (1 - wy)) *
                         ((kZ != 0u) ? Floats{} + wz : Floats{} + (1 - wz));
  const Floats terms = weights * gradients;
  return ((terms[0] + terms[1]) + (terms[2] + terms[3])) + ((terms[4] + terms[5]) + (terms[6] + terms[7]));
}

float fractal(const Eigen::Vector3f& p, float frequency, int octaves, float gain, float footprint, std::uint32_t seed) {
  float sum = 0, amplitude = 1;
  for (int i = 0; i < octaves; ++i) {
    const float share = resolved(frequency, footprint);
    if (share <= 0) break;
    // An offset for each octave keeps the lattices from lining up.
    sum += amplitude * share *
           noise(p * frequency + Eigen::Vector3f::Constant(17.17f * static_cast<float>(i)), seed + 101u * i);
    amplitude *= gain;
    frequency *= 2.03f;
  }
  return sum;
}

float ridged(const Eigen::Vector3f& p, float frequency, int octaves, float footprint, std::uint32_t seed) {
  float sum = 0, amplitude = 0.5f, weight = 1;
  for (int i = 0; i < octaves; ++i) {
    const float share = resolved(frequency, footprint);
    if (share <= 0) break;
    float r =
        1 - std::abs(noise(p * frequency + Eigen::Vector3f::Constant(9.7f * static_cast<float>(i)), seed + 77u * i));
    r *= r * weight;
    sum += amplitude * share * r;
    weight = std::clamp(2 * r, 0.0f, 1.0f);
    amplitude *= 0.5f;
    frequency *= 2.07f;
  }
  return sum;
}

float cells(const Eigen::Vector3f& p, float frequency, std::uint32_t seed, std::uint32_t& id) {
  const Eigen::Vector3f q = p * frequency;
  const Eigen::Vector3f base = q.array().floor();
  float nearest = 9;
  for (int dz = -1; dz <= 1; ++dz)
    for (int dy = -1; dy <= 1; ++dy)
      for (int dx = -1; dx <= 1; ++dx) {
        const Eigen::Vector3f cell =
            base + Eigen::Vector3f(static_cast<float>(dx), static_cast<float>(dy), static_cast<float>(dz));
        const std::uint32_t h =
            hash(static_cast<int>(cell.x()), static_cast<int>(cell.y()), static_cast<int>(cell.z()), seed);
        const Eigen::Vector3f jitter(static_cast<float>(h & 1023), static_cast<float>((h >> 10) & 1023),
                                     static_cast<float>((h >> 20) & 1023));
        const float d = (cell + jitter / 1024.0f - q).squaredNorm();
        if (d < nearest) nearest = d, id = h;
      }
  return std::sqrt(nearest);
}

}  // namespace icefield::simulate
