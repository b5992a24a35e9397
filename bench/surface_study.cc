// surface_study CLOUD TRUTH: a surface fitted to a cloud, held against the true surface in the same frame (PLY with
// gsd, as `icefield-simulate surface` writes it), and how long it takes.
#include <fmt/format.h>

#include <chrono>

#include "app/arguments.h"
#include "icefield/base/statistics.h"
#include "icefield/io/cloud_reader.h"
#include "icefield/judge/compare.h"
#include "icefield/surface/check_mesh.h"
#include "icefield/io/text_file.h"
#include "icefield/surface/fit_open.h"
#include "icefield/surface/fit_surface.h"
#include "icefield/surface/sample_mesh.h"
#include "icefield/surface/simplify.h"

using namespace icefield;
using Clock = std::chrono::steady_clock;

namespace {

struct Request {
  std::string cloud, truth, maps;
  FitSurfaceOptions options;
  FitOpenOptions open;
  int threads = 2;
  std::size_t faces = 0;
  bool intersections = false;
};

double since(Clock::time_point start) {
  return std::chrono::duration<double>(Clock::now() - start).count();
}

void print(const char* what, const CloudComparison& c) {
  fmt::print("{:<12} {:>9} points, median {:.3f} GSD, over 5 GSD {:.2f} %", what, c.result_points,
             c.median_distance_gsd, 100 - c.scores.back().accuracy_percent);
  for (const CloudScore& s : c.scores)
    fmt::print("; at {:g}: {:.1f} {:.1f} {:.3f}", s.at_gsd, s.accuracy_percent, s.completeness_percent, s.f1);
  fmt::print("\n");
}

// Maps of the last round: those with the highest number behind the photo's.
Mesh open_surface(const Request& r, const PointCloud& cloud, const Executor& executor) {
  std::vector<std::filesystem::path> files;
  for (const auto& entry : std::filesystem::directory_iterator(r.maps))
    if (entry.path().stem().string().ends_with("-1")) files.push_back(entry.path());
  std::sort(files.begin(), files.end());
  const auto map = [&](std::size_t i) -> std::optional<DepthMap> {
    const std::string bytes = read_file(files[i], std::size_t{1} << 30);
    return DepthMap::from_bytes(std::as_bytes(std::span(bytes)));
  };
  OpenSurface open =
      fit_open_surface(files.size(), map, cloud, Eigen::Vector3d::Zero(), r.open, std::nullopt, executor);
  const FitOpenSummary& s = open.summary;
  fmt::print("open: {}; {} maps, {} pixels, step {:.4g}, spacing {:.4g}, {} blocks, {:.0f} MB, {} pieces left out\n",
             s.outcome, s.maps, s.pixels, s.step, s.spacing, s.blocks, s.memory_bytes / 1e6, s.pieces_left_out);
  return std::move(open.mesh);
}

}  // namespace

int main(int argc, char** argv) {
  Request r;
  Arguments app("A surface fitted to a cloud against the true surface");
  app.option("cloud", r.cloud).required();
  app.option("truth", r.truth, "none: only times").required();
  app.option("--cell", r.options.cell_spacings).with_default();
  app.option("--hold", r.options.hold).with_default();
  app.option("--support", r.options.min_support).with_default();
  app.option("--patch", r.options.small_patch_spacings2).with_default();
  app.option("--faces", r.faces, "simplified to so many as well; 0: not").with_default();
  app.option("--threads", r.threads).with_default();
  app.flag("--intersections", r.intersections);
  app.option("--maps", r.maps, "depth maps that depth_study --maps kept: the open way");
  app.option("--step", r.open.step_spacings).with_default();
  app.option("--reach", r.open.reach).with_default();
  app.option("--smooth", r.open.smoothness).with_default();
  app.option("--rounds", r.open.rounds).with_default();
  app.option("--votes", r.open.min_votes).with_default();
  app.option("--views", r.open.min_support).with_default();
  if (!app.parse(argc, argv)) return app.status();
  try {
    const Executor executor(r.threads);
    const PointCloud cloud = read_cloud(r.cloud);
    auto start = Clock::now();
    FittedSurface fitted;
    if (r.maps.empty())
      fitted = fit_surface(cloud, r.options, std::nullopt, executor);
    else
      fitted.mesh = open_surface(r, cloud, executor);
    const double seconds = since(start);
    const FitSurfaceSummary& s = fitted.summary;
    fmt::print(
        "{}: {} points, spacing {:.4g}, {} cells in {} levels, {} faces before trimming, {:.1f} % of the area "
        "trimmed, {:.1f} s\n",
        s.outcome, s.points, s.spacing, s.cells, s.levels, s.faces_closed, s.trimmed_percent, seconds);
    const MeshCheck check = check_mesh(fitted.mesh, r.intersections, executor);
    fmt::print("{}; {} pieces, {} degenerate, {} doubled places, {} crossings\n", check.in_a_line(), check.pieces,
               check.degenerate_faces, check.doubled_vertices, check.self_intersections);
    if (r.truth == "none") return 0;
    const PointCloud truth = read_cloud(r.truth);
    std::vector<double> gsd(truth.gsd.begin(), truth.gsd.end());
    const double spacing = median(gsd);
    Bounds box;
    Eigen::AlignedBox3d around;
    for (std::size_t i = 0; i < truth.size(); ++i) around.extend(truth.position(i));
    box.centre = around.center(), box.half_size = 0.5 * around.sizes();
    print("cloud", compare_clouds(cloud, truth, box, executor));
    print("surface", compare_clouds(sample_mesh(fitted.mesh, spacing, executor), truth, box, executor));
    if (r.faces > 0) {
      Mesh light = fitted.mesh;
      SimplifyOptions lighter;
      lighter.faces = r.faces;
      start = Clock::now();
      const SimplifySummary done = simplify(light, lighter);
      const double took = since(start);
      const SurfaceDistance d = distance_to(light, fitted.mesh, 100000, executor);
      fmt::print("{}, {:.1f} s; distance {:.3f} mean, {:.3f} at 95 %, {:.3f} largest, GSD\n", done.outcome, took,
                 d.mean / spacing, d.q95 / spacing, d.largest / spacing);
      const MeshCheck now = check_mesh(light, r.intersections, executor);
      fmt::print("{}; {} crossings\n", now.in_a_line(), now.self_intersections);
      print("lighter", compare_clouds(sample_mesh(light, spacing, executor), truth, box, executor));
    }
  } catch (const Error& e) {
    fmt::print(stderr, "{}\n", e.what());
    return 1;
  }
  return 0;
}
