// orient_set KIND --photos N --seeds 20: orientation of made-up photo sets with known truth, a line for each: photos
// posed, missed and wrong, blocks, centre errors in GSD and against the covariance's own prediction, seconds.
#include <fmt/format.h>
#include <sys/resource.h>

#include <chrono>
#include <map>

#include "app/arguments.h"
#include "icefield/base/statistics.h"
#include "icefield/judge/compare.h"
#include "icefield/survey/settings.h"
#include "simulate/matched_set.h"

namespace {

class Talk : public icefield::Monitor {
 public:
  explicit Talk(bool on) : on_(on) {}
  void log(icefield::LogLevel, const std::string& text) override {
    if (on_) fmt::print(stderr, "{}\n", text);
  }

 private:
  bool on_;
};

}  // namespace

int main(int argc, char** argv) {
  using namespace icefield;
  using Clock = std::chrono::steady_clock;
  Arguments app{"Orientation of made-up photo sets with known truth"};
  simulate::MatchedSetOptions options;
  int seeds = 1, threads = 2;
  OrientOptions orient_options;
  bool at_once = false, verbose = false, predict = false, names = false;
  app.option("kind", options.kind).required();
  app.option("--photos", options.photos).with_default();
  app.option("--seed", options.seed, "the first").with_default();
  app.option("--seeds", seeds, "so many sets").with_default();
  app.option("--features", options.features).with_default();
  app.option("--noise", options.noise_px).with_default();
  app.option("--wrong", options.wrong_share).with_default();
  app.option("--focal-error", options.focal_error_percent, "percent; 100: unknown").with_default();
  app.option("--turned", options.turned).with_default();
  app.option("--blurred", options.blurred_share).with_default();
  app.option("--missing", options.missing_share).with_default();
  app.option("--matched-with", options.matched_with).with_default();
  app.flag("--twins", options.twins);
  app.flag("--fisheye", options.fisheye);
  app.flag("--two-lenses", options.two_lenses);
  app.flag("!--sound-lens", options.lens_fault);
  app.option("--threads", threads).with_default();
  app.flag("--predict", predict, "centre errors against the covariance's prediction");
  app.flag("--at-once", at_once, "all at once instead of growing");
  app.flag("--verbose", verbose);
  app.flag("--names", names, "of photos missed or wrong, with the reasons");
  std::vector<std::string> sets;
  app.option("--set", sets, "pose settings, section.key=value").one_each();
  if (!app.parse(argc, argv)) return app.status();
  Settings settings;
  for (const std::string& entry : sets)
    settings.set(entry.substr(0, entry.find('=')), entry.substr(entry.find('=') + 1));
  orient_options = settings.pose;
  if (at_once) orient_options.way = OrientWay::all_at_once;
  const Executor executor(threads);
  Talk monitor(verbose);
  fmt::print("{:>5} {:>6} {:>7} {:>6} {:>7} {:>8} {:>6} {:>9} {:>7} {:>8} {:>8} {:>7} {:>8} {:>7}\n", "seed", "photos",
             "usable", "posed", "missed", "doubtful", "wrong", "in blocks", "RMS px", "kept %", "GSD", "largest",
             "seconds", "ratio");
  for (int s = 0; s < seeds; ++s, ++options.seed) {
    const auto made_at = Clock::now();
    const simulate::MatchedSet set = make_matched_set(options, executor);
    std::vector<std::size_t> counts;
    std::size_t verified = 0;
    for (const OrientPhoto& photo : set.photos) counts.push_back(photo.keypoints.size());
    for (const PairMatches& pair : set.pairs) verified += pair.verified();
    const Tracks tracks = build_tracks(set.pairs, counts);
    const auto start = Clock::now();
    if (verbose)
      fmt::print(stderr, "made in {:.1f} s: {} pairs, {} verified, {} wrong, {} tracks, {} elements\n",
                 std::chrono::duration<double>(start - made_at).count(), set.pairs.size(), verified, set.wrong_pairs,
                 tracks.size(), tracks.elements.size());
    const OrientResult result = orient(set.photos, set.priors, set.pairs, orient_options, executor, monitor);
    const double seconds = std::chrono::duration<double>(Clock::now() - start).count();

    std::size_t posed = 0, wrong = 0, missed = 0;
    // Wrong: over 10 GSD or 1 degree, and said to be right. Doubtful photos take no part in the fit to the truth
    // either.
    std::vector<bool> in_block(set.photos.size(), false), doubtful(set.photos.size(), false);
    for (const DoubtfulPhoto& d : result.doubtful) doubtful[d.photo.value] = true;
    std::vector<double> errors, ratios;
    std::string sizes;
    double largest = 0, rms = 0, kept = 0;
    for (std::size_t b = 0; b < result.blocks.size(); ++b) {
      const Block& block = result.blocks[b];
      std::vector<NamedPose> got, truth;
      std::vector<std::uint32_t> compared_photos;  // of the block
      for (const PosedPhoto& p : block.photos) {
        in_block[p.photo.value] = true;
        if (doubtful[p.photo.value]) continue;
        got.push_back({set.photos[p.photo.value].name, block.camera_of(p), p.pose, 0});
        const PosedPhoto& t = set.truth.photos[p.photo.value];
        truth.push_back({set.photos[p.photo.value].name, set.truth.camera_of(t), t.pose, set.gsd[p.photo.value]});
        compared_photos.push_back(static_cast<std::uint32_t>(&p - block.photos.data()));
      }
      sizes += fmt::format("{}{}", b ? "+" : "", block.photos.size());
      posed += block.photos.size();
      const auto compared = compare_cameras(got, truth);
      if (!compared) continue;
      for (std::size_t i = 0; i < compared->photos.size(); ++i) {
        PhotoError e = compared->photos[i];
        e.position_gsd = e.position / set.gsd[block.photos[compared_photos[i]].photo.value];
        e.wrong = e.position_gsd > 10 || e.orientation_deg > 1;
        wrong += e.wrong;
        errors.push_back(e.position_gsd);
        largest = std::max(largest, e.position_gsd);
        if (names && e.wrong)
          fmt::print("  wrong: {} {:.1f} GSD {:.2f} degrees\n", e.name, e.position_gsd, e.orientation_deg);
      }
      if (b == 0) {
        const BlockStatistics statistics = block_statistics(block);
        rms = statistics.rms_px, kept = statistics.kept_percent;
        if (predict) {
          const BlockPrecision& precision = result.precision[b];
          if (!precision.known) fmt::print("  no prediction: {}\n", precision.outcome);
          for (std::size_t i = 0; precision.known && i < compared->photos.size(); ++i)
            ratios.push_back(compared->photos[i].position /
                             (precision.place_sigma[compared_photos[i]] * compared->to_truth.scale));
        }
      }
    }
    for (std::size_t i = 0; i < set.photos.size(); ++i) missed += set.usable[i] && !in_block[i];
    if (names)
      for (const DoubtfulPhoto& d : result.doubtful)
        fmt::print("  doubtful: {}: {}\n", set.photos[d.photo.value].name, d.reason);
    if (names)
      for (const UnposedPhoto& u : result.unposed)
        fmt::print("  {}{}: {}\n", set.photos[u.photo.value].name, set.usable[u.photo.value] ? "" : " (not usable)",
                   u.reason);
    fmt::print(
        "{:>5} {:>6} {:>7} {:>6} {:>7} {:>8} {:>6} {:>9} {:>7.3f} {:>8.1f} {:>8.3f} {:>7.2f} {:>8.1f} {:>7.2f}\n",
        options.seed, set.photos.size(), std::count(set.usable.begin(), set.usable.end(), true), posed, missed,
        result.doubtful.size(), wrong, sizes, rms, kept, median(errors), largest, seconds, median(ratios));
    std::fflush(stdout);
  }
  rusage usage{};
  getrusage(RUSAGE_SELF, &usage);
  fmt::print("{} MB at most\n", usage.ru_maxrss / 1024);
  return 0;
}
