#include <algorithm>
#include <array>
#include <chrono>
#include <cmath>
#include <numbers>
#include <vector>

#include "icefield/base/statistics.h"
#include "src/dense/patch_kernel.h"
#include "src/dense/plan_dense.h"

namespace icefield {
namespace {

// Against the bare kernel: planes to try, patches to prepare, caches missed. Measured (docs/benchmarks.md).
constexpr double kOverhead = 2.4;
constexpr double kFuseSecondsPerPixel = 2.0e-6;  // one thread, votes and cleaning included
constexpr double kPixelsPerPoint = 12;  // of the depth maps: pixels that stay empty, and spots that several maps show
constexpr double kBytesPerMapPixel = 4 + 3 + 1 + 2, kBytesPerColour = 3;
constexpr double kBytesPerPoint = 37;

// Of one correlation in one view with the patch of these options, on this machine, now.
double seconds_per_score(const DenseOptions& options) {
  ImageU8 image(256, 256);
  for (int y = 0; y < 256; ++y)
    for (int x = 0; x < 256; ++x) image.at(x, y) = static_cast<std::uint8_t>((x * x + 7 * y * x + 13 * y) >> 3);
  const QuadImage quads(image);
  const int side = std::min(2 * options.patch_radius / options.patch_step + 1, 11);
  PatchReference patch;
  patch.samples = std::min((side * side + 15) / 16 * 16, kMaxPatchSamples);
  patch.variance = 100;
  for (int i = 0; i < patch.samples; ++i) {
    patch.offset_x[i] = static_cast<float>(kSubpixels * ((i % side) * options.patch_step - options.patch_radius));
    patch.offset_y[i] =
        static_cast<float>(kSubpixels * ((i / side % side) * options.patch_step - options.patch_radius));
    patch.weight[i] = 1.0f / static_cast<float>(patch.samples);
    patch.centred[i] = (i & 1) ? 0.1f : -0.1f;
  }
  PlaneWarps warps;
  constexpr int kCandidates = 6;
  std::array<std::uint8_t, kCandidates> which;
  const std::array<const QuadImage*, kCandidates> images = {&quads, &quads, &quads, &quads, &quads, &quads};
  for (int k = 0; k < kCandidates; ++k) {
    which[static_cast<std::size_t>(k)] = static_cast<std::uint8_t>(k);
    warps.slot[k] = k;
    warps.x[k] = 60.3f + 20 * static_cast<float>(k), warps.y[k] = 100.7f;
    warps.xx[k] = 0.97f, warps.xy[k] = 0.05f, warps.yx[k] = -0.04f, warps.yy[k] = 1.02f;
  }
  const DenseKernel kernel = best_dense_kernel();
  float costs[kCandidates];
  // The middle of several short trials: what else the machine does for a moment does not count.
  std::vector<double> trials(9);
  for (double& trial : trials) {
    const auto start = std::chrono::steady_clock::now();
    double seconds = 0;
    std::size_t scores = 0;
    do {
      for (int k = 0; k < 500; ++k) {
        warps.y[0] = 100.0f + 0.01f * static_cast<float>(k);
        kernel.costs(patch, images.data(), warps, which.data(), kCandidates, costs);
        scores += kCandidates;
      }
      seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
    } while (seconds < 0.01);
    trial = seconds / static_cast<double>(scores);
  }
  return median(std::move(trials));
}

// Scores that a pixel of a depth map asks for over all rounds (match_depth.cc): all views of the start and of the plane
// at the beginning of each round, the best three of nine others; half of the coarse level is not settled and asks for
// all.
double scores_per_pixel(double views, const DenseOptions& options) {
  const double chosen = std::min(3.0, views), settled = views + 9 * chosen,
               searching = views + 9 * 0.5 * (chosen + views);
  return 0.25 * (views + options.coarse_iterations * searching) + views + options.fine_iterations * settled +
         options.consistency_rounds * (views + 9 * chosen) + views;
}

}  // namespace

DenseEstimate estimate_dense(const Block& block, const std::optional<Bounds>& bounds, const DenseOptions& options,
                             const Executor& executor, const PhotoSource* photos) {
  const DenseJob job = plan_dense(block, bounds, options, photos, executor);
  DenseEstimate estimate;
  estimate.photos_without_neighbours = block.photos.size() - job.with_neighbours;
  estimate.photos_repeated = job.repeated_count();
  double scores = 0;
  const double largest_map = largest_view_pixels(block, options);
  for (std::size_t i = 0; i < block.photos.size(); ++i) {
    const PosedPhoto& photo = block.photos[i];
    const Camera& camera = block.camera_of(photo);
    const double photo_pixels = static_cast<double>(camera.width) * camera.height,
                 map_pixels = photo_pixels / (options.shrink * options.shrink);
    if (job.neighbours[i].empty()) continue;
    ++estimate.maps;
    constexpr int kSteps = 24;
    int looking = 0;
    for (int y = 0; y < kSteps; ++y)
      for (int x = 0; x < kSteps; ++x)
        if (const auto d = unproject(camera, {(x + 0.5) * camera.width / kSteps, (y + 0.5) * camera.height / kSteps}))
          looking += job.bounds.meets(photo.pose.centre, photo.pose.orientation.conjugate() * d->homogeneous());
    const double pixels = map_pixels * looking / (kSteps * kSteps);
    estimate.pixels += pixels;
    const auto asked = std::min(job.neighbours[i].size(), static_cast<std::size_t>(options.part_neighbours));
    scores += pixels * scores_per_pixel(static_cast<double>(asked), options);
    estimate.work_bytes += map_pixels * (kBytesPerMapPixel * (1 + options.consistency_rounds) + kBytesPerColour);
  }
  estimate.points = estimate.pixels / kPixelsPerPoint;
  estimate.result_bytes = estimate.points * kBytesPerPoint;
  const double threads = std::max(1, executor.threads());
  estimate.seconds =
      (scores * kOverhead * seconds_per_score(options) + estimate.pixels * kFuseSecondsPerPixel) / threads;
  // Views held and the maps in work; then the tiles in work with the maps that they ask for.
  const double whole = largest_map * (kBytesPerMapPixel + kBytesPerColour);
  const std::size_t units = maps_in_work(block, options, executor);
  const double own = static_cast<double>(map_unit_bytes(block, options)) -
                     kBytesPerViewPixel * largest_map * (options.max_neighbours + 1);
  const double views = static_cast<double>(views_held(largest_map, options, units)) * largest_map * kBytesPerViewPixel;
  const double matching = views + static_cast<double>(units) * std::max(own, 2 * whole);
  const double in_work = std::min(static_cast<double>(tiles_in_work(block, options, executor)),
                                  std::ceil(estimate.pixels / static_cast<double>(options.tile_samples)));
  const double merging =
      in_work * static_cast<double>(held_map_bytes(block, options)) +
      std::min(in_work * static_cast<double>(options.tile_samples), estimate.pixels) * kBytesPerTileSample;
  estimate.memory_bytes = 60e6 + std::max(matching, merging);
  return estimate;
}

}  // namespace icefield
