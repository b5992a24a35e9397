#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <map>

#include "icefield/base/parallel.h"
#include "icefield/base/random.h"
#include "simulate/noise.h"
#include "simulate/scene.h"

namespace icefield::simulate {

void Mesh::add(const Mesh& other) {
  const auto base = static_cast<std::uint32_t>(vertices.size());
  vertices.insert(vertices.end(), other.vertices.begin(), other.vertices.end());
  normals.insert(normals.end(), other.normals.begin(), other.normals.end());
  materials.insert(materials.end(), other.materials.begin(), other.materials.end());
  objects.insert(objects.end(), other.objects.begin(), other.objects.end());
  for (std::uint32_t i : other.triangles) triangles.push_back(base + i);
}

void Mesh::compute_normals() {
  normals.assign(vertices.size(), Eigen::Vector3f::Zero());
  for (std::size_t t = 0; t < triangles.size(); t += 3) {
    const auto &a = vertices[triangles[t]], &b = vertices[triangles[t + 1]], &c = vertices[triangles[t + 2]];
    const Eigen::Vector3f n = (b - a).cross(c - a);  // weighted by area
    for (int k = 0; k < 3; ++k) normals[triangles[t + k]] += n;
  }
  for (auto& n : normals) n.normalize();
}

// A broken stone: a sphere cut by planes at random distances, with rounded edges and a rough skin.
Mesh make_stone(std::uint64_t key, int subdivisions, float flatness, float roughness) {
  Mesh mesh;
  // Icosahedron.
  const float t = 1.6180340f;
  mesh.vertices = {{-1, t, 0},  {1, t, 0},  {-1, -t, 0}, {1, -t, 0}, {0, -1, t},  {0, 1, t},
                   {0, -1, -t}, {0, 1, -t}, {t, 0, -1},  {t, 0, 1},  {-t, 0, -1}, {-t, 0, 1}};
  for (auto& v : mesh.vertices) v.normalize();
  mesh.triangles = {0, 11, 5, 0, 5, 1, 0, 1, 7, 0, 7, 10, 0, 10, 11, 1, 5, 9, 5, 11, 4,  11, 10, 2,  10, 7, 6, 7, 1, 8,
                    3, 9,  4, 3, 4, 2, 3, 2, 6, 3, 6, 8,  3, 8,  9,  4, 9, 5, 2, 4,  11, 6,  2,  10, 8,  6, 7, 9, 8, 1};
  for (int level = 0; level < subdivisions; ++level) {
    std::map<std::pair<std::uint32_t, std::uint32_t>, std::uint32_t> middles;
    const auto middle = [&](std::uint32_t a, std::uint32_t b) {
      const auto [it, fresh] = middles.try_emplace(std::minmax(a, b), static_cast<std::uint32_t>(mesh.vertices.size()));
      if (fresh) mesh.vertices.push_back((mesh.vertices[a] + mesh.vertices[b]).normalized());
      return it->second;
    };
    std::vector<std::uint32_t> finer;
    for (std::size_t i = 0; i < mesh.triangles.size(); i += 3) {
      const std::uint32_t a = mesh.triangles[i], b = mesh.triangles[i + 1], c = mesh.triangles[i + 2];
      const std::uint32_t ab = middle(a, b), bc = middle(b, c), ca = middle(c, a);
      finer.insert(finer.end(), {a, ab, ca, b, bc, ab, c, ca, bc, ab, bc, ca});
    }
    mesh.triangles = std::move(finer);
  }
  CounterRandom random(key);
  struct Cut {
    Eigen::Vector3f normal;
    float distance;
  };
  std::vector<Cut> cuts;
  for (int i = 0; i < 14; ++i) {
    const Eigen::Vector3f n(static_cast<float>(random.normal()), static_cast<float>(random.normal()),
                            static_cast<float>(random.normal()));
    cuts.push_back({n.normalized(), static_cast<float>(random.uniform(0.62, 0.95))});
  }
  cuts.push_back({{0, 0, 1}, flatness * static_cast<float>(random.uniform(0.85, 1.1))});
  cuts.push_back({{0, 0, -1}, flatness * static_cast<float>(random.uniform(0.85, 1.1))});
  const auto seed = static_cast<std::uint32_t>(random.bits());
  for (auto& v : mesh.vertices) {
    // Soft minimum over the distances at which the cuts meet this direction.
    float sum = std::exp(-14.0f);
    for (const Cut& cut : cuts) {
      const float cosine = v.dot(cut.normal);
      if (cosine > 0.05f) sum += std::exp(-14.0f * cut.distance / cosine);
    }
    float radius = -std::log(sum) / 14.0f;
    radius *= 1 + roughness * fractal(v, 2.2f, 6, 0.55f, 0, seed);
    v *= radius;
  }
  mesh.materials.assign(mesh.vertices.size(), Material::stone);
  mesh.objects.assign(mesh.vertices.size(), 0);
  return mesh;
}

Mesh make_box(const Eigen::Vector3f& low, const Eigen::Vector3f& high, Material material, std::uint16_t object) {
  Mesh mesh;
  for (int axis = 0; axis < 3; ++axis)
    for (int side = 0; side < 2; ++side) {
      const auto base = static_cast<std::uint32_t>(mesh.vertices.size());
      const int u = (axis + 1) % 3, v = (axis + 2) % 3;
      for (int k = 0; k < 4; ++k) {
        Eigen::Vector3f p = low;
        p[axis] = side ? high[axis] : low[axis];
        p[u] = (k == 1 || k == 2) ? high[u] : low[u];
        p[v] = k >= 2 ? high[v] : low[v];
        mesh.vertices.push_back(p);
      }
      const std::uint32_t order[2][6] = {{0, 2, 1, 0, 3, 2}, {0, 1, 2, 0, 2, 3}};
      for (std::uint32_t i : order[side]) mesh.triangles.push_back(base + i);
    }
  mesh.materials.assign(mesh.vertices.size(), material);
  mesh.objects.assign(mesh.vertices.size(), object);
  mesh.compute_normals();
  return mesh;
}

Mesh place(const Mesh& mesh, const Eigen::Matrix3f& linear, const Eigen::Vector3f& offset, Material material,
           std::uint16_t object) {
  Mesh placed = mesh;
  for (auto& v : placed.vertices) v = linear * v + offset;
  placed.materials.assign(placed.vertices.size(), material);
  placed.objects.assign(placed.vertices.size(), object);
  placed.compute_normals();
  return placed;
}

Mesh make_terrain(int columns, int rows, const std::function<Eigen::Vector2f(int, int)>& where,
                  const std::function<float(const Eigen::Vector2f&)>& height,
                  const std::function<Material(const Eigen::Vector2f&)>& material, bool closed_columns) {
  Mesh mesh;
  mesh.vertices.resize(static_cast<std::size_t>(columns) * rows);
  mesh.materials.resize(mesh.vertices.size());
  mesh.objects.assign(mesh.vertices.size(), 0);
  Executor().blocks(mesh.vertices.size(), 4096, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i) {
      const Eigen::Vector2f p = where(static_cast<int>(i % columns), static_cast<int>(i / columns));
      mesh.vertices[i] = {p.x(), p.y(), height(p)};
      mesh.materials[i] = material(p);
    }
  });
  const int last = closed_columns ? columns : columns - 1;
  for (int r = 0; r + 1 < rows; ++r)
    for (int c = 0; c < last; ++c) {
      const auto at = [&](int cc, int rr) { return static_cast<std::uint32_t>(rr * columns + cc % columns); };
      const std::uint32_t a = at(c, r), b = at(c + 1, r), d = at(c, r + 1), e = at(c + 1, r + 1);
      mesh.triangles.insert(mesh.triangles.end(), {a, b, e, a, e, d});
    }
  mesh.compute_normals();
  // Faces may be wound either way by `where`; the ground looks up.
  float up = 0;
  for (const auto& n : mesh.normals) up += n.z();
  if (up < 0) {
    for (std::size_t t = 0; t < mesh.triangles.size(); t += 3) std::swap(mesh.triangles[t + 1], mesh.triangles[t + 2]);
    for (auto& n : mesh.normals) n = -n;
  }
  return mesh;
}

}  // namespace icefield::simulate
