// A glacier's forefield seen from the air: moraine ridges, boulders, a stream bed, a field hut, and the ice front in
// the north.
#include <algorithm>
#include <cmath>
#include <numbers>

#include "icefield/base/random.h"
#include "simulate/noise.h"
#include "simulate/scene.h"

namespace icefield::simulate {
namespace {

constexpr float kHalf = 130;  // metres

struct Forefield {
  std::uint32_t seed;
  float relief;
  float stream_phase, ridge_phase;
  Eigen::Vector2f hut;

  float stream_x(float y) const {
    return -22 + 13 * std::sin(0.035f * y + stream_phase) + 7 * noise({0.03f * y, 3.3f, 0}, seed + 3);
  }
  float stream_distance(const Eigen::Vector2f& p) const { return std::abs(p.x() - stream_x(p.y())); }
  float natural_height(const Eigen::Vector2f& p) const {
    const Eigen::Vector3f q(p.x(), p.y(), 0);
    float h =
        0.045f * p.y() + 2.2f * fractal(q, 0.018f, 4, 0.5f, 0, seed) + 0.35f * fractal(q, 0.16f, 5, 0.55f, 0, seed + 1);
    // Arcs of terminal moraines, worn away in places.
    const float arc = (q + Eigen::Vector3f(20, 190, 0)).norm() + 9 * noise(q * 0.02f, seed + 2);
    for (const float radius : {150.0f, 192.0f, 247.0f}) {
      const float across = (arc - radius - 4 * std::sin(ridge_phase)) / 7.5f;
      h += 6.0f * std::exp(-across * across) * smooth_step(-0.5f, 0.25f, noise(q * 0.022f, seed + 4));
    }
    const float bed = stream_distance(p);
    h = h * (0.35f + 0.65f * smooth_step(2, 26, bed)) - 1.5f * (1 - smooth_step(2.0f, 9.0f, bed));
    h += 0.12f * (1 - smooth_step(4.0f, 8.0f, bed)) * fractal(q, 0.5f, 4, 0.6f, 0, seed + 6);
    return h;
  }
  // How far behind the ice front; negative before it.
  float behind_front(const Eigen::Vector2f& p) const {
    return p.y() - 60 - 5 * std::sin(0.045f * p.x() + ridge_phase) - 6 * noise({0.06f * p.x(), 7.7f, 0}, seed + 11) -
           1.6f * noise({0.35f * p.x(), 0.35f * p.y(), 2.2f}, seed + 12);
  }
  // A steep front of about ten metres, and behind it the tongue, cut by crevasses along the front.
  float ice_height(const Eigen::Vector2f& p) const {
    const float behind = behind_front(p);
    if (behind <= 0) return 0;
    const float crevasse =
        std::abs(std::sin(0.55f * behind + 2.5f * noise({0.08f * p.x(), 0.08f * p.y(), 5.1f}, seed + 13)));
    const float cut = behind < 4 ? 0
                                 : 2.6f * (1 - smooth_step(0.0f, 0.30f, crevasse)) *
                                       smooth_step(-0.2f, 0.3f, noise({0.05f * p.x(), 0.05f * p.y(), 9.4f}, seed + 14));
    return 9.5f * smooth_step(0, 2.2f, behind) + 0.13f * behind - cut;
  }
  float height(const Eigen::Vector2f& p) const {
    const float flat = 1 - smooth_step(6.5f, 11, (p - hut).norm());
    const float ground = flat > 0 ? natural_height(p) * (1 - flat) + natural_height(hut) * flat : natural_height(p);
    return relief * ground + ice_height(p);
  }
};

Mesh make_hut(const Eigen::Vector3f& at, float heading) {
  Mesh hut;
  const float length = 4.2f, width = 2.8f, wall = 2.6f, ridge = 4.4f, eave = 0.5f;
  hut.add(make_box({-length, -width, -1}, {length, width, wall}, Material::plank, 1));
  // Roof: two slabs with an overhang; gables: two triangles.
  Mesh roof;
  for (const float side : {-1.0f, 1.0f}) {
    const auto base = static_cast<std::uint32_t>(roof.vertices.size());
    const float drop = (ridge - wall) / width * eave;
    for (const float lift : {0.0f, 0.14f}) {
      roof.vertices.insert(roof.vertices.end(), {{-length - eave, 0, ridge + lift},
                                                 {length + eave, 0, ridge + lift},
                                                 {length + eave, side * (width + eave), wall - drop + lift},
                                                 {-length - eave, side * (width + eave), wall - drop + lift}});
    }
    for (const std::uint32_t i :
         {0, 1, 2, 0, 2, 3, 4, 5, 6, 4, 6, 7, 3, 2, 6, 3, 6, 7, 0, 3, 7, 0, 7, 4, 1, 2, 6, 1, 6, 5})
      roof.triangles.push_back(base + i);
  }
  // Flat shading: each triangle gets vertices of its own.
  Mesh flat;
  for (std::uint32_t i : roof.triangles) {
    flat.triangles.push_back(static_cast<std::uint32_t>(flat.vertices.size()));
    flat.vertices.push_back(roof.vertices[i]);
  }
  flat.materials.assign(flat.vertices.size(), Material::sheet_roof);
  flat.objects.assign(flat.vertices.size(), 2);
  flat.compute_normals();
  hut.add(flat);
  Mesh gables;
  for (const float side : {-1.0f, 1.0f}) {
    const auto base = static_cast<std::uint32_t>(gables.vertices.size());
    gables.vertices.insert(gables.vertices.end(),
                           {{side * length, -width, wall}, {side * length, width, wall}, {side * length, 0, ridge}});
    for (const std::uint32_t i : {0u, 1u, 2u}) gables.triangles.push_back(base + i);
  }
  gables.materials.assign(gables.vertices.size(), Material::plank);
  gables.objects.assign(gables.vertices.size(), 1);
  gables.compute_normals();
  hut.add(gables);
  hut.add(make_box({2.0f, 0.8f, 2.5f}, {2.7f, 1.5f, 5.1f}, Material::stone, 3));  // chimney
  for (const float x : {-2.6f, 0.0f, 2.6f})
    hut.add(
        make_box({x - 0.5f, -width - 0.03f, 0.9f}, {x + 0.5f, -width + 0.05f, 1.9f}, Material::dark, 4));  // windows
  const Eigen::Matrix3f turn = Eigen::AngleAxisf(heading, Eigen::Vector3f::UnitZ()).toRotationMatrix();
  for (auto& v : hut.vertices) v = turn * v + at;
  for (auto& n : hut.normals) n = turn * n;
  return hut;
}

}  // namespace

SceneContent build_forefield(const SceneOptions& options) {
  SceneContent content;
  CounterRandom random(combine_keys(options.seed, 21));
  Forefield field{static_cast<std::uint32_t>(mix_bits(options.seed)),
                  static_cast<float>(options.relief),
                  random.uniformf() * 6,
                  random.uniformf() * 6,
                  {static_cast<float>(random.uniform(15, 30)), static_cast<float>(random.uniform(-15, 15))}};
  const int n = std::max(180, static_cast<int>(1040 * options.detail));
  const float cell = 2 * kHalf / static_cast<float>(n - 1);
  content.mesh = make_terrain(
      n, n,
      [&](int c, int r) {
        return Eigen::Vector2f(cell * static_cast<float>(c) - kHalf, cell * static_cast<float>(r) - kHalf);
      },
      [&](const Eigen::Vector2f& p) { return field.height(p); },
      [&](const Eigen::Vector2f& p) {
        if (field.behind_front(p) > -0.5f) return Material::glacier_ice;  // with ice that has fallen before it
        return field.stream_distance(p) < 5.5f + 2.5f * noise({0.2f * p.x(), 0.2f * p.y(), 0}, field.seed + 8)
                   ? Material::stream_bed
                   : Material::moraine;
      },
      false);
  content.mesh.add(make_hut({field.hut.x(), field.hut.y(), field.height(field.hut)}, random.uniformf() * 3));

  std::vector<Mesh> shapes;
  for (int i = 0; i < 16; ++i) shapes.push_back(make_stone(random.bits(), options.detail >= 0.7 ? 3 : 2, 0.85f, 0.07f));
  std::uint16_t object = 10;
  const int boulders = static_cast<int>(4200 * std::max(0.3, options.detail));
  for (int i = 0; i < boulders; ++i) {
    const Eigen::Vector2f p(static_cast<float>(random.uniform(-kHalf + 2, kHalf - 2)),
                            static_cast<float>(random.uniform(-kHalf + 2, kHalf - 2)));
    const float size = 0.22f * std::pow(12.0f, std::pow(random.uniformf(), 4.0f));
    if ((p - field.hut).norm() < 7 + size || field.behind_front(p) > -size) continue;
    const Eigen::Vector3f stretch(size, size * static_cast<float>(random.uniform(0.6, 1.0)),
                                  size * static_cast<float>(random.uniform(0.5, 0.9)));
    const Eigen::Matrix3f turn =
        (Eigen::AngleAxisf(random.uniformf() * 6.28f, Eigen::Vector3f::UnitZ()) *
         Eigen::AngleAxisf(0.4f * static_cast<float>(random.normal()), Eigen::Vector3f::UnitX()))
            .toRotationMatrix();
    content.mesh.add(place(shapes[random.below(static_cast<std::uint32_t>(shapes.size()))], turn * stretch.asDiagonal(),
                           {p.x(), p.y(), field.height(p) + 0.2f * size}, Material::stone, object++));
  }

  // Low willows, alone and in groups.
  CounterRandom growth(combine_keys(options.seed, 23));
  Eigen::Vector2f group(0, 0);
  for (int i = 0; i < options.bushes; ++i) {
    if (i % 6 == 0) group = {static_cast<float>(growth.uniform(-60, 60)), static_cast<float>(growth.uniform(-45, 45))};
    const Eigen::Vector2f p =
        group + Eigen::Vector2f(3.0f * static_cast<float>(growth.normal()), 3.0f * static_cast<float>(growth.normal()));
    const float size = static_cast<float>(growth.uniform(0.4, 1.5)),
                tall = size * static_cast<float>(growth.uniform(0.7, 1.3));
    const std::uint64_t shape = growth.bits();
    if ((p - field.hut).norm() < 7 + size || field.behind_front(p) > -size || field.stream_distance(p) < 6) continue;
    content.mesh.add(place(
        make_stone(shape, options.detail >= 0.7 ? 4 : 3, 0.95f, 0.35f), Eigen::Vector3f(size, size, tall).asDiagonal(),
        {p.x(), p.y(), field.height(p) + 0.35f * tall}, Material::leaves, static_cast<std::uint16_t>(kFirstBush + i)));
  }

  CounterRandom day(combine_keys(options.seed, 22));
  const float azimuth = static_cast<float>(day.uniform(-2.8, -0.4)),
              elevation = static_cast<float>(day.uniform(0.6, 0.9));
  content.light.sun_direction = {std::cos(azimuth) * std::cos(elevation), std::sin(azimuth) * std::cos(elevation),
                                 std::sin(elevation)};
  content.light.sun_colour = {1.4f, 1.3f, 1.15f};
  content.light.sky_colour = {0.40f, 0.47f, 0.60f};
  content.light.ground_colour = {0.18f, 0.17f, 0.16f};
  content.subject.centre = {0, 0, 4};
  content.subject.half_size = {60, 45, 16};
  content.sky_radius = 8;
  content.sky_region.centre = {0, 0, 0};
  content.sky_region.half_size = {kHalf, kHalf, 60};
  return content;
}

}  // namespace icefield::simulate
