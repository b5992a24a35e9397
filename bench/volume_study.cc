// volume_study: heaps of some hundred cubic metres on sloping ground, seen from above with noise, and what is said of
// their volume.
#include <fmt/format.h>

#include <cmath>
#include <numbers>

#include "app/arguments.h"
#include "icefield/base/random.h"
#include "icefield/terrain/height_model.h"
#include "icefield/terrain/volume.h"

using namespace icefield;

int main(int argc, char** argv) {
  Arguments app("Volumes of made-up heaps");
  int heaps = 20, first = 1;
  double spacing = 0.1, noise = 0.03, cell = 0.1, waves = 0;
  app.option("--heaps", heaps).with_default();
  app.option("--first", first).with_default();
  app.option("--spacing", spacing).with_default();
  app.option("--noise", noise, "of a point, one standard deviation").with_default();
  app.option("--waves", waves, "that errors of neighbours share: they go together over some five cells").with_default();
  app.option("--cell", cell).with_default();
  if (!app.parse(argc, argv)) return app.status();
  const Executor executor(2);
  int within = 0;
  double worst = 0, sum2 = 0;
  for (int h = first; h < first + heaps; ++h) {
    CounterRandom random(combine_keys(77, static_cast<std::uint64_t>(h)));
    const double tilt = random.uniform(-0.2, 0.2), turn = random.uniform(0, 6.28), a = random.uniform(4.2, 5.2),
                 b = random.uniform(4.2, 5.2), high = random.uniform(2.6, 3.2);
    const double wave_x = random.uniform(0, 6), wave_y = random.uniform(0, 6);
    const auto ground = [&](double x, double y) { return tilt * (x * std::cos(turn) + y * std::sin(turn)); };
    // A heap with a rough top, over the ground it stands on.
    const auto heap = [&](double x, double y) {
      const double r = std::hypot(x / a, y / b);
      return r < 1 ? high * (1 - r) * (1 + 0.15 * std::sin(1.9 * x + wave_x) * std::sin(1.7 * y + wave_y)) : 0.0;
    };
    const auto together = [&](double x, double y) {
      return waves * std::sin(12.0 * x + wave_y) * std::sin(11.0 * y + wave_x);
    };
    double truth = 0;
    constexpr double kStep = 0.005;
    for (double y = -6; y < 6; y += kStep)
      for (double x = -6; x < 6; x += kStep) truth += heap(x + 0.5 * kStep, y + 0.5 * kStep) * kStep * kStep;
    PointCloud cloud;
    for (double y = -9; y < 9; y += spacing)
      for (double x = -9; x < 9; x += spacing) {
        const double px = x + spacing * random.uniform(), py = y + spacing * random.uniform();
        cloud.positions.emplace_back(
            static_cast<float>(px), static_cast<float>(py),
            static_cast<float>(ground(px, py) + heap(px, py) + noise * random.normal() + together(px, py)));
        cloud.errors.push_back(static_cast<float>(std::hypot(noise, 0.5 * waves)));
      }
    const GridFrame frame = grid_over({-8, -8}, {8, 8}, cell);
    const HeightModel model =
        surface_heights(cloud, frame, {0, 0, frame.columns, frame.rows}, spacing, HeightOptions(), executor);
    HeightRaster raster{frame, model.heights, model.sigma};
    for (float& z : raster.heights.values()) z += static_cast<float>(model.base);
    std::vector<Eigen::Vector2d> outline;
    for (int k = 0; k < 24; ++k) {
      const double angle = 2 * std::numbers::pi * k / 24;
      outline.emplace_back(1.15 * a * std::cos(angle), 1.15 * b * std::sin(angle));
    }
    const Volume volume = volume_in(raster, outline, VolumeOptions());
    const double off = volume.net() - truth;
    within += std::abs(off) <= 2 * volume.sigma;
    worst = std::max(worst, std::abs(off) / truth), sum2 += std::pow(off / volume.sigma, 2);
    fmt::print("heap {}: {:.2f} true, {:.2f} measured, {:+.2f} % off, {:.2f} said ({:.2f} of it)\n", h, truth,
               volume.net(), 100 * off / truth, volume.sigma, std::abs(off) / volume.sigma);
  }
  fmt::print("{} of {} within two standard deviations; worst {:.2f} %; RMS of error over said {:.2f}\n", within, heaps,
             100 * worst, std::sqrt(sum2 / heaps));
  return 0;
}
