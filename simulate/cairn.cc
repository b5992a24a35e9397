// A cairn of stacked stones on a gravel patch, with boulders around and mountains behind.
#include <algorithm>
#include <cmath>
#include <numbers>

#include "icefield/base/random.h"
#include "simulate/noise.h"
#include "simulate/scene.h"

namespace icefield::simulate {
namespace {

constexpr float kPi = std::numbers::pi_v<float>;

}  // namespace

float ground_around(const Eigen::Vector2f& p, std::uint32_t seed) {
  const Eigen::Vector3f q(p.x(), p.y(), 0);
  const float r = p.norm();
  float h = 0.10f * fractal(q, 0.35f, 5, 0.5f, 0, seed) + 0.012f * fractal(q, 4.0f, 4, 0.6f, 0, seed + 5);
  h += smooth_step(9, 60, r) * (2.5f * fractal(q, 0.03f, 6, 0.5f, 0, seed + 9));
  const float range = smooth_step(150, 900, r);
  h += range * 620 * ridged(q, 0.0016f, 9, 0, seed + 21) - smooth_step(15, 150, r) * 6;
  return h;
}

// Rings that widen with the distance.
Mesh terrain_around(double detail, const std::function<float(const Eigen::Vector2f&)>& ground,
                    const std::function<Material(const Eigen::Vector2f&)>& material) {
  const int columns = std::max(90, static_cast<int>(720 * detail)), rows = std::max(70, static_cast<int>(430 * detail));
  return make_terrain(
      columns, rows,
      [&](int c, int r) {
        const float angle = 2 * kPi * static_cast<float>(c) / static_cast<float>(columns);
        const float t = static_cast<float>(r) / static_cast<float>(rows - 1);
        const float radius = t < 0.6f ? 0.01f + 6.0f * t / 0.6f : 6.0f * std::pow(2600.0f / 6.0f, (t - 0.6f) / 0.4f);
        return Eigen::Vector2f(radius * std::cos(angle), radius * std::sin(angle));
      },
      ground, material, true);
}

Light light_of_day(std::uint64_t seed) {
  CounterRandom day(combine_keys(seed, 12));
  const float azimuth = static_cast<float>(day.uniform(0, 2 * std::numbers::pi)),
              elevation = static_cast<float>(day.uniform(0.65, 0.95));
  Light light;
  light.sun_direction = {std::cos(azimuth) * std::cos(elevation), std::sin(azimuth) * std::cos(elevation),
                         std::sin(elevation)};
  light.sun_colour = {1.45f, 1.32f, 1.12f};
  light.sky_colour = {0.42f, 0.50f, 0.64f};
  light.ground_colour = {0.20f, 0.19f, 0.17f};
  return light;
}

SceneContent build_cairn(const SceneOptions& options) {
  SceneContent content;
  const auto seed = static_cast<std::uint32_t>(mix_bits(options.seed));
  CounterRandom random(combine_keys(options.seed, 11));
  const auto ground = [&](const Eigen::Vector2f& p) { return ground_around(p, seed); };

  content.mesh = terrain_around(options.detail, ground, [](const Eigen::Vector2f& p) {
    return p.norm() < 40 ? Material::gravel : Material::rock_and_snow;
  });

  const int fine = options.detail >= 0.7 ? 5 : options.detail >= 0.35 ? 4 : 3;
  std::uint16_t object = 1;
  const auto turn = [&](float tilt) {
    const Eigen::Quaternionf spin(
        Eigen::AngleAxisf(static_cast<float>(random.uniform(0, 2 * std::numbers::pi)), Eigen::Vector3f::UnitZ()));
    const Eigen::Vector3f axis(static_cast<float>(random.normal()), static_cast<float>(random.normal()), 0);
    return Eigen::Matrix3f(Eigen::AngleAxisf(static_cast<float>(random.normal()) * tilt, axis.normalized()) * spin);
  };

  // The cairn: courses of flat stones around a dark core, narrowing to a pointer stone.
  const float base = ground({0, 0});
  float z = base - 0.04f;
  float radius = static_cast<float>(random.uniform(0.68, 0.82));
  for (int course = 0; course < 11; ++course) {
    const float thickness = static_cast<float>(random.uniform(0.13, 0.19)) * (course > 7 ? 0.85f : 1.0f);
    const float length = 0.24f + 0.10f * radius;
    const int count =
        std::max(1, static_cast<int>(2 * kPi * std::max(0.02f, radius - 0.5f * length) / (1.5f * length) + 0.5f));
    const float phase = static_cast<float>(random.uniform(0, 2 * std::numbers::pi));
    for (int k = 0; k < count; ++k) {
      const float angle = phase + 2 * kPi * (static_cast<float>(k) + static_cast<float>(random.uniform(-0.16, 0.16))) /
                                      static_cast<float>(count);
      const float reach = count == 1 ? 0.0f : radius - 0.55f * length + static_cast<float>(random.uniform(-0.05, 0.05));
      const Eigen::Vector3f at(reach * std::cos(angle), reach * std::sin(angle),
                               z + 0.5f * thickness + static_cast<float>(random.uniform(-0.015, 0.015)));
      const float across = length * static_cast<float>(random.uniform(0.85, 1.2));
      const Eigen::Vector3f size(across, across * static_cast<float>(random.uniform(0.75, 1.1)),
                                 thickness * static_cast<float>(random.uniform(0.95, 1.15)));
      const Mesh stone = make_stone(random.bits(), fine, 0.62f, 0.05f);
      content.mesh.add(place(stone, turn(0.07f) * size.asDiagonal(), at, Material::stone, object++));
    }
    const float core = std::max(0.03f, radius - 0.6f * length);
    content.mesh.add(place(make_stone(random.bits(), 2, 0.9f, 0.02f),
                           Eigen::Vector3f(core, core, 0.75f * thickness).asDiagonal().toDenseMatrix(),
                           {0, 0, z + 0.5f * thickness}, Material::dark, 0));
    z += thickness * 0.93f;
    radius = std::max(0.10f, radius * static_cast<float>(random.uniform(0.80, 0.90)));
  }
  content.mesh.add(place(make_stone(random.bits(), fine, 0.7f, 0.06f),
                         turn(0.1f) * Eigen::Vector3f(0.13f, 0.10f, 0.22f).asDiagonal(), {0, 0, z + 0.08f},
                         Material::stone, object++));
  const float top = z + 0.3f;

  // Boulders and gravel: few large ones, many small ones, sunk a little into the ground.
  std::vector<Mesh> shapes;
  for (int i = 0; i < 20; ++i) shapes.push_back(make_stone(random.bits(), options.detail >= 0.7 ? 3 : 2, 0.75f, 0.06f));
  const auto scatter = [&](int count, float low, float high, float inner, float outer) {
    for (int i = 0; i < count; ++i) {
      const float angle = static_cast<float>(random.uniform(0, 2 * std::numbers::pi));
      const float r = std::sqrt(static_cast<float>(random.uniform(inner * inner, outer * outer)));
      const float size = low * std::pow(high / low, std::pow(random.uniformf(), 2.5f));
      const Eigen::Vector2f p(r * std::cos(angle), r * std::sin(angle));
      const Eigen::Vector3f stretch(size, size * static_cast<float>(random.uniform(0.6, 1.0)),
                                    size * static_cast<float>(random.uniform(0.45, 0.85)));
      const Mesh& shape = shapes[random.below(static_cast<std::uint32_t>(shapes.size()))];
      content.mesh.add(place(shape, turn(0.3f) * stretch.asDiagonal(), {p.x(), p.y(), ground(p) + 0.2f * size},
                             Material::stone, object++));
    }
  };
  scatter(static_cast<int>(3600 * options.detail), 0.018f, 0.11f, 0.62f, 5.0f);
  scatter(60, 0.12f, 0.40f, 1.1f, 6.0f);
  scatter(120, 0.15f, 1.1f, 6.5f, 30.0f);

  content.light = light_of_day(options.seed);
  content.subject.centre = {0, 0, base + 0.5 * (top - base) - 0.05};
  content.subject.half_size = {1.6, 1.6, 0.5 * (top - base) + 0.15};
  content.sky_radius = 0.7f;
  content.sky_region.centre = {0, 0, 1};
  content.sky_region.half_size = {7, 7, 2.5};
  return content;
}

}  // namespace icefield::simulate
