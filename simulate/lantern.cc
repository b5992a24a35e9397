// A storm lantern on a slab of rock, photographed in two rounds: standing, and turned over onto its lid. What lies
// around it stays as it is.
#include <algorithm>
#include <cmath>
#include <numbers>

#include "icefield/base/error.h"
#include "icefield/base/random.h"
#include "simulate/noise.h"
#include "simulate/scene.h"

namespace icefield::simulate {
namespace {

constexpr float kPi = std::numbers::pi_v<float>;
constexpr float kTall = 0.42f;  // metres, from the foot to the lid's flat top

// A body of revolution about z; `profile`: radius and height from the bottom up, of which the first and the last
// radius are 0. Corners of the profile stay sharp: each ring belongs to one band alone.
Mesh make_turned(const std::vector<Eigen::Vector2f>& profile, int sides, std::uint16_t object) {
  Mesh mesh;
  for (std::size_t band = 0; band + 1 < profile.size(); ++band) {
    const auto base = static_cast<std::uint32_t>(mesh.vertices.size());
    for (int row = 0; row < 2; ++row)
      for (int s = 0; s < sides; ++s) {
        const float angle = 2 * kPi * static_cast<float>(s) / static_cast<float>(sides);
        const Eigen::Vector2f& p = profile[band + static_cast<std::size_t>(row)];
        mesh.vertices.push_back({p.x() * std::cos(angle), p.x() * std::sin(angle), p.y()});
      }
    const auto n = static_cast<std::uint32_t>(sides);
    for (std::uint32_t s = 0; s < n; ++s) {
      const std::uint32_t t = (s + 1) % n;
      if (profile[band].x() > 0) mesh.triangles.insert(mesh.triangles.end(), {base + s, base + t, base + n + t});
      if (profile[band + 1].x() > 0)
        mesh.triangles.insert(mesh.triangles.end(), {base + s, base + n + t, base + n + s});
    }
  }
  mesh.materials.assign(mesh.vertices.size(), Material::painted_iron);
  mesh.objects.assign(mesh.vertices.size(), object);
  mesh.compute_normals();
  return mesh;
}

// The lantern in its own frame: its axis is z, its foot stands at z = 0.
Mesh make_lantern(const SceneOptions& options, CounterRandom& random) {
  const int sides = options.detail >= 0.7 ? 96 : options.detail >= 0.35 ? 64 : 48;
  std::uint16_t object = kFirstOfSubject;
  // Foot, glass (sooty, so that nothing is seen through it), lid with a chimney.
  Mesh lantern =
      make_turned({{0, 0}, {0.085f, 0}, {0.095f, 0.012f}, {0.095f, 0.03f}, {0.075f, 0.06f}, {0.07f, 0.07f}, {0, 0.07f}},
                  sides, object++);
  lantern.add(make_turned(
      {{0, 0.065f}, {0.05f, 0.07f}, {0.066f, 0.12f}, {0.07f, 0.17f}, {0.062f, 0.23f}, {0.05f, 0.262f}, {0, 0.265f}},
      sides, object++));
  lantern.add(make_turned({{0, 0.26f},
                           {0.09f, 0.26f},
                           {0.096f, 0.268f},
                           {0.09f, 0.28f},
                           {0.06f, 0.33f},
                           {0.042f, 0.345f},
                           {0.042f, 0.375f},
                           {0.058f, 0.385f},
                           {0.062f, kTall - 0.006f},
                           {0.056f, kTall},
                           {0, kTall}},
                          sides, object++));
  // Four posts and two hoops around the glass.
  for (int k = 0; k < 4; ++k) {
    const float angle = 0.25f * kPi + 0.5f * kPi * static_cast<float>(k);
    Mesh post = make_box({0.076f, -0.006f, 0.055f}, {0.087f, 0.006f, 0.265f}, Material::painted_iron, object++);
    const Eigen::Matrix3f turn = Eigen::AngleAxisf(angle, Eigen::Vector3f::UnitZ()).toRotationMatrix();
    lantern.add(place(post, turn, Eigen::Vector3f::Zero(), Material::painted_iron, post.objects.front()));
  }
  // Burnt lumps of clay on one side tell left from right, so that no turn about the axis fits as well as the true one.
  const int fine = options.detail >= 0.7 ? 4 : 3;
  for (const auto& [angle, height, radius, size] :
       {std::tuple(0.4f, 0.045f, 0.088f, 0.022f), std::tuple(2.9f, 0.305f, 0.075f, 0.024f),
        std::tuple(4.6f, 0.02f, 0.095f, 0.016f)}) {
    const Eigen::Vector3f stretch(size, 0.8f * size, 0.9f * size);
    lantern.add(place(make_stone(random.bits(), fine, 0.8f, 0.05f), stretch.asDiagonal(),
                      {radius * std::cos(angle), radius * std::sin(angle), height}, Material::painted_iron, object++));
  }
  return lantern;
}

}  // namespace

Eigen::Isometry3f lantern_place(int position) {
  Eigen::Isometry3f place = Eigen::Isometry3f::Identity();
  if (position != 2) return place;
  place.translate(Eigen::Vector3f(0.02f, -0.015f, kTall));
  place.rotate(Eigen::AngleAxisf(1.9f, Eigen::Vector3f::UnitZ()));
  place.rotate(Eigen::AngleAxisf(kPi, Eigen::Vector3f::UnitX()));
  return place;
}

SceneContent build_lantern(const SceneOptions& options) {
  if (options.position < 0 || options.position > 2)
    throw Error(ErrorKind::usage, "position " + std::to_string(options.position), "is none of the lantern",
                "give 0 (alone), 1 (standing) or 2 (turned over)");
  SceneContent content;
  const auto seed = static_cast<std::uint32_t>(mix_bits(options.seed));
  CounterRandom random(combine_keys(options.seed, 14));
  const Mesh lantern = make_lantern(options, random);
  content.subject_place = lantern_place(options.position);
  Mesh placed = lantern;
  for (Eigen::Vector3f& v : placed.vertices) v = content.subject_place * v;
  for (Eigen::Vector3f& n : placed.normals) n = content.subject_place.linear() * n;
  content.mesh = std::move(placed);
  if (options.position > 0) {
    // A slab that is flat where the lantern stands, rough around, and falls off to the ground.
    const auto ground = [&](const Eigen::Vector2f& p) {
      const float r = p.norm();
      const Eigen::Vector3f q(p.x(), p.y(), 0);
      const float rough = smooth_step(0.13f, 0.3f, r) * 0.012f * (fractal(q, 7.0f, 5, 0.55f, 0, seed + 3) - 0.2f);
      const float slab = 1 - smooth_step(0.75f, 0.95f, r * (1 + 0.15f * noise(2 * q, seed + 4)));
      return slab * rough + (1 - slab) * (ground_around(p, seed) - ground_around({0, 0}, seed) - 0.7f);
    };
    content.mesh.add(terrain_around(options.detail, ground, [](const Eigen::Vector2f& p) {
      return p.norm() < 40 ? Material::gravel : Material::rock_and_snow;
    }));
    for (int k = 0; k < 60; ++k) {
      const float angle = static_cast<float>(random.uniform(0, 2 * std::numbers::pi)),
                  r = static_cast<float>(random.uniform(0.24, 0.7)),
                  size = static_cast<float>(random.uniform(0.006, 0.03));
      const Eigen::Vector2f p(r * std::cos(angle), r * std::sin(angle));
      const Eigen::Vector3f stretch(size, 0.8f * size, 0.6f * size);
      content.mesh.add(place(make_stone(random.bits(), 3, 0.75f, 0.06f), stretch.asDiagonal(),
                             {p.x(), p.y(), ground(p) + 0.2f * size}, Material::stone,
                             static_cast<std::uint16_t>(1 + k)));
    }
  }
  // In the shade of the hut: sky from all sides, little sun.
  content.light = light_of_day(options.seed);
  content.light.sun_colour *= 0.2f;
  content.light.sky_colour *= 1.7f;
  content.light.ground_colour *= 1.6f;
  content.subject.centre = {0, 0, 0.5 * kTall};
  content.subject.half_size = {0.16, 0.16, 0.5 * kTall + 0.03};
  content.sky_radius = 0.15f;
  content.sky_region.centre = {0, 0, 0.2};
  content.sky_region.half_size = {1.2, 1.2, 0.5};
  return content;
}

}  // namespace icefield::simulate
