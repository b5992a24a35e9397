// A survey station beside the ice: what is hard for dense stereo, each by itself. Poles and a line, a snowdrift and a
// white lid with next to no texture, wet clear ice, a ramp of gravel seen at a slant, and sky behind.
#include <algorithm>
#include <cmath>
#include <numbers>

#include "icefield/base/random.h"
#include "simulate/noise.h"
#include "simulate/scene.h"

namespace icefield::simulate {

SceneContent build_station(const SceneOptions& options) {
  SceneContent content;
  const auto seed = static_cast<std::uint32_t>(mix_bits(options.seed));
  CounterRandom random(combine_keys(options.seed, 13));
  const auto drift = [](const Eigen::Vector2f& p) { return (p - Eigen::Vector2f(-0.75f, -0.55f)).norm(); };
  // The drift is part of the ground, so that its edge is soft as of snow.
  const auto ground = [&](const Eigen::Vector2f& p) {
    const Eigen::Vector3f q(p.x(), p.y(), 0);
    const float snow =
        0.42f * (1 - smooth_step(0.05f, 0.72f, drift(p))) * (1 + 0.1f * fractal(q, 1.5f, 2, 0.5f, 0, seed + 3));
    return ground_around(p, seed) + snow;
  };
  content.mesh = terrain_around(options.detail, ground, [&](const Eigen::Vector2f& p) {
    return drift(p) < 0.68f ? Material::snow : p.norm() < 40 ? Material::gravel : Material::rock_and_snow;
  });

  std::uint16_t object = 1;
  const auto box = [&](float x, float y, float low, const Eigen::Vector3f& size, Material material) {
    const float z = ground({x, y});
    content.mesh.add(make_box({x - 0.5f * size.x(), y - 0.5f * size.y(), z + low},
                              {x + 0.5f * size.x(), y + 0.5f * size.y(), z + low + size.z()}, material, object++));
  };
  // Poles of 8, 16, 30 and 60 mm, and a line of 6 mm from one to the next.
  const float thickness[] = {0.008f, 0.016f, 0.030f, 0.060f};
  for (int k = 0; k < 4; ++k)
    box(-0.9f + 0.6f * static_cast<float>(k), 0.9f, -0.1f, {thickness[k], thickness[k], 1.7f}, Material::pole);
  content.mesh.add(make_box({-0.9f, 0.897f, ground({-0.9f, 0.9f}) + 1.2f},
                            {0.9f, 0.903f, ground({-0.9f, 0.9f}) + 1.206f}, Material::pole, object++));
  // The instrument case: planks, with a white lid.
  box(0.1f, -0.1f, -0.05f, {0.7f, 0.45f, 0.55f}, Material::plank);
  box(0.1f, -0.1f, 0.50f, {0.74f, 0.49f, 0.03f}, Material::snow);
  // Blocks of wet clear ice, and a few stones.
  const int fine = options.detail >= 0.7 ? 5 : options.detail >= 0.35 ? 4 : 3;
  const auto turn = [&] {
    return Eigen::Quaternionf(Eigen::AngleAxisf(static_cast<float>(random.uniform(0, 2 * std::numbers::pi)),
                                                Eigen::Vector3f(0.2f, 0.1f, 1).normalized()))
        .toRotationMatrix();
  };
  for (const auto& [x, y, size] : {std::tuple(0.85f, -0.75f, 0.32f), std::tuple(1.05f, 0.1f, 0.24f)})
    content.mesh.add(place(make_stone(random.bits(), fine, 0.8f, 0.03f),
                           turn() * Eigen::Vector3f(size, size, 0.8f * size).asDiagonal(),
                           {x, y, ground({x, y}) + 0.5f * size}, Material::clear_ice, object++));
  for (int k = 0; k < 40; ++k) {
    const float angle = static_cast<float>(random.uniform(0, 2 * std::numbers::pi)),
                r = static_cast<float>(random.uniform(1.0, 4.0)), size = static_cast<float>(random.uniform(0.03, 0.14));
    const Eigen::Vector2f p(r * std::cos(angle), r * std::sin(angle));
    if (drift(p) < 0.75f) continue;
    content.mesh.add(place(make_stone(random.bits(), std::min(fine, 3), 0.75f, 0.06f),
                           turn() * Eigen::Vector3f(size, 0.8f * size, 0.6f * size).asDiagonal(),
                           {p.x(), p.y(), ground(p) + 0.2f * size}, Material::stone, object++));
  }
  content.light = light_of_day(options.seed);
  const float base = ground({0, 0.4f});
  content.subject.centre = {0, 0, base + 0.75};
  content.subject.half_size = {1.6, 1.6, 1.0};
  content.sky_radius = 0.7f;
  content.sky_region.centre = {0, 0, 1};
  content.sky_region.half_size = {7, 7, 2.5};
  return content;
}

}  // namespace icefield::simulate
