#include <algorithm>
#include <cmath>

#include "icefield/base/random.h"
#include "simulate/noise.h"
#include "simulate/scene.h"
#include "src/control/target_design.h"

namespace icefield::simulate {
namespace {

using Eigen::Vector3f;

Vector3f blend(const Vector3f& a, const Vector3f& b, float t) {
  return a + std::clamp(t, 0.0f, 1.0f) * (b - a);
}

// A tint for each object, between the greys, browns and greens of crystalline rock.
Vector3f rock_tint(std::uint16_t object) {
  const std::uint64_t bits = mix_bits(object * 77u + 5u);
  const float brightness = 0.22f + 0.24f * static_cast<float>(bits & 255) / 255.0f;
  const float warmth = static_cast<float>((bits >> 8) & 255) / 255.0f;
  return brightness * blend({0.92f, 1.0f, 1.06f}, {1.16f, 1.0f, 0.80f}, warmth);
}

// Tilts the normal by the gradient of a noise, taken over a step of the footprint.
Vector3f bump(const Vector3f& position, const Vector3f& normal, float frequency, int octaves, float strength,
              float footprint, std::uint32_t seed) {
  const float step = std::max(0.5f * footprint, 0.1f / frequency / 64.0f);
  const float here = fractal(position, frequency, octaves, 0.6f, footprint, seed);
  Vector3f slope;
  for (int c = 0; c < 3; ++c)
    slope[c] = fractal(position + step * Vector3f::Unit(c), frequency, octaves, 0.6f, footprint, seed) - here;
  slope *= strength / (frequency * step);
  slope -= normal * slope.dot(normal);
  return (normal - slope).normalized();
}

Surface stone(const Hit& hit, float footprint, std::uint32_t seed, float scale) {
  const std::uint32_t s = seed + 131u * hit.object;
  const Vector3f p = hit.position * scale;
  const float f = footprint * scale;
  const float veins = fractal(p + 0.3f * Vector3f::Constant(noise(p * 3, s)), 5.0f, 3, 0.6f, f, s + 1);
  const float mottle = fractal(p, 9.0f, 9, 0.78f, f, s + 2);
  const float grain = fractal(p, 60.0f, 5, 0.85f, f, s + 3);
  Vector3f colour = rock_tint(hit.object) * (1 + 0.30f * veins + 0.34f * mottle + 0.42f * grain);
  colour = blend(colour, 1.5f * Vector3f(0.42f, 0.41f, 0.40f),
                 0.7f * smooth_step(0.30f, 0.42f, std::abs(veins)) * smooth_step(0.1f, 0.5f, mottle));
  // Lichen: map-like crusts, on what looks up.
  const float crust = fractal(p, 3.2f, 7, 0.62f, f, s + 7) + 0.25f * hit.shading_normal.z();
  const float lichen = smooth_step(0.33f, 0.42f, crust);
  const Vector3f lichen_colour = (hit.object & 1) ? Vector3f(0.34f, 0.38f, 0.12f) : Vector3f(0.44f, 0.45f, 0.40f);
  colour = blend(colour, lichen_colour * (1 + 0.5f * grain + 0.25f * mottle), 0.8f * lichen);
  return {colour.cwiseMax(0.02f).cwiseMin(0.95f), bump(p, hit.shading_normal, 14.0f, 6, 0.11f, f, s + 11)};
}

Surface loose_ground(const Hit& hit, float footprint, std::uint32_t seed, float scale, const Vector3f& tone) {
  const Vector3f p = hit.position * scale;
  const float f = footprint * scale;
  const float broad = fractal(p, 0.9f, 4, 0.6f, f, seed + 31);
  const float mid = fractal(p, 12.0f, 4, 0.8f, f, seed + 32);
  const float fine = fractal(p, 90.0f, 5, 0.9f, f, seed + 33);
  Vector3f colour = tone * (1 + 0.25f * broad + 0.32f * mid + 0.38f * fine);
  // Small pebbles as coloured cells where they are resolved, at two sizes.
  for (const float frequency : {26.0f, 61.0f}) {
    const float share = 1 - smooth_step(0.25f, 0.6f, frequency * f);
    if (share <= 0) continue;
    std::uint32_t id = 0;
    const float d = cells(p, frequency, seed + static_cast<std::uint32_t>(frequency), id);
    const float inside = 1 - smooth_step(0.30f, 0.52f, d);
    const float brightness = 0.55f + 0.95f * static_cast<float>(id & 255) / 255.0f;
    const float warmth = static_cast<float>((id >> 8) & 255) / 255.0f;
    const Vector3f pebble = tone.mean() * brightness * blend({0.9f, 1.0f, 1.08f}, {1.2f, 1.0f, 0.78f}, warmth);
    colour = blend(colour, pebble * (1 + 0.3f * fine), share * inside * static_cast<float>((id >> 16 & 3) != 0));
    colour *= 1 - 0.35f * share * smooth_step(0.45f, 0.7f, d);
  }
  return {colour.cwiseMax(0.02f).cwiseMin(0.95f), bump(p, hit.shading_normal, 22.0f, 5, 0.14f, f, seed + 34)};
}

Surface mountain(const Hit& hit, float footprint, std::uint32_t seed) {
  const Vector3f& p = hit.position;
  const float strata = fractal({p.x() * 0.2f, p.y() * 0.2f, p.z() * 1.3f}, 0.03f, 7, 0.65f, footprint, seed + 41);
  const float rough = fractal(p, 0.05f, 8, 0.7f, footprint, seed + 42);
  Vector3f rock = Vector3f(0.23f, 0.21f, 0.20f) * (1 + 0.45f * strata + 0.5f * rough);
  const float scrub = (1 - smooth_step(15, 90, p.z() + 30 * rough)) * smooth_step(0.55f, 0.8f, hit.shading_normal.z());
  rock = blend(rock, Vector3f(0.15f, 0.17f, 0.08f) * (1 + 0.6f * rough), scrub);
  const float snow =
      smooth_step(150, 240, p.z() + 70 * rough) * smooth_step(0.50f, 0.68f, hit.shading_normal.z() + 0.15f * rough);
  return {blend(rock, {0.84f, 0.87f, 0.92f}, snow).cwiseMax(0.02f),
          bump(p, hit.shading_normal, 0.06f, 5, 0.2f, footprint, seed + 43)};
}

// Of a coded target on its board, how much of the place is white.
float paper_share(const Hit& hit, float footprint) {
  constexpr int kSub = 3;
  const double step = 0.5 * footprint / hit.board_radius / kSub;  // a sample is about half a pixel
  int light = 0;
  for (int j = 0; j < kSub; ++j)
    for (int i = 0; i < kSub; ++i)
      light += !is_dark(
          hit.teeth, hit.on_board.cast<double>() + step * Eigen::Vector2d(i - (kSub - 1) / 2.0, j - (kSub - 1) / 2.0));
  return static_cast<float>(light) / (kSub * kSub);
}

}  // namespace

Surface shade_material(const Hit& hit, float footprint, float texture_scale, std::uint32_t seed) {
  const Vector3f& p = hit.position;
  switch (hit.material) {
    case Material::stone:
      return stone(hit, footprint, seed, texture_scale);
    case Material::gravel:
      return loose_ground(hit, footprint, seed, texture_scale, {0.30f, 0.285f, 0.26f});
    case Material::moraine: {
      Surface surface = loose_ground(hit, footprint, seed, 0.7f * texture_scale, {0.31f, 0.29f, 0.26f});
      const float grass = smooth_step(0.10f, 0.4f, fractal(p, 0.035f, 7, 0.65f, footprint, seed + 51));
      const float tuft = fractal(p, 1.5f, 5, 0.85f, footprint, seed + 52);
      surface.albedo = blend(surface.albedo, Vector3f(0.17f, 0.20f, 0.08f) * (1 + 0.8f * tuft), 0.75f * grass);
      return surface;
    }
    case Material::stream_bed:
      return loose_ground(hit, footprint, seed, texture_scale, {0.37f, 0.37f, 0.37f});
    case Material::plank: {
      const float along = p.z() * 5.2f;
      const float board = std::floor(along);
      const float tone = 0.75f + 0.5f * noise({board * 1.7f, 0.31f * (p.x() + p.y()), 0.5f}, seed + 61);
      const float streak = fractal({p.x() * 1.2f, p.y() * 1.2f, p.z() * 14}, 1.0f, 6, 0.75f, footprint, seed + 62);
      const float gap = smooth_step(0.0f, 0.12f, along - board);
      return {(Vector3f(0.30f, 0.18f, 0.10f) * tone * (1 + 0.45f * streak) * (0.5f + 0.5f * gap)).cwiseMax(0.02f),
              hit.shading_normal};
    }
    case Material::sheet_roof: {
      const float rust = fractal(p, 0.8f, 8, 0.75f, footprint, seed + 71);
      const Vector3f sheet = Vector3f(0.40f, 0.20f, 0.16f) * (1 + 0.2f * noise(p * 0.9f, seed + 72));
      return {blend(sheet * (1 + 0.35f * rust), {0.32f, 0.28f, 0.25f}, smooth_step(0.2f, 0.5f, rust)).cwiseMax(0.02f),
              hit.shading_normal};
    }
    case Material::rock_and_snow:
      return mountain(hit, footprint, seed);
    case Material::snow: {
      const float grain = fractal(p, 40.0f, 4, 0.7f, footprint, seed + 101),
                  broad = fractal(p, 1.3f, 2, 0.5f, footprint, seed + 102);
      return {Vector3f(0.66f, 0.69f, 0.73f) * (1 + 0.015f * grain + 0.02f * broad),
              bump(p, hit.shading_normal, 5.0f, 3, 0.01f, footprint, seed + 103)};
    }
    case Material::clear_ice: {
      const float cloudy = fractal(p, 6.0f, 6, 0.7f, footprint, seed + 111),
                  cracks = smooth_step(0.32f, 0.4f, std::abs(fractal(p, 9.0f, 3, 0.6f, footprint, seed + 112)));
      return {(Vector3f(0.22f, 0.29f, 0.33f) * (1 + 0.3f * cloudy) + 0.25f * cracks * Vector3f::Ones()).cwiseMax(0.02f),
              bump(p, hit.shading_normal, 4.0f, 3, 0.05f, footprint, seed + 113), 0.5f};
    }
    case Material::glacier_ice: {
      // Old ice: layers with dirt melted out of them, air bubbles, grit that lies on it.
      const float layer = fractal({0.15f * p.x(), 0.15f * p.y(), 1.6f * p.z()}, 1.0f, 5, 0.6f, footprint, seed + 131),
                  bubbles = fractal(p, 7.0f, 7, 0.75f, footprint, seed + 132),
                  grit = smooth_step(0.18f, 0.42f, fractal(p, 2.2f, 7, 0.7f, footprint, seed + 133));
      const Vector3f ice = Vector3f(0.47f, 0.58f, 0.64f) * (1 + 0.28f * bubbles + 0.35f * layer);
      return {blend(ice, {0.20f, 0.19f, 0.18f}, 0.75f * grit).cwiseMax(0.02f),
              bump(p, hit.shading_normal, 3.0f, 4, 0.06f, footprint, seed + 134), 0.12f};
    }
    case Material::pole: {
      const float band = std::floor(10 * p.z() + 7 * (p.x() + p.y()));
      const Vector3f paint =
          std::fmod(std::abs(band), 2.0f) < 1 ? Vector3f(0.55f, 0.08f, 0.06f) : Vector3f(0.70f, 0.70f, 0.68f);
      return {(paint * (1 + 0.25f * fractal(p, 30.0f, 5, 0.7f, footprint, seed + 121))).cwiseMax(0.02f),
              hit.shading_normal};
    }
    case Material::painted_iron: {
      // Paint that has flaked off in places, rust and soot; detail from a hand's breadth down to tenths of millimetres.
      const std::uint32_t s = seed + 17u * hit.object;
      const float flakes = fractal(p, 18.0f, 7, 0.7f, footprint, s + 141),
                  rust = fractal(p, 45.0f, 7, 0.8f, footprint, s + 142),
                  grain = fractal(p, 300.0f, 5, 0.85f, footprint, s + 143);
      const Vector3f paint = Vector3f(0.16f, 0.27f, 0.24f) * (1 + 0.18f * rust + 0.3f * grain),
                     iron = Vector3f(0.34f, 0.19f, 0.11f) * (1 + 0.5f * rust + 0.35f * grain);
      Vector3f colour = blend(paint, iron, smooth_step(-0.05f, 0.18f, flakes + 0.25f * rust));
      // Chips, each of its own tone.
      for (const float frequency : {70.0f, 170.0f}) {
        std::uint32_t id = 0;
        const float share = 1 - smooth_step(0.3f, 0.7f, frequency * footprint),
                    inside = 1 - smooth_step(0.22f, 0.34f,
                                             cells(p, frequency, s + static_cast<std::uint32_t>(frequency), id));
        const float tone = 0.3f + 1.9f * static_cast<float>(id & 255) / 255.0f;
        colour = blend(colour, tone * colour, 0.8f * share * inside);
      }
      colour = blend(colour, {0.09f, 0.085f, 0.08f},
                     0.6f * smooth_step(0.15f, 0.5f, fractal(p, 11.0f, 4, 0.6f, footprint, s + 144)));
      return {colour.cwiseMax(0.02f).cwiseMin(0.95f),
              bump(p, hit.shading_normal, 120.0f, 5, 0.05f, footprint, s + 145)};
    }
    case Material::leaves: {
      const std::uint32_t s = seed + 19u * hit.object;
      const float leaf = fractal(p, 9.0f, 5, 0.85f, footprint, s + 151),
                  branch = fractal(p, 2.2f, 4, 0.7f, footprint, s + 152);
      return {(Vector3f(0.13f, 0.20f, 0.06f) * (1 + 0.8f * leaf + 0.5f * branch)).cwiseMax(0.02f),
              bump(p, hit.shading_normal, 7.0f, 4, 0.35f, footprint, s + 153)};
    }
    case Material::board:
      return {Vector3f::Constant(0.04f + 0.72f * paper_share(hit, footprint)), hit.shading_normal};
    case Material::dark:
      break;
  }
  return {Vector3f(0.05f, 0.05f, 0.055f) * (1 + 0.5f * fractal(p, 4.0f, 5, 0.7f, footprint, seed + 81)),
          hit.shading_normal};
}

Vector3f sky_radiance(const Vector3f& direction, const Light& light, std::uint32_t seed) {
  const float up = std::max(0.0f, direction.z());
  Vector3f sky = blend({0.66f, 0.76f, 0.88f}, {0.20f, 0.36f, 0.68f}, std::pow(up, 0.55f));
  const float toward_sun = std::max(0.0f, direction.dot(light.sun_direction));
  sky += light.sun_colour * (0.25f * std::pow(toward_sun, 24.0f));
  if (direction.z() > 0.01f) {
    const Vector3f q = direction / (direction.z() + 0.15f);
    const float cloud = fractal({q.x(), q.y(), 0.7f}, 0.7f, 6, 0.55f, 0.01f, seed + 91);
    sky = blend(sky, {0.92f, 0.93f, 0.95f}, 0.8f * smooth_step(0.05f, 0.45f, cloud) * smooth_step(0.0f, 0.15f, up));
  }
  return sky;
}

}  // namespace icefield::simulate
