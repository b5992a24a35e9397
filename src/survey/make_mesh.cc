#include "icefield/survey/make_mesh.h"

#include <algorithm>

namespace icefield {

using Eigen::Vector3d;

Mesh make_mesh(const PointCloud& cloud, const MeshSettings& settings, const PosedSource* photos, MeshReport& report,
               const Executor& executor, Monitor& monitor) {
  FittedSurface fitted = fit_surface(cloud, settings.fit, std::nullopt, executor, monitor);
  report.fitted = std::move(fitted.summary);
  Mesh mesh = std::move(fitted.mesh);
  if (!mesh.empty()) {
    constexpr std::size_t kLeast = 1000;
    const std::size_t wanted =
        settings.faces > 0 ? static_cast<std::size_t>(settings.faces) : std::max(kLeast, cloud.size() / 2);
    SimplifyOptions lighter;
    if (photos && settings.sharpen.rounds > 0) {
      // Two faces to a vertex, a vertex to two points: what photos at the cloud's own spacing can tell apart.
      lighter.faces = std::max(wanted, cloud.size());
      simplify(mesh, lighter, monitor);
      report.sharpened = sharpen_in_frame(mesh, *photos, settings.sharpen, executor, monitor);
    }
    const Mesh before = mesh;
    lighter.faces = wanted;
    report.lighter = simplify(mesh, lighter, monitor);
    constexpr std::size_t kSamples = 20000;
    if (report.lighter.faces_after < report.lighter.faces_before)
      report.moved = distance_to(mesh, before, kSamples, executor);
  }
  report.check = check_mesh(mesh, false, executor);
  return mesh;
}

SharpenSummary sharpen_in_frame(Mesh& mesh, const PosedSource& photos, const SharpenOptions& options,
                                const Executor& executor, Monitor& monitor) {
  const Vector3d origin = mesh.origin;
  const bool curved = photos.frame.curved();
  mesh = mesh_in_frame(std::move(mesh), photos.frame);
  SharpenSummary done = sharpen(mesh, photos.block, photos.photos, options, executor, monitor);
  if (!curved) {
    mesh.origin = origin;
    return done;
  }
  std::vector<Vector3d> places(mesh.positions.size());
  for (std::size_t v = 0; v < places.size(); ++v) places[v] = mesh.position(v);
  photos.frame.to_world(places);
  mesh.origin = origin;
  for (std::size_t v = 0; v < places.size(); ++v) mesh.positions[v] = (places[v] - origin).cast<float>();
  set_normals(mesh);
  return done;
}

Mesh mesh_in_frame(Mesh mesh, const WorldFrame& frame) {
  if (!frame.curved()) {
    mesh.origin -= frame.origin();
    return mesh;
  }
  for (std::size_t v = 0; v < mesh.positions.size(); ++v)
    mesh.positions[v] = frame.to_local(mesh.position(v)).cast<float>();
  mesh.origin.setZero();
  if (!mesh.normals.empty()) set_normals(mesh);
  return mesh;
}

}  // namespace icefield
