// terrain_study: the ground, found in clouds of forefields with a hut, boulders and bushes, as a flight sees them from
// above: points of the uppermost surface with noise, and what each is of. No photos are made.
#include <fmt/format.h>

#include <chrono>
#include <map>

#include "app/arguments.h"
#include "bench/true_heights.h"
#include "icefield/base/random.h"
#include "icefield/io/cloud_reader.h"
#include "icefield/base/statistics.h"
#include "icefield/terrain/ground.h"
#include "icefield/terrain/height_model.h"
#include "simulate/scene.h"

using namespace icefield;

namespace {

struct Truth {
  PointCloud cloud;
  // By point: 0 ground, 1 hut, 2 bush, 3 boulder over half a metre, 4 smaller stones, which count for neither.
  std::vector<std::uint8_t> kind;
  std::vector<float> ground;  // height of the ground there
};

// A photo's dense cloud sees what a ray from above sees, a little of the sides, and no place twice.
Truth seen_from_above(const simulate::SceneOptions& options, double spacing, double noise, const Executor& executor) {
  const simulate::Scene scene(options);
  const Bounds& area = scene.subject();
  const int columns = static_cast<int>(2 * area.half_size.x() / spacing),
            rows = static_cast<int>(2 * area.half_size.y() / spacing);
  std::vector<Truth> parts(static_cast<std::size_t>(rows));
  executor.blocks(parts.size(), 1, [&](std::size_t row, std::size_t, std::size_t) {
    Truth& part = parts[row];
    CounterRandom random(combine_keys(options.seed, 900 + row));
    for (int x = 0; x < columns; ++x) {
      const Eigen::Vector3d at(
          area.centre.x() - area.half_size.x() + (x + random.uniform()) * spacing,
          area.centre.y() - area.half_size.y() + (static_cast<double>(row) + random.uniform()) * spacing, 0);
      // At a slant of up to 20 degrees.
      const Eigen::Vector3f way =
          Eigen::Vector3f(0.36f * (random.uniformf() - 0.5f), 0.36f * (random.uniformf() - 0.5f), -1).normalized();
      const Eigen::Vector3f from =
          Eigen::Vector3f(static_cast<float>(at.x()), static_cast<float>(at.y()), 4) - way * (196 / -way.z());
      const auto hit = scene.trace(from, way);
      if (!hit) continue;
      std::uint8_t kind = 0;
      if (hit->object >= simulate::kHut && hit->object <= simulate::kLastOfHut)
        kind = 1;
      else if (hit->object >= simulate::kFirstBush && hit->object < simulate::kFirstOfSubject)
        kind = 2;
      else if (hit->object != 0)
        kind = 4;
      const Eigen::Vector3f p = hit->position + static_cast<float>(noise * random.normal()) * hit->geometric_normal;
      part.cloud.positions.push_back(p);
      part.cloud.normals.push_back(hit->geometric_normal);
      const Eigen::Vector3f light =
          255 *
          simulate::shade_material(*hit, static_cast<float>(spacing), 1, 7).albedo.cwiseMax(0).cwiseMin(1).cwiseSqrt();
      part.cloud.colours.push_back({static_cast<std::uint8_t>(light.x()), static_cast<std::uint8_t>(light.y()),
                                    static_cast<std::uint8_t>(light.z())});
      part.kind.push_back(kind);
    }
  });
  Truth all;
  for (const Truth& part : parts) {
    all.cloud.append(part.cloud);
    all.kind.insert(all.kind.end(), part.kind.begin(), part.kind.end());
  }
  return all;
}

double percent(std::size_t a, std::size_t b) {
  return b > 0 ? 100.0 * static_cast<double>(a) / static_cast<double>(b) : 0.0;
}

// Which share of the points over each kind of thing has which class; a point is of what lies at its place.
void measure_classes(const PointCloud& cloud, const simulate::Scene& scene, const Executor& executor) {
  Eigen::AlignedBox3d box;
  for (std::size_t i = 0; i < cloud.size(); ++i) box.extend(cloud.position(i));
  const GridFrame frame = grid_over(box.min().head<2>(), box.max().head<2>(), 0.1);
  const TrueHeights truth = true_heights(scene, frame, executor);
  std::map<int, std::map<int, std::size_t>> count;
  for (std::size_t i = 0; i < cloud.size(); ++i) {
    const Eigen::Vector2d at = frame.at(cloud.position(i).head<2>());
    const int x = std::clamp(static_cast<int>(at.x()), 0, frame.columns - 1),
              y = std::clamp(static_cast<int>(at.y()), 0, frame.rows - 1);
    if (!std::isfinite(truth.ground.at(x, y))) continue;
    // Points beside a thing are not counted for it.
    bool mixed = false;
    for (int v = std::max(0, y - 1); v <= std::min(frame.rows - 1, y + 1); ++v)
      for (int u = std::max(0, x - 1); u <= std::min(frame.columns - 1, x + 1); ++u)
        mixed = mixed || truth.kind.at(u, v) != truth.kind.at(x, y);
    if (!mixed) ++count[truth.kind.at(x, y)][cloud.classes[i]];
  }
  for (const auto& [kind, classes] : count) {
    std::size_t all = 0;
    for (const auto& [c, n] : classes) all += n;
    fmt::print("  {}:", kind == 0 ? "ground" : kind == 1 ? "hut" : kind == 2 ? "bushes" : "stones");
    for (const auto& [c, n] : classes)
      fmt::print(" {} {:.1f} %", describe(static_cast<PointClass>(c)), percent(n, all));
    fmt::print(" of {}\n", all);
  }
}

// Both height models of a classed cloud against the scene.
void measure_models(const PointCloud& cloud, const GroundFinder& finder, const simulate::Scene& scene, double spacing,
                    double cell, const Executor& executor) {
  const double inset = 3;
  const Bounds& area = scene.subject();
  Eigen::AlignedBox3d box;
  for (std::size_t i = 0; i < cloud.size(); ++i) box.extend(cloud.position(i));
  const Eigen::Vector2d low = box.min().head<2>().cwiseMax((area.centre - area.half_size).head<2>()).array() + inset,
                        high = box.max().head<2>().cwiseMin((area.centre + area.half_size).head<2>()).array() - inset;
  const GridFrame frame = grid_over(low, high, cell);
  const Window all{0, 0, frame.columns, frame.rows};
  HeightOptions options;
  const auto start = std::chrono::steady_clock::now();
  const HeightModel surface = surface_heights(cloud, frame, all, spacing, options, executor);
  options.fill = 10;
  GroundBelow below;
  below.height = [&](const Eigen::Vector2d& p) { return finder.height_at(p); };
  below.distance = [&](const Eigen::Vector2d& p) { return finder.distance_at(p); };
  const HeightModel ground = ground_heights(cloud, below, frame, all, spacing, options, executor);
  const double seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  const TrueHeights truth = true_heights(scene, frame, executor);
  std::vector<double> off, said, filled_off, filled_said;
  std::size_t far = 0, measured = 0, none = 0, open = 0, under = 0, filled = 0;
  double open2 = 0, under2 = 0, hut_moved = 0, hut_rim = 0;
  std::vector<double> ground_ratio, under_ratio, hut, bush;
  std::size_t bush_taken = 0, open_lost = 0, open_seen = 0;
  for (int y = 1; y + 1 < frame.rows; ++y)
    for (int x = 1; x + 1 < frame.columns; ++x) {
      if (!std::isfinite(truth.surface.at(x, y)) || !std::isfinite(truth.ground.at(x, y))) continue;
      const double d = surface.heights.at(x, y) - truth.surface.at(x, y);
      if (!std::isfinite(d)) {
        ++none;
      } else if (surface.distance.at(x, y) > 0) {
        ++filled;
        filled_off.push_back(std::abs(d)), filled_said.push_back(std::abs(d) / surface.sigma.at(x, y) / 0.6745);
      } else {
        ++measured;
        off.push_back(d);
        said.push_back(std::abs(d) / surface.sigma.at(x, y) / 0.6745);
      }
      if (std::isfinite(d) && std::abs(d) > 5 * cell) ++far;
      // The roof's edge: cells that lie on its wrong side, against its length.
      const bool on = truth.kind.at(x, y) == 1;
      for (const auto& [u, v] : {std::pair(x + 1, y), {x, y + 1}}) hut_rim += on != (truth.kind.at(u, v) == 1);
      bool near_hut = on;
      for (int dy = -1; dy <= 1; ++dy)
        for (int dx = -1; dx <= 1; ++dx) near_hut |= truth.kind.at(x + dx, y + dy) == 1;
      const double rise = truth.surface.at(x, y) - truth.ground.at(x, y);
      if (on && rise > 1.5 && std::isfinite(d) && surface.heights.at(x, y) < truth.ground.at(x, y) + 0.5 * rise)
        ++hut_moved;
      if (!on && truth.kind.at(x, y) == 0 && std::isfinite(d) && d > 1) ++hut_moved;
      if (truth.kind.at(x, y) == 0 && surface.distance.at(x, y) == 0)
        ++open_seen, open_lost += !(ground.distance.at(x, y) == 0);
      const double g = ground.heights.at(x, y) - truth.ground.at(x, y);
      if (!std::isfinite(g)) continue;
      const double ratio = std::abs(g) / ground.sigma.at(x, y) / 0.6745;
      if (truth.kind.at(x, y) == 0) ++open, open2 += g * g, ground_ratio.push_back(ratio);
      if (truth.kind.at(x, y) == 1 || truth.kind.at(x, y) == 2) ++under, under2 += g * g, under_ratio.push_back(ratio);
      if (truth.kind.at(x, y) == 1) hut.push_back(g / cell);
      if (truth.kind.at(x, y) == 2) {
        bush.push_back(g / cell);
        bush_taken += ground.distance.at(x, y) == 0;
      }
    }
  const double middle = median(off);
  std::vector<double> apart;
  for (const double d : off) apart.push_back(std::abs(d - middle));
  const auto at = [](std::vector<double> values, double share) {
    std::sort(values.begin(), values.end());
    return values.empty() ? 0 : values[static_cast<std::size_t>(share * static_cast<double>(values.size() - 1))];
  };
  fmt::print(
      "  DTM beneath the hut, cells: {:.2f} {:.2f} {:.2f} (5, 50, 95 percent); bushes {:.2f} {:.2f} {:.2f}, {:.0f} % "
      "taken; open ground without points of its own {:.2f} %\n",
      at(hut, 0.05), at(hut, 0.5), at(hut, 0.95), at(bush, 0.05), at(bush, 0.5), at(bush, 0.95),
      percent(bush_taken, bush.size()), percent(open_lost, open_seen));
  fmt::print(
      "  DSM of cells of {:.3g}: median {:+.2f}, NMAD {:.2f} cells, {:.2f} % over 5; {:.1f} % filled ({:.2f} off in "
      "the "
      "middle), {:.1f} % none; true over said {:.2f}, filled {:.2f}; edges {:.2f} cells\n"
      "  DTM: RMS {:.2f} cells on open ground, {:.2f} beneath hut and bushes; true over said {:.2f}, {:.2f}; {:.1f} "
      "s\n",
      cell, middle / cell, 1.4826 * median(apart) / cell, percent(far, measured + filled),
      percent(filled, filled + measured + none), filled_off.empty() ? 0 : median(filled_off) / cell,
      percent(none, filled + measured + none), median(said), filled_said.empty() ? 0 : median(filled_said),
      hut_rim > 0 ? hut_moved / hut_rim : 0,
      std::sqrt(open2 / static_cast<double>(std::max<std::size_t>(1, open))) / cell,
      std::sqrt(under2 / static_cast<double>(std::max<std::size_t>(1, under))) / cell,
      ground_ratio.empty() ? 0 : median(ground_ratio), under_ratio.empty() ? 0 : median(under_ratio), seconds);
}

}  // namespace

int main(int argc, char** argv) {
  Arguments app("The ground in clouds of made-up forefields");
  int seeds = 10, first = 1, threads = 2, bushes = 120;
  double spacing = 0.1, noise = 0.03, relief = 1.2, detail = 0.5;
  double models = 0;
  std::string output, photographed;
  GroundOptions options;
  app.option("--seeds", seeds).with_default();
  app.option("--first", first).with_default();
  app.option("--spacing", spacing).with_default();
  app.option("--noise", noise).with_default();
  app.option("--bushes", bushes).with_default();
  app.option("--relief", relief).with_default();
  app.option("--detail", detail).with_default();
  app.option("--widest", options.widest).with_default();
  app.option("--bend", options.bend_deg).with_default();
  app.option("--step", options.step).with_default();
  app.option("--cell", options.cell).with_default();
  app.option("--threads", threads).with_default();
  app.option("--output", output, "the last cloud with its classes, and `counted` 1 where they are wrong");
  app.option("--models", models, "measure height models of cells of this size too; 0: not").with_default();
  app.option("--cloud", photographed, "of photos of the first seed's scene, in place of one that is made up");
  if (!app.parse(argc, argv)) return app.status();
  const Executor executor(threads);
  for (int seed = first; seed < first + seeds; ++seed) {
    simulate::SceneOptions scene;
    scene.kind = "forefield", scene.seed = static_cast<std::uint64_t>(seed), scene.detail = detail;
    scene.bushes = bushes, scene.relief = relief;
    if (!photographed.empty()) {
      PointCloud cloud = read_cloud(photographed);
      const double own = typical_spacing(cloud);
      Eigen::AlignedBox3d extent;
      for (std::size_t i = 0; i < cloud.size(); ++i) extent.extend(cloud.position(i));
      GroundFinder finder(extent.min(), extent.max(), own, options);
      finder.add(cloud);
      finder.solve(executor);
      finder.classify(cloud, executor);
      fmt::print("{} points, {:.3f} apart; {} cells taken off the ground by colour\n", cloud.size(), own,
                 finder.summary().cells_by_colour);
      measure_classes(cloud, simulate::Scene(scene), executor);
      measure_models(cloud, finder, simulate::Scene(scene), own, models > 0 ? models : own, executor);
      return 0;
    }
    Truth truth = seen_from_above(scene, spacing, noise, executor);
    Eigen::AlignedBox3d box;
    for (std::size_t i = 0; i < truth.cloud.size(); ++i) box.extend(truth.cloud.position(i));
    const auto start = std::chrono::steady_clock::now();
    GroundFinder finder(box.min(), box.max(), spacing, options);
    finder.add(truth.cloud);
    finder.solve(executor);
    finder.classify(truth.cloud, executor);
    const double seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
    std::array<std::size_t, 5> count{}, taken{};
    truth.cloud.counted.assign(truth.cloud.size(), 0);
    for (std::size_t i = 0; i < truth.cloud.size(); ++i) {
      const bool ground = truth.cloud.classes[i] == static_cast<std::uint8_t>(PointClass::ground);
      ++count[truth.kind[i]], taken[truth.kind[i]] += ground;
      truth.cloud.counted[i] = truth.kind[i] != 4 && ground != (truth.kind[i] == 0);
    }
    fmt::print(
        "seed {}: {} points, ground lost {:.2f} %, others taken {:.2f} % (hut {:.2f} of {}, bushes {:.2f} of {}); "
        "stones taken {:.1f} %; {} levels, {:.1f} s\n",
        seed, truth.cloud.size(), 100 - percent(taken[0], count[0]), percent(taken[1] + taken[2], count[1] + count[2]),
        percent(taken[1], count[1]), count[1], percent(taken[2], count[2]), count[2], percent(taken[4], count[4]),
        finder.summary().levels, seconds);
    measure_classes(truth.cloud, simulate::Scene(scene), executor);
    if (models > 0) {
      truth.cloud.errors.assign(truth.cloud.size(), static_cast<float>(noise));
      measure_models(truth.cloud, finder, simulate::Scene(scene), spacing, models, executor);
    }
  }
  return 0;
}
