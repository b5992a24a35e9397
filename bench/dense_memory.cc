// dense_memory: what the dense step takes of memory for many large photos of flat ground, made up as they are asked
// for. The maps of the first `--computed` photos are matched as ever, the others are the truth with noise: they take as
// much room, and no time.
#include <fmt/format.h>
#include <sys/resource.h>

#include <cmath>

#include "app/arguments.h"
#include "icefield/base/random.h"
#include "icefield/dense/dense.h"
#include "simulate/noise.h"
#include "tests/tools/dense.h"

using namespace icefield;

namespace {

constexpr double kHeight = 60;  // of the camera above the ground, metres

double peak_megabytes() {
  rusage usage{};
  getrusage(RUSAGE_SELF, &usage);
  return static_cast<double>(usage.ru_maxrss) / 1024;
}

// A flight in strips; three photos in four of the way overlap along it, two in three across.
Block flight(int photos, int width, int height, int points_a_photo) {
  Block block;
  const double focal = 0.8 * width;
  block.cameras.push_back(make_camera(CameraModel::radial, width, height, focal));
  const double across = kHeight / focal * width, along = kHeight / focal * height;
  const int strips = std::max(1, static_cast<int>(std::sqrt(0.6 * photos))), per_strip = (photos + strips - 1) / strips;
  for (int i = 0; i < photos; ++i) {
    PosedPhoto photo{PhotoIndex(static_cast<std::size_t>(i)), CameraIndex(std::size_t{0}), {}};
    const int strip = i / per_strip, k = strip % 2 == 0 ? i % per_strip : per_strip - 1 - i % per_strip;
    photo.pose.centre = {strip * across / 3, k * along / 4, kHeight};
    photo.pose.orientation = Eigen::Quaterniond(0, 1, 0, 0);
    block.photos.push_back(photo);
  }
  CounterRandom random(5);
  for (int i = 0; i < photos; ++i)
    for (int k = 0; k < points_a_photo / 8; ++k) {
      const Eigen::Vector3d& centre = block.photos[static_cast<std::size_t>(i)].pose.centre;
      const Eigen::Vector3d p(centre.x() + across * random.uniform(-0.5, 0.5),
                              centre.y() + along * random.uniform(-0.5, 0.5), random.uniform(-0.02, 0.02));
      std::vector<Observation> seen;
      for (int j = std::max(0, i - 3 * per_strip); j < std::min(photos, i + 3 * per_strip); ++j) {
        const PosedPhoto& other = block.photos[static_cast<std::size_t>(j)];
        const auto pixel = project(block.cameras[0], other.pose.to_camera(p));
        if (pixel && pixel->x() > 0 && pixel->y() > 0 && pixel->x() < width && pixel->y() < height)
          seen.push_back({PosedIndex(j), FeatureIndex(), *pixel});
      }
      if (seen.size() >= 2) block.add_point(p, seen);
    }
  return block;
}

// Photos of a texture that repeats every few metres.
class Ground : public PhotoSource {
 public:
  explicit Ground(const Block& block) : block_(block), texture_(kSide, kSide) {
    for (int y = 0; y < kSide; ++y)
      for (int x = 0; x < kSide; ++x)
        texture_.at(x, y) = static_cast<std::uint8_t>(std::clamp(
            128 + 110 * simulate::fractal({0.05f * static_cast<float>(x), 0.05f * static_cast<float>(y), 0.4f}, 1.0f, 5,
                                          0.7f, 0.02f, 7),
            0.0f, 255.0f));
  }
  ImageU8 load(PhotoIndex photo) override {
    const PosedPhoto& posed = block_.photos[photo.value];
    const Camera& camera = block_.camera_of(posed);
    ImageU8 image(camera.width, camera.height, 3);
    const double pixel = kHeight / camera.focal(), cell = 0.02;
    for (int y = 0; y < camera.height; ++y)
      for (int x = 0; x < camera.width; ++x) {
        const auto u = static_cast<std::int64_t>(
            std::floor((posed.pose.centre.x() + (x + 0.5 - camera.width / 2.0) * pixel) / cell));
        const auto v = static_cast<std::int64_t>(
            std::floor((posed.pose.centre.y() - (y + 0.5 - camera.height / 2.0) * pixel) / cell));
        const std::uint8_t grey = texture_.at(static_cast<int>(u & (kSide - 1)), static_cast<int>(v & (kSide - 1)));
        for (int c = 0; c < 3; ++c) image.at(x, y, c) = grey;
      }
    return image;
  }

 private:
  static constexpr int kSide = 1024;
  const Block& block_;
  ImageU8 texture_;
};

class TrueMaps : public DepthMapStore {
 public:
  TrueMaps(const Block& block, std::size_t computed, int shrink)
      : block_(block), computed_(computed), shrink_(shrink) {}
  bool has(PhotoIndex photo, int round) override { return photo.value >= computed_ || kept_.has(photo, round); }
  std::optional<DepthMap> get(PhotoIndex photo, int round) override {
    if (photo.value < computed_) return kept_.get(photo, round);
    const PosedPhoto& posed = block_.photos[photo.value];
    const Camera& camera = block_.camera_of(posed);
    const int width = camera.width / shrink_, height = camera.height / shrink_;
    DepthMap map{make_camera(CameraModel::pinhole, width, height, camera.focal() / shrink_),
                 posed.pose,
                 ImageF(width, height),
                 Image<std::int8_t>(width, height, 3),
                 ImageU8(width, height, 1, 8),
                 Image<std::uint16_t>(width, height, 1, 0xff),
                 ImageU8(width, height, 3, 120)};
    for (int y = 0; y < height; ++y) {
      CounterRandom random(combine_keys(photo.value, static_cast<std::uint64_t>(y)));
      for (int x = 0; x < width; ++x)
        map.depth.at(x, y) = static_cast<float>(kHeight + 0.01 * (random.uniformf() - 0.5f)),
                        map.normal.at(x, y, 2) = -127;
    }
    return map;
  }
  void put(PhotoIndex photo, int round, const DepthMap& map) override { kept_.put(photo, round, map); }

 private:
  const Block& block_;
  std::size_t computed_;
  int shrink_;
  test::Maps kept_;  // few enough for memory
};

struct Counted : PointSink {
  std::size_t points = 0;
  void add(const PointCloud& part) override { points += part.size(); }
};

struct Stages : Monitor {
  std::string last;
  void progress(std::string_view what, std::size_t done, std::size_t total) override {
    if (what.empty() || (what == last && done < total)) return;
    if (what != last) fmt::print(stderr, "{}: from {:.0f} MB\n", what, peak_megabytes());
    last = what;
  }
};

}  // namespace

int main(int argc, char** argv) {
  Arguments app{"Memory of the dense step for many large photos"};
  int photos = 200, computed = 2, width = 4000, height = 3000, points = 2000, threads = 2;
  DenseOptions options;
  app.option("--photos", photos).with_default();
  app.option("--computed", computed, "whose maps are matched; they stay in memory").with_default();
  app.option("--width", width).with_default();
  app.option("--height", height).with_default();
  app.option("--points", points, "tie points in a photo").with_default();
  app.option("--shrink", options.shrink).with_default();
  app.option("--neighbours", options.max_neighbours).with_default();
  app.option("--threads", threads).with_default();
  if (!app.parse(argc, argv)) return app.status();
  try {
    const Executor executor(threads);
    const Block block = flight(photos, width, height, points);
    Bounds all;
    all.centre = {0, 0, 0}, all.half_size = {1e5, 1e5, 2};
    fmt::print("{} photos of {}x{}, {} tie points, {:.0f} MB with them\n", photos, width, height, block.points.size(),
               peak_megabytes());
    fmt::print("estimated: {:.0f} MB\n", estimate_dense(block, all, options, executor).memory_bytes / 1e6);
    Ground ground(block);
    TrueMaps maps(block, static_cast<std::size_t>(computed), options.shrink);
    Counted sink;
    Stages stages;
    const DenseSummary summary = densify(block, ground, maps, all, options, executor, stages, sink);
    fmt::print("{} points in {} tiles; at most {:.0f} MB\n", sink.points, summary.tiles, peak_megabytes());
  } catch (const Error& error) {
    fmt::print(stderr, "dense_memory: {}\n", error.what());
    return 3;
  }
}
