// Speed of the kernels, beside what the hardware could do at best.
#include <benchmark/benchmark.h>

#include <numeric>

#if defined(__x86_64__)
#include <immintrin.h>
#endif

#include "icefield/adjust/adjust.h"
#include "icefield/base/random.h"
#include "icefield/feature/feature.h"
#include "icefield/io/photo_file.h"
#include "icefield/match/match.h"
#include "icefield/photo/filter.h"
#include "simulate/noise.h"
#include "src/dense/patch_kernel.h"
#include "src/match/byte_products.h"
#include "tests/tools/made_up.h"

namespace icefield {
namespace {

Features random_features(std::size_t count) {
  CounterRandom random(1);
  Features f;
  f.keypoints.resize(count);
  for (std::size_t i = 0; i < count * kDescriptorSize; ++i)
    f.descriptors.push_back(static_cast<std::uint8_t>(random.below(128)));
  return f;
}

// The byte dot product of this machine in a loop that does nothing else: the peak that matching is held against.
#if defined(__x86_64__)
__attribute__((target("avx512f,avx512bw,avx512vnni"))) void peak_vnni(benchmark::State& state) {
  __m512i sum[16];
  for (auto& s : sum) s = _mm512_setzero_si512();
  __m512i a = _mm512_set1_epi8(3), b = _mm512_set1_epi8(5);
  for (auto _ : state) {
    for (int i = 0; i < 64; ++i) {
      for (auto& s : sum) s = _mm512_dpbusd_epi32(s, a, b);
      asm volatile("" : "+v"(a), "+v"(b));
    }
  }
  for (auto& s : sum) benchmark::DoNotOptimize(s);
  state.counters["multiply-adds/s"] =
      benchmark::Counter(static_cast<double>(state.iterations()) * 64 * 16 * 64, benchmark::Counter::kIsRate);
}
__attribute__((target("avx2"))) void peak_avx2(benchmark::State& state) {
  __m256i sum[8];
  for (auto& s : sum) s = _mm256_setzero_si256();
  __m256i a = _mm256_set1_epi8(3), b = _mm256_set1_epi8(5);
  const __m256i ones = _mm256_set1_epi16(1);
  for (auto _ : state) {
    for (int i = 0; i < 64; ++i) {
      for (auto& s : sum) s = _mm256_add_epi32(s, _mm256_madd_epi16(_mm256_maddubs_epi16(a, b), ones));
      asm volatile("" : "+x"(a), "+x"(b));
    }
  }
  for (auto& s : sum) benchmark::DoNotOptimize(s);
  state.counters["multiply-adds/s"] =
      benchmark::Counter(static_cast<double>(state.iterations()) * 64 * 8 * 32, benchmark::Counter::kIsRate);
}
#endif
void byte_dot_product_peak(benchmark::State& state) {
#if defined(__x86_64__)
  if (best_nearest_kernels().doubled) return peak_vnni(state);
  return peak_avx2(state);
#else
  state.SkipWithError("no such instruction");
#endif
}
BENCHMARK(byte_dot_product_peak);

void match_pair(benchmark::State& state) {
  const auto count = static_cast<std::size_t>(state.range(0));
  const Features a = random_features(count), b = random_features(count);
  for (auto _ : state) benchmark::DoNotOptimize(match_descriptors(a, b));
  state.counters["multiply-adds/s"] =
      benchmark::Counter(static_cast<double>(state.iterations()) * static_cast<double>(count * count) * kDescriptorSize,
                         benchmark::Counter::kIsRate);
}
BENCHMARK(match_pair)->Arg(2000)->Arg(8000)->Unit(benchmark::kMillisecond);

void find_features_1mp(benchmark::State& state) {
  ImageF image(1200, 833);
  for (int y = 0; y < image.height(); ++y)
    for (int x = 0; x < image.width(); ++x)
      image.at(x, y) =
          0.45f + 0.25f * simulate::fractal({0.02f * static_cast<float>(x), 0.02f * static_cast<float>(y), 0.3f}, 1.0f,
                                            7, 0.75f, 0.02f, 7);
  FeatureOptions options;
  options.double_below_megapixels = state.range(0) != 0 ? 1000 : 0;
  options.max_features = 8000;
  std::size_t found = 0;
  for (auto _ : state) found = find_features(image, options).size();
  state.counters["features"] = static_cast<double>(found);
}
BENCHMARK(find_features_1mp)->ArgName("doubled")->Arg(0)->Arg(1)->Unit(benchmark::kMillisecond);

// The demo's photos, two at a time, as `match` takes them; decoding is not counted.
void find_features_demo(benchmark::State& state) {
  std::vector<ImageF> photos;
  double megapixels = 0;
  for (const auto& file : find_photo_files({ICEFIELD_DEMO_PHOTOS})) {
    photos.push_back(to_grey(read_photo(file)));
    megapixels += 1e-6 * static_cast<double>(photos.back().pixels());
  }
  FeatureOptions options;
  options.double_below_megapixels = state.range(0) != 0 ? 1000 : 0;
  options.max_features = 8000;
  const Executor executor(2);
  Monitor monitor;
  std::vector<std::size_t> found(photos.size());
  for (auto _ : state)
    executor.run("", photos.size(), monitor,
                 [&](std::size_t i) { found[i] = find_features(photos[i], options).size(); });
  state.counters["features/photo"] = static_cast<double>(std::accumulate(found.begin(), found.end(), std::size_t{0})) /
                                     static_cast<double>(photos.size());
  state.counters["megapixels/s"] =
      benchmark::Counter(static_cast<double>(state.iterations()) * megapixels, benchmark::Counter::kIsRate);
}
BENCHMARK(find_features_demo)
    ->ArgName("doubled")
    ->Arg(0)
    ->Arg(1)
    ->Unit(benchmark::kMillisecond)
    ->UseRealTime()
    ->Iterations(3);

// One pair of demo photos, 8,000 features each: descriptors alone, and everything that `match` does with it.
void one_pair(benchmark::State& state) {
  const auto files = find_photo_files({ICEFIELD_DEMO_PHOTOS});
  FeatureOptions options;
  options.max_features = 8000;
  options.double_below_megapixels = 1000;
  const ImageF first = to_grey(read_photo(files[0])),
               second = to_grey(read_photo(files[static_cast<std::size_t>(state.range(0))]));
  const Features a = find_features(first, options), b = find_features(second, options);
  const CameraPrior prior{make_camera(CameraModel::radial, first.width(), first.height(), 1165), 2};
  const bool everything = state.range(1) != 0;
  std::size_t verified = 0;
  for (auto _ : state) {
    const std::vector<Match> matches = match_descriptors(a, b);
    benchmark::DoNotOptimize(matches.data());
    if (everything)
      verified = verify_pair({PhotoIndex(0), a, prior}, {PhotoIndex(1), b, prior}, matches, {}, 1).matches.size();
  }
  state.counters["features"] = static_cast<double>(a.size());
  state.counters["verified"] = static_cast<double>(verified);
}
BENCHMARK(one_pair)
    ->ArgNames({"with", "everything"})
    ->Args({1, 0})
    ->Args({1, 1})
    ->Args({5, 0})
    ->Args({5, 1})
    ->Args({19, 0})
    ->Args({19, 1})
    ->Unit(benchmark::kMillisecond);

// A plane at a pixel in some views: the unit of depth maps. Samples of 16 or 48 each; views of which as many are asked
// for. Scores of `planes` planes of a pixel in one view, warps included, as the rounds of a depth map ask for them;
// `planes:0`: one plane in eight views.
void patch_costs(benchmark::State& state) {
  ImageU8 grey(600, 400);
  CounterRandom random(1);
  for (auto& v : grey.data()) v = static_cast<std::uint8_t>(random.below(256));
  const QuadImage image(grey);
  PatchReference patch;
  patch.samples = static_cast<int>(state.range(0));
  for (int i = 0; i < patch.samples; ++i) {
    patch.offset_x[i] = static_cast<float>(kSubpixels * (i % 4 * 2 - 3)),
    patch.offset_y[i] = static_cast<float>(kSubpixels * (i / 4 % 4 * 2 - 3));
    patch.weight[i] = 1.0f / static_cast<float>(patch.samples),
    patch.centred[i] = 0.1f * static_cast<float>(i - patch.samples / 2);
  }
  patch.variance = 100;
  patch.reach = 3;
  const int planes = static_cast<int>(state.range(1)), asked = planes > 0 ? planes : 8;
  ViewRow views;
  views.count = 8;
  PlaneList list;
  std::array<std::uint8_t, kMaxWarps> which{};
  for (int v = 0; v < kMaxWarps; ++v) {
    const auto k = static_cast<std::size_t>(v);
    which[k] = static_cast<std::uint8_t>(v);
    views.images[k] = &image;
    for (int r = 0; r < 3; ++r) views.turn[4 * r][k] = 1;
    views.turn_x[0][k] = views.turn_y[1][k] = 1;
    views.shift[0][k] = 3.0f * static_cast<float>(v);
    views.right[k] = 598.5f, views.bottom[k] = 398.5f;
    list.inverse[k] = 1 + 0.01f * static_cast<float>(v), list.slant_x[k] = list.slant_y[k] = 0.001f;
  }
  const DenseKernel kernel = best_dense_kernel();
  PlaneWarps warps;
  PixelTurns turns;
  float costs[kMaxWarps];
  long i = 0;
  for (auto _ : state) {
    if (++i % 4 == 1)
      kernel.turn(views, 20.3f + static_cast<float>(i / 4 % 500), 20.6f + static_cast<float>(i / 2000 % 350), turns);
    list.inverse[0] = 1 + 0.01f * static_cast<float>(i % 4);
    if (planes > 0)
      kernel.warp_planes(views, turns, static_cast<int>(i % 8), list, planes, patch.reach, warps);
    else
      kernel.warp_views(views, turns, list, patch.reach, warps);
    kernel.costs(patch, views.images.data(), warps, which.data(), asked, costs);
    benchmark::DoNotOptimize(costs);
  }
  state.counters["s/sample"] = benchmark::Counter(static_cast<double>(state.iterations()) * patch.samples * asked,
                                                  benchmark::Counter::kIsRate | benchmark::Counter::kInvert);
  state.counters["s/score"] = benchmark::Counter(static_cast<double>(state.iterations()) * asked,
                                                 benchmark::Counter::kIsRate | benchmark::Counter::kInvert);
}
BENCHMARK(patch_costs)
    ->ArgNames({"samples", "planes"})
    ->Args({16, 0})
    ->Args({16, 1})
    ->Args({16, 3})
    ->Args({16, 6})
    ->Args({16, 8})
    ->Args({48, 6});

// The bound of the above: quads fetched from places that advance as those of patches do, and nothing else.
void gather_quads(benchmark::State& state) {
  ImageU8 grey(600, 400);
  CounterRandom random(1);
  for (auto& v : grey.data()) v = static_cast<std::uint8_t>(random.below(256));
  const QuadImage image(grey);
  alignas(64) std::int32_t offsets[16];
  for (int i = 0; i < 16; ++i) offsets[i] = (i / 4 * 2) * 600 + i % 4 * 2;
  const DenseKernel kernel = best_dense_kernel();
  long i = 0;
  for (auto _ : state) {
    ++i;
    benchmark::DoNotOptimize(kernel.gather(
        reinterpret_cast<const std::int32_t*>(image.quads.data()) + 20 * 600 + 20 + i % 550 + i / 550 % 350 * 600,
        offsets));
  }
  state.counters["s/sample"] = benchmark::Counter(static_cast<double>(state.iterations()) * 16,
                                                  benchmark::Counter::kIsRate | benchmark::Counter::kInvert);
}
BENCHMARK(gather_quads);

void adjust_ring(benchmark::State& state) {
  Block start = test::ring_block(static_cast<int>(state.range(0)), 3000, 0.5);
  test::disturb(start, 0.02);
  Monitor monitor;
  for (auto _ : state) benchmark::DoNotOptimize(adjust(start, {}, Executor(2), monitor));
  state.counters["observations"] = static_cast<double>(start.observations.size());
}
BENCHMARK(adjust_ring)->Arg(20)->Arg(60)->Unit(benchmark::kMillisecond);

}  // namespace
}  // namespace icefield
