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

using namespace icefield;
using Clock = std::chrono::steady_clock;

double seconds_since(Clock::time_point start) {
  return std::chrono::duration<double>(Clock::now() - start).count();
}

struct Request {
  simulate::MatchedSetOptions made;
  OrientOptions orient;
  int seeds = 1, threads = 2;
  bool at_once = false, verbose = false, predict = false, names = false;
  std::vector<std::string> settings;
};

void ask(Arguments& app, Request& r) {
  simulate::MatchedSetOptions& made = r.made;
  app.option("kind", made.kind).required();
  app.option("--photos", made.photos).with_default();
  app.option("--seed", made.seed, "the first").with_default();
  app.option("--seeds", r.seeds, "so many sets").with_default();
  app.option("--features", made.features).with_default();
  app.option("--noise", made.noise_px).with_default();
  app.option("--wrong", made.wrong_share).with_default();
  app.option("--focal-error", made.focal_error_percent, "percent; 100: unknown").with_default();
  app.option("--turned", made.turned).with_default();
  app.option("--blurred", made.blurred_share).with_default();
  app.option("--missing", made.missing_share).with_default();
  app.option("--matched-with", made.matched_with).with_default();
  app.flag("--twins", made.twins);
  app.flag("--fisheye", made.fisheye);
  app.flag("--two-lenses", made.two_lenses);
  app.flag("!--sound-lens", made.lens_fault);
  app.option("--threads", r.threads).with_default();
  app.flag("--predict", r.predict, "centre errors against the covariance's prediction");
  app.flag("--at-once", r.at_once, "all at once instead of growing");
  app.flag("--verbose", r.verbose);
  app.flag("--names", r.names, "of photos missed or wrong, with the reasons");
  app.option("--set", r.settings, "pose settings, section.key=value").one_each();
}

// Wrong: over 10 GSD or 1 degree, and said to be right. Doubtful photos take no part in the fit to the truth either.
struct Verdict {
  std::size_t posed = 0, wrong = 0, missed = 0;
  std::vector<double> errors, ratios;
  std::string sizes;
  double largest = 0, rms = 0, kept = 0;
};

void judge_block(const simulate::MatchedSet& set, const OrientResult& result, std::size_t b,
                 const std::vector<bool>& doubtful, const Request& request, Verdict& verdict) {
  const Block& block = result.blocks[b];
  std::vector<NamedPose> got, truth;
  std::vector<std::uint32_t> compared_photos;  // of the block
  for (const PosedPhoto& p : block.photos) {
    if (doubtful[p.photo.value]) continue;
    got.push_back({set.photos[p.photo.value].name, block.camera_of(p), p.pose, 0});
    const PosedPhoto& t = set.truth.photos[p.photo.value];
    truth.push_back({set.photos[p.photo.value].name, set.truth.camera_of(t), t.pose, set.gsd[p.photo.value]});
    compared_photos.push_back(static_cast<std::uint32_t>(&p - block.photos.data()));
  }
  verdict.sizes += fmt::format("{}{}", b ? "+" : "", block.photos.size());
  verdict.posed += block.photos.size();
  const auto compared = compare_cameras(got, truth);
  if (!compared) return;
  for (std::size_t i = 0; i < compared->photos.size(); ++i) {
    PhotoError e = compared->photos[i];
    e.position_gsd = e.position / set.gsd[block.photos[compared_photos[i]].photo.value];
    e.wrong = e.position_gsd > 10 || e.orientation_deg > 1;
    verdict.wrong += e.wrong;
    verdict.errors.push_back(e.position_gsd);
    verdict.largest = std::max(verdict.largest, e.position_gsd);
    if (request.names && e.wrong)
      fmt::print("  wrong: {} {:.1f} GSD {:.2f} degrees\n", e.name, e.position_gsd, e.orientation_deg);
  }
  if (b > 0) return;
  const BlockStatistics statistics = block_statistics(block);
  verdict.rms = statistics.rms_px, verdict.kept = statistics.kept_percent;
  if (!request.predict) return;
  const BlockPrecision& precision = result.precision[b];
  if (!precision.known) fmt::print("  no prediction: {}\n", precision.outcome);
  for (std::size_t i = 0; precision.known && i < compared->photos.size(); ++i)
    verdict.ratios.push_back(compared->photos[i].position /
                             (precision.place_sigma[compared_photos[i]] * compared->to_truth.scale));
}

Verdict judge(const simulate::MatchedSet& set, const OrientResult& result, const Request& request) {
  Verdict verdict;
  std::vector<bool> in_block(set.photos.size(), false), doubtful(set.photos.size(), false);
  for (const DoubtfulPhoto& d : result.doubtful) doubtful[d.photo.value] = true;
  for (std::size_t b = 0; b < result.blocks.size(); ++b) {
    for (const PosedPhoto& p : result.blocks[b].photos) in_block[p.photo.value] = true;
    judge_block(set, result, b, doubtful, request, verdict);
  }
  for (std::size_t i = 0; i < set.photos.size(); ++i) verdict.missed += set.usable[i] && !in_block[i];
  if (!request.names) return verdict;
  for (const DoubtfulPhoto& d : result.doubtful)
    fmt::print("  doubtful: {}: {}\n", set.photos[d.photo.value].name, d.reason);
  for (const UnposedPhoto& u : result.unposed)
    fmt::print("  {}{}: {}\n", set.photos[u.photo.value].name, set.usable[u.photo.value] ? "" : " (not usable)",
               u.reason);
  return verdict;
}

void study(const Request& request, const Executor& executor, Monitor& monitor) {
  const auto made_at = Clock::now();
  const simulate::MatchedSet set = make_matched_set(request.made, executor);
  if (request.verbose) {
    std::vector<std::size_t> counts;
    std::size_t verified = 0;
    for (const OrientPhoto& photo : set.photos) counts.push_back(photo.keypoints.size());
    for (const PairMatches& pair : set.pairs) verified += pair.verified();
    const Tracks tracks = build_tracks(set.pairs, counts);
    fmt::print(stderr, "made in {:.1f} s: {} pairs, {} verified, {} wrong, {} tracks, {} elements\n",
               seconds_since(made_at), set.pairs.size(), verified, set.wrong_pairs, tracks.size(),
               tracks.elements.size());
  }
  const auto start = Clock::now();
  const OrientResult result = orient(set.photos, set.priors, set.pairs, request.orient, executor, monitor);
  const double seconds = seconds_since(start);
  const Verdict v = judge(set, result, request);
  fmt::print("{:>5} {:>6} {:>7} {:>6} {:>7} {:>8} {:>6} {:>9} {:>7.3f} {:>8.1f} {:>8.3f} {:>7.2f} {:>8.1f} {:>7.2f}\n",
             request.made.seed, set.photos.size(), std::count(set.usable.begin(), set.usable.end(), true), v.posed,
             v.missed, result.doubtful.size(), v.wrong, v.sizes, v.rms, v.kept, median(v.errors), v.largest, seconds,
             median(v.ratios));
  std::fflush(stdout);
}

}  // namespace

int main(int argc, char** argv) {
  Arguments app("Orientation of made-up photo sets with known truth");
  Request request;
  ask(app, request);
  if (!app.parse(argc, argv)) return app.status();
  Settings settings;
  for (const std::string& entry : request.settings)
    settings.set(entry.substr(0, entry.find('=')), entry.substr(entry.find('=') + 1));
  request.orient = settings.pose;
  if (request.at_once) request.orient.way = OrientWay::all_at_once;
  const Executor executor(request.threads);
  Talk monitor(request.verbose);
  fmt::print("{:>5} {:>6} {:>7} {:>6} {:>7} {:>8} {:>6} {:>9} {:>7} {:>8} {:>8} {:>7} {:>8} {:>7}\n", "seed", "photos",
             "usable", "posed", "missed", "doubtful", "wrong", "in blocks", "RMS px", "kept %", "GSD", "largest",
             "seconds", "ratio");
  for (int s = 0; s < request.seeds; ++s, ++request.made.seed) study(request, executor, monitor);
  rusage usage{};
  getrusage(RUSAGE_SELF, &usage);
  fmt::print("{} MB at most\n", usage.ru_maxrss / 1024);
  return 0;
}
