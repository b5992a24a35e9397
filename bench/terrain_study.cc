// terrain_study: the ground, found in clouds of forefields with a hut, boulders and bushes, as a flight sees them from
// above: points of the uppermost surface with noise, and what each is of. No photos are made.
#include <fmt/format.h>

#include <chrono>

#include "app/arguments.h"
#include "icefield/base/random.h"
#include "icefield/io/ply_file.h"
#include "icefield/terrain/ground.h"
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

}  // namespace

int main(int argc, char** argv) {
  Arguments app("The ground in clouds of made-up forefields");
  int seeds = 10, first = 1, threads = 2, bushes = 120;
  double spacing = 0.1, noise = 0.03, relief = 1.2, detail = 0.5;
  std::string output;
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
  if (!app.parse(argc, argv)) return app.status();
  const Executor executor(threads);
  for (int seed = first; seed < first + seeds; ++seed) {
    simulate::SceneOptions scene;
    scene.kind = "forefield", scene.seed = static_cast<std::uint64_t>(seed), scene.detail = detail;
    scene.bushes = bushes, scene.relief = relief;
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
    const auto percent = [](std::size_t a, std::size_t b) {
      return b > 0 ? 100.0 * static_cast<double>(a) / static_cast<double>(b) : 0.0;
    };
    fmt::print(
        "seed {}: {} points, ground lost {:.2f} %, others taken {:.2f} % (hut {:.2f} of {}, bushes {:.2f} of {}); "
        "stones taken {:.1f} %; {} levels, {:.1f} s\n",
        seed, truth.cloud.size(), 100 - percent(taken[0], count[0]), percent(taken[1] + taken[2], count[1] + count[2]),
        percent(taken[1], count[1]), count[1], percent(taken[2], count[2]), count[2], percent(taken[4], count[4]),
        finder.summary().levels, seconds);
  }
  return 0;
}
