#include "icefield/survey/make_mesh.h"

#include <algorithm>
#include <cmath>

#include "icefield/io/cloud_reader.h"
#include "icefield/io/tiled_cloud.h"

namespace icefield {

using Eigen::Vector3d;

namespace {

// Back from a frame to the coordinates of files.
void place_in_world(Mesh& mesh, const WorldFrame& frame, const Vector3d& origin) {
  if (!frame.curved()) {
    mesh.origin = origin;
    return;
  }
  std::vector<Vector3d> places(mesh.positions.size());
  for (std::size_t v = 0; v < places.size(); ++v) places[v] = mesh.position(v);
  frame.to_world(places);
  mesh.origin = origin;
  for (std::size_t v = 0; v < places.size(); ++v) mesh.positions[v] = (places[v] - origin).cast<float>();
  set_normals(mesh);
}

// The open way of a cloud in the coordinates of files.
Mesh open_in_frame(const PointCloud& cloud, const FitOpenOptions& options, const PosedSource* photos,
                   FitSurfaceSummary& summary, const Executor& executor, Monitor& monitor) {
  if (!photos || !photos->maps)
    throw Error(ErrorKind::usage, "mesh.way=open",
                "needs the depth maps of a survey, which a cloud alone does not have",
                "take mesh.way=closed, or make the mesh of the survey that the cloud is of");
  PointCloud local = cloud;
  if (photos->frame.curved()) {
    local.origin.setZero();
    for (std::size_t i = 0; i < cloud.size(); ++i)
      local.positions[i] = photos->frame.to_local(cloud.position(i)).cast<float>();
  } else {
    local.origin -= photos->frame.origin();
  }
  OpenSurface open = fit_open_surface(photos->block.photos.size(), photos->maps, local, Vector3d::Zero(), options,
                                      photos->bounds, executor, monitor);
  summary.outcome = open.summary.outcome, summary.points = cloud.size();
  summary.cells = open.summary.blocks * 512, summary.levels = 1, summary.spacing = open.summary.spacing;
  summary.pieces_left_out = open.summary.pieces_left_out;
  if (!open.mesh.empty()) place_in_world(open.mesh, photos->frame, cloud.origin);
  return std::move(open.mesh);
}

}  // namespace

PointCloud cloud_for_mesh(const std::filesystem::path& file, const MeshSettings& settings, MeshReport& report) {
  const TiledCloud tiled(file);
  report.cloud_points = tiled.points();
  const auto most = static_cast<std::uint64_t>(settings.most_points);
  if (tiled.points() <= most) return read_cloud(file);
  PointCloud all;
  double spacing = 0;
  for (std::size_t t = 0; t < tiled.tiles().size(); ++t) {
    const PointCloud tile = tiled.read(t);
    if (tile.size() == 0) continue;
    // What it takes is found on the way, from less.
    constexpr double kStart = 0.8, kStep = 1.1;
    if (!(spacing > 0))
      spacing =
          kStart * typical_spacing(tile) * std::sqrt(static_cast<double>(tiled.points()) / static_cast<double>(most));
    if (!(spacing > 0)) continue;  // points on each other say nothing
    all.append(thin(tile, spacing));
    while (all.size() > most) all = thin(all, spacing *= kStep);
  }
  return all;
}

Mesh make_mesh(const PointCloud& cloud, const MeshSettings& settings, const PosedSource* photos, MeshReport& report,
               const Executor& executor, Monitor& monitor) {
  Mesh mesh;
  if (settings.way == MeshWay::open) {
    mesh = open_in_frame(cloud, settings.open, photos, report.fitted, executor, monitor);
  } else {
    FittedSurface fitted = fit_surface(cloud, settings.fit, std::nullopt, executor, monitor);
    report.fitted = std::move(fitted.summary);
    mesh = std::move(fitted.mesh);
  }
  if (!mesh.empty()) {
    constexpr std::size_t kLeast = 1000;
    const std::size_t wanted =
        settings.faces > 0 ? static_cast<std::size_t>(settings.faces) : std::max(kLeast, cloud.size() / 2);
    SimplifyOptions lighter;
    if (photos && settings.sharpen.rounds > 0) {
      // Two faces to a vertex, a vertex to two points: what photos at the cloud's own spacing can tell apart.
      lighter.faces = std::max(wanted, cloud.size());
      simplify(mesh, lighter, monitor, executor);
      report.sharpened = sharpen_in_frame(mesh, *photos, settings.sharpen, executor, monitor);
    }
    constexpr std::size_t kSamples = 20000;
    const std::vector<Vector3d> before = sample_places(mesh, kSamples);
    lighter.faces = wanted;
    report.lighter = simplify(mesh, lighter, monitor, executor);
    if (report.lighter.faces_after < report.lighter.faces_before) report.moved = distance_to(before, mesh, executor);
  }
  report.check = check_mesh(mesh, false, executor);
  return mesh;
}

SharpenSummary sharpen_in_frame(Mesh& mesh, const PosedSource& photos, const SharpenOptions& options,
                                const Executor& executor, Monitor& monitor) {
  const Vector3d origin = mesh.origin;
  mesh = mesh_in_frame(std::move(mesh), photos.frame);
  SharpenSummary done = sharpen(mesh, photos.block, photos.photos, options, executor, monitor);
  place_in_world(mesh, photos.frame, origin);
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
