// depth_study FOLDER: depth maps of a set that `icefield-simulate photos` made, with its true cameras, each held against the
// true depth at its pixels; and how long they take. Nothing of orientation is in it.
#include <fmt/format.h>

#include <CLI/CLI.hpp>
#include <chrono>

#include "simulate/render.h"
#include "tests/tools/dense.h"

using namespace icefield;
using Clock = std::chrono::steady_clock;

namespace {

struct Counts {
  std::size_t in_view = 0, filled = 0, within_1 = 0, within_2 = 0, beyond_10 = 0;
  void add(const Counts& o) { in_view += o.in_view, filled += o.filled, within_1 += o.within_1, within_2 += o.within_2, beyond_10 += o.beyond_10; }
};

// By pixel that looks at the subject: GSD is that of the full-size photo.
Counts count(const DepthMap& map, const simulate::TrueMaps& truth, const Bounds& subject, double full_focal, float max_cost) {
  Counts c;
  const Eigen::Matrix3d to_world = map.pose.rotation().transpose();
  const double f = map.camera.focal();
  for (int y = 0; y < map.camera.height; ++y)
    for (int x = 0; x < map.camera.width; ++x) {
      const double t = truth.depth.at(x, y), d = map.depth.at(x, y);
      const Eigen::Vector3d line((x + 0.5 - map.camera.principal_point().x()) / f, (y + 0.5 - map.camera.principal_point().y()) / f, 1);
      const bool subject_here = t > 0 && subject.contains(map.pose.centre + to_world * (t * line));
      c.in_view += subject_here;
      if (!(d > 0) || map.cost.at(x, y) > max_cost || !subject.contains(map.pose.centre + to_world * (d * line))) continue;
      ++c.filled;
      const double off = t > 0 ? std::abs(d - t) / (t / full_focal) : 1e9;
      c.within_1 += off < 1, c.within_2 += off < 2, c.beyond_10 += off > 10;
    }
  return c;
}

}  // namespace

int main(int argc, char** argv) {
  CLI::App app{"Depth maps of a made-up set against truth"};
  std::string folder;
  DenseOptions options;
  options.max_neighbours = 8;
  int threads = 2, points = 600;
  std::size_t photos_used = 0;
  bool each = false;
  app.add_option("folder", folder)->required();
  app.add_option("--photos", photos_used, "the first of them only; 0: all");
  app.add_option("--shrink", options.shrink)->capture_default_str();
  app.add_option("--neighbours", options.max_neighbours)->capture_default_str();
  app.add_option("--coarse", options.coarse_iterations)->capture_default_str();
  app.add_option("--fine", options.fine_iterations)->capture_default_str();
  app.add_option("--consistency", options.consistency_rounds)->capture_default_str();
  app.add_option("--radius", options.patch_radius)->capture_default_str();
  app.add_option("--step", options.patch_step)->capture_default_str();
  app.add_option("--points", points, "tie points that each photo starts")->capture_default_str();
  app.add_option("--threads", threads)->capture_default_str();
  app.add_flag("--each", each, "a line for each photo");
  CLI11_PARSE(app, argc, argv);
  try {
    const Executor executor(threads);
    const simulate::PlanOptions plan = simulate::read_plan(folder);
    const simulate::Scene scene(plan.scene);
    std::vector<simulate::PlannedPhoto> planned = simulate::plan_photos(plan);
    if (photos_used > 0) planned.resize(std::min(photos_used, planned.size()));
    const Block block = test::true_block(scene, planned, points);
    const Bounds box = scene.subject();
    test::Photos photos(std::filesystem::path(folder) / "photos");
    test::Maps maps;
    Monitor monitor;
    const auto start = Clock::now();
    const DenseResult result = densify(block, photos, maps, box, options, executor, monitor);
    const double seconds = std::chrono::duration<double>(Clock::now() - start).count();
    Counts all;
    for (std::size_t i = 0; i < planned.size(); ++i) {
      const auto map = maps.get(PhotoIndex(i), options.consistency_rounds);
      if (!map) continue;
      const Counts c = count(*map, simulate::true_maps(scene, map->camera, map->pose, executor), box, planned[i].shot.camera.focal(), options.max_cost);
      all.add(c);
      if (each) fmt::print("{} filled {:.1f} percent, within 2 GSD {:.1f}, over 10 {:.2f}\n", planned[i].name, 100.0 * c.filled / c.in_view, 100.0 * c.within_2 / c.filled, 100.0 * c.beyond_10 / c.filled);
    }
    const double filled = static_cast<double>(all.filled);
    fmt::print("{} maps in {:.1f} s: {:.2f} s each, fusion included; {} points\n", result.summary.maps, seconds, seconds / static_cast<double>(std::max<std::size_t>(1, result.summary.maps)), result.cloud.size());
    fmt::print("of the pixels at the subject {:.1f} percent filled; of these within 1 GSD {:.1f}, within 2 GSD {:.1f}, over 10 GSD {:.2f} percent\n", 100 * filled / static_cast<double>(all.in_view),
               100 * static_cast<double>(all.within_1) / filled, 100 * static_cast<double>(all.within_2) / filled, 100 * static_cast<double>(all.beyond_10) / filled);
  } catch (const Error& error) {
    fmt::print(stderr, "depth_study: {}\n", error.what());
    return 3;
  }
}
