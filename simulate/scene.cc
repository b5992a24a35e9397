#include "simulate/scene.h"

#include <embree3/rtcore.h>

#include <cmath>
#include <limits>

#include "icefield/base/error.h"
#include "icefield/base/parallel.h"
#include "icefield/base/random.h"
#include "icefield/control/targets.h"

#ifndef ICEFIELD_TRACER_OPTIONS
#define ICEFIELD_TRACER_OPTIONS "isa=avx2"
#endif

namespace icefield::simulate {

struct Scene::Tracer {
  void commit(const Mesh& mesh);
  // One instruction set whatever the machine, so that the same seed gives the same hits.
  RTCDevice device = rtcNewDevice(ICEFIELD_TRACER_OPTIONS);
  RTCScene scene = rtcNewScene(device);
  ~Tracer() {
    rtcReleaseScene(scene);
    rtcReleaseDevice(device);
  }
};

// In place of what was there before.
void Scene::Tracer::commit(const Mesh& mesh) {
  rtcReleaseScene(scene);
  scene = rtcNewScene(device);
  RTCGeometry geometry = rtcNewGeometry(device, RTC_GEOMETRY_TYPE_TRIANGLE);
  auto* vertices = static_cast<float*>(
      rtcSetNewGeometryBuffer(geometry, RTC_BUFFER_TYPE_VERTEX, 0, RTC_FORMAT_FLOAT3, 12, mesh.vertices.size()));
  for (std::size_t i = 0; i < mesh.vertices.size(); ++i)
    for (int c = 0; c < 3; ++c) vertices[3 * i + c] = mesh.vertices[i][c];
  auto* indices = static_cast<std::uint32_t*>(
      rtcSetNewGeometryBuffer(geometry, RTC_BUFFER_TYPE_INDEX, 0, RTC_FORMAT_UINT3, 12, mesh.triangles.size() / 3));
  std::copy(mesh.triangles.begin(), mesh.triangles.end(), indices);
  rtcCommitGeometry(geometry);
  rtcAttachGeometry(scene, geometry);
  rtcReleaseGeometry(geometry);
  rtcSetSceneBuildQuality(scene, RTC_BUILD_QUALITY_HIGH);
  rtcCommitScene(scene);
}

Scene::Scene(const SceneOptions& options) : options_(options), tracer_(std::make_unique<Tracer>()) {
  SceneContent content;
  if (options.kind == "cairn")
    content = build_cairn(options);
  else if (options.kind == "forefield")
    content = build_forefield(options);
  else if (options.kind == "station")
    content = build_station(options);
  else if (options.kind == "lantern")
    content = build_lantern(options);
  else
    throw Error(ErrorKind::usage, "scene '" + options.kind + "'", "is unknown",
                "choose cairn, forefield, station or lantern");
  mesh_ = std::move(content.mesh);
  light_ = content.light;
  if (options.clouds > 0) {
    // The sky under clouds is brighter and grey.
    const auto cover = static_cast<float>(options.clouds);
    light_.sun_colour *= 1 - cover;
    light_.sky_colour += cover * (Eigen::Vector3f::Constant(1.8f * light_.sky_colour.mean()) - light_.sky_colour);
  }
  subject_ = content.subject;
  subject_place_ = content.subject_place;

  tracer_->commit(mesh_);
  mesh_.open_sky.assign(mesh_.vertices.size(), 1.0f);
  if (options.targets > 0) {
    boards_ = place_boards(options, subject_, [&](double x, double y) { return height_at(x, y); });
    add_boards(boards_, mesh_);
    tracer_->commit(mesh_);
  }

  // How much sky each vertex sees, by a few cosine-weighted rays.
  mesh_.open_sky.assign(mesh_.vertices.size(), 1.0f);
  Executor().blocks(mesh_.vertices.size(), 2048, [&](std::size_t, std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i) {
      const Eigen::Vector3f& p = mesh_.vertices[i];
      if (!content.sky_region.contains(p.cast<double>())) continue;
      const Eigen::Vector3f& n = mesh_.normals[i];
      CounterRandom random(combine_keys(options.seed, i));
      int open = 0;
      constexpr int kRays = 12;
      for (int k = 0; k < kRays; ++k) {
        Eigen::Vector3f d;
        do d = Eigen::Vector3f(random.uniformf(), random.uniformf(), random.uniformf()) * 2 - Eigen::Vector3f::Ones();
        while (d.squaredNorm() > 1 || d.squaredNorm() < 1e-4f);
        d = n + 0.98f * d.normalized();
        open += !blocked(p + n * (0.004f * content.sky_radius), d, content.sky_radius);
      }
      mesh_.open_sky[i] = static_cast<float>(open) / kRays;
    }
  });
}

Scene::~Scene() = default;

std::optional<Hit> Scene::trace(const Eigen::Vector3f& origin, const Eigen::Vector3f& direction) const {
  RTCIntersectContext context;
  rtcInitIntersectContext(&context);
  RTCRayHit ray{};
  ray.ray.org_x = origin.x(), ray.ray.org_y = origin.y(), ray.ray.org_z = origin.z();
  ray.ray.dir_x = direction.x(), ray.ray.dir_y = direction.y(), ray.ray.dir_z = direction.z();
  ray.ray.tfar = std::numeric_limits<float>::infinity();
  ray.ray.mask = ~0u;
  ray.hit.geomID = RTC_INVALID_GEOMETRY_ID;
  rtcIntersect1(tracer_->scene, &context, &ray);
  if (ray.hit.geomID == RTC_INVALID_GEOMETRY_ID) return std::nullopt;
  const std::uint32_t* t = &mesh_.triangles[3 * static_cast<std::size_t>(ray.hit.primID)];
  const float u = ray.hit.u, v = ray.hit.v, w = 1 - u - v;
  Hit hit;
  hit.distance = ray.ray.tfar;
  hit.position = origin + ray.ray.tfar * direction;
  hit.geometric_normal = Eigen::Vector3f(ray.hit.Ng_x, ray.hit.Ng_y, ray.hit.Ng_z).normalized();
  hit.shading_normal = (w * mesh_.normals[t[0]] + u * mesh_.normals[t[1]] + v * mesh_.normals[t[2]]).normalized();
  if (hit.geometric_normal.dot(direction) > 0) hit.geometric_normal = -hit.geometric_normal;
  if (hit.shading_normal.dot(hit.geometric_normal) < 0) hit.shading_normal = -hit.shading_normal;
  hit.material = mesh_.materials[t[0]];
  hit.object = mesh_.objects[t[0]];
  hit.open_sky = w * mesh_.open_sky[t[0]] + u * mesh_.open_sky[t[1]] + v * mesh_.open_sky[t[2]];
  if (hit.material == Material::board) {
    const Board& board = boards_[hit.object - kFirstBoard];
    const Eigen::Vector3f from = hit.position - board.middle;
    hit.on_board = Eigen::Vector2f(from.dot(board.along), from.dot(board.across)) / board.radius;
    hit.teeth = target_teeth(board.number);
    hit.board_radius = board.radius;
  }
  return hit;
}

bool Scene::blocked(const Eigen::Vector3f& origin, const Eigen::Vector3f& direction, float distance) const {
  RTCIntersectContext context;
  rtcInitIntersectContext(&context);
  RTCRay ray{};
  ray.org_x = origin.x(), ray.org_y = origin.y(), ray.org_z = origin.z();
  ray.dir_x = direction.x(), ray.dir_y = direction.y(), ray.dir_z = direction.z();
  ray.tfar = distance;
  ray.mask = ~0u;
  rtcOccluded1(tracer_->scene, &context, &ray);
  return ray.tfar < 0;
}

Surface Scene::surface_of(const Hit& hit, float footprint, float texture_scale, std::uint32_t seed) const {
  if (hit.object < kFirstOfSubject || hit.object >= kFirstBoard)
    return shade_material(hit, footprint, texture_scale, seed);
  Hit own = hit;
  const Eigen::Matrix3f back = subject_place_.linear().transpose();
  own.position = back * (hit.position - subject_place_.translation());
  own.geometric_normal = back * hit.geometric_normal;
  own.shading_normal = back * hit.shading_normal;
  Surface surface = shade_material(own, footprint, texture_scale, seed);
  surface.normal = subject_place_.linear() * surface.normal;
  return surface;
}

float Scene::height_at(double x, double y) const {
  const auto hit = trace({static_cast<float>(x), static_cast<float>(y), 5000.0f}, {0, 0, -1});
  return hit ? hit->position.z() : std::numeric_limits<float>::quiet_NaN();
}

}  // namespace icefield::simulate
