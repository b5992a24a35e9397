#include "simulate/render.h"

#include <algorithm>
#include <cmath>

#include "icefield/base/random.h"

namespace icefield::simulate {
namespace {

using Eigen::Vector3f;

float srgb_encode(float v) {
  v = std::clamp(v, 0.0f, 1.0f);
  return v <= 0.0031308f ? 12.92f * v : 1.055f * std::pow(v, 1 / 2.4f) - 0.055f;
}

// A photographic response: linear in the shadows, a soft shoulder in the lights.
float film(float v) {
  return v < 0.6f ? v : 1 - 0.4f * std::exp(-(v - 0.6f) / 0.4f);
}

Vector3f radiance(const Scene& scene, const Vector3f& origin, const Vector3f& direction, float pixel_angle,
                  std::uint32_t seed) {
  const Light& light = scene.light();
  const auto hit = scene.trace(origin, direction);
  if (!hit) return sky_radiance(direction, light, seed);
  const float cosine = std::max(0.15f, -direction.dot(hit->geometric_normal));
  const float footprint = hit->distance * pixel_angle / std::sqrt(cosine);
  const float scale = scene.options().kind == "forefield" ? 0.10f : 1.0f;
  const Surface surface = scene.surface_of(*hit, footprint, scale, seed);

  const float toward_sun = surface.normal.dot(light.sun_direction);
  const float open = hit->open_sky;
  Vector3f received = light.sky_colour * (open * (0.6f + 0.4f * surface.normal.z())) +
                      light.ground_colour * (0.5f - 0.4f * surface.normal.z()) * (0.3f + 0.7f * open);
  bool in_sun = false;
  if (toward_sun > 0 && hit->geometric_normal.dot(light.sun_direction) > 0) {
    const float lift = std::max(1e-4f * hit->distance, 5e-4f);
    in_sun = !scene.blocked(hit->position + lift * hit->geometric_normal, light.sun_direction, 4000.0f);
    if (in_sun) received += toward_sun * light.sun_colour;
  }
  Vector3f colour = surface.albedo.cwiseProduct(received);
  if (surface.gloss > 0) {
    // The sky in the wet surface, more of it at a slant (Schlick 1994), and the sun as a small bright spot.
    const float facing = std::clamp(-direction.dot(surface.normal), 0.0f, 1.0f);
    const Vector3f mirrored = direction + 2 * facing * surface.normal;
    const float back = surface.gloss * (0.05f + 0.95f * std::pow(1 - facing, 5.0f));
    colour += back * open * sky_radiance(mirrored, light, seed);
    if (in_sun)
      colour +=
          surface.gloss * 2.5f * std::pow(std::max(0.0f, mirrored.dot(light.sun_direction)), 90.0f) * light.sun_colour;
  }
  const float haze = 1 - std::exp(-hit->distance / 5500.0f);
  return colour + haze * (Vector3f(0.62f, 0.72f, 0.86f) - colour);
}

}  // namespace

ImageU8 render(const Scene& scene, const Shot& shot, const RenderOptions& options, const Executor& executor) {
  const Camera& camera = shot.camera;
  ImageU8 image(camera.width, camera.height, 3);
  const int side = std::max(1, static_cast<int>(std::lround(std::sqrt(options.samples))));
  const float pixel_angle = static_cast<float>(1.0 / camera.focal());
  const auto scene_seed = static_cast<std::uint32_t>(scene.options().seed);
  const Eigen::Quaternionf to_world = shot.pose.orientation.conjugate().cast<float>();
  const float gain = static_cast<float>(std::exp2(shot.exposure_ev));
  const double corner2 =
      0.25 * (camera.width * static_cast<double>(camera.width) + camera.height * static_cast<double>(camera.height));

  Monitor silent;
  executor.run("", static_cast<std::size_t>(camera.height), silent, [&](std::size_t row) {
    const int y = static_cast<int>(row);
    for (int x = 0; x < camera.width; ++x) {
      CounterRandom random(combine_keys(options.seed, static_cast<std::uint64_t>(y) * camera.width + x));
      Vector3f sum = Vector3f::Zero();
      for (int k = 0; k < side * side; ++k) {
        Eigen::Vector2d pixel(x + (k % side + 0.5) / side, y + (k / side + 0.5) / side);
        Eigen::Vector3d centre = shot.pose.centre;
        if (shot.defocus_px > 0) {
          const double radius = shot.defocus_px * std::sqrt(random.uniform()), angle = 6.283185307 * random.uniform();
          pixel += radius * Eigen::Vector2d(std::cos(angle), std::sin(angle));
        }
        if (!shot.motion.isZero()) centre += (random.uniform() - 0.5) * shot.motion;
        const auto direction = unproject(camera, pixel);
        if (!direction) continue;
        const Vector3f d = (to_world * direction->homogeneous().cast<float>().eval()).normalized();
        sum += radiance(scene, centre.cast<float>(), d, pixel_angle, scene_seed);
      }
      const double r2 = (Eigen::Vector2d(x + 0.5, y + 0.5) - camera.principal_point()).squaredNorm() / corner2;
      const float falloff = static_cast<float>(1 - options.vignetting * r2);
      for (int c = 0; c < 3; ++c) {
        float v = gain * falloff * sum[c] / static_cast<float>(side * side);
        // Photon noise grows with the root of the signal; read noise does not.
        v += static_cast<float>(options.noise * random.normal()) * std::sqrt(4.0e-5f * std::max(v, 0.0f) + 2.5e-6f);
        image.at(x, y, c) = static_cast<std::uint8_t>(std::lround(255.0f * srgb_encode(film(v))));
      }
    }
  });
  return image;
}

std::array<std::uint8_t, 3> colour_seen(const Scene& scene, const Vector3f& from, const Vector3f& direction,
                                        float pixel_angle) {
  const Vector3f light =
      radiance(scene, from, direction, pixel_angle, static_cast<std::uint32_t>(scene.options().seed));
  std::array<std::uint8_t, 3> colour;
  for (std::size_t c = 0; c < 3; ++c)
    colour[c] = static_cast<std::uint8_t>(std::lround(255.0f * srgb_encode(film(light[static_cast<int>(c)]))));
  return colour;
}

TrueMaps true_maps(const Scene& scene, const Camera& camera, const Pose& pose, const Executor& executor) {
  TrueMaps maps{ImageF(camera.width, camera.height), ImageF(camera.width, camera.height, 3)};
  Monitor silent;
  executor.run("", static_cast<std::size_t>(camera.height), silent, [&](std::size_t row) {
    const int y = static_cast<int>(row);
    for (int x = 0; x < camera.width; ++x) {
      const auto direction = unproject(camera, {x + 0.5, y + 0.5});
      if (!direction) continue;
      const Eigen::Vector3d d = pose.orientation.conjugate() * direction->homogeneous();
      // The direction is not normalised, so the distance is the depth along the optical axis.
      const auto hit = scene.trace(pose.centre.cast<float>(), d.cast<float>());
      if (!hit) continue;
      maps.depth.at(x, y) = hit->distance;
      for (int c = 0; c < 3; ++c) maps.normal.at(x, y, c) = hit->geometric_normal[c];
    }
  });
  return maps;
}

}  // namespace icefield::simulate
