#include "icefield/survey/make_mesh.h"

#include <algorithm>

namespace icefield {

Mesh make_mesh(const PointCloud& cloud, const MeshSettings& settings, MeshReport& report, const Executor& executor,
               Monitor& monitor) {
  FittedSurface fitted = fit_surface(cloud, settings.fit, std::nullopt, executor, monitor);
  report.fitted = std::move(fitted.summary);
  Mesh mesh = fitted.mesh;
  if (!mesh.empty()) {
    constexpr std::size_t kLeast = 1000;
    SimplifyOptions lighter;
    lighter.faces = settings.faces > 0 ? static_cast<std::size_t>(settings.faces) : std::max(kLeast, cloud.size() / 2);
    report.lighter = simplify(mesh, lighter, monitor);
    constexpr std::size_t kSamples = 20000;
    if (report.lighter.faces_after < report.lighter.faces_before)
      report.moved = distance_to(mesh, fitted.mesh, kSamples, executor);
  }
  report.check = check_mesh(mesh, false, executor);
  return mesh;
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
