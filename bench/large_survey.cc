// large_survey FOLDER --photos 5000: a survey of so many made-up photos, from the list of photos to the export of its
// blocks, with time and memory of each part. Photos are plain pictures; what `match` would find in them is made up
// (simulate/matched_set.h) and laid into the survey's records, so that all the rest runs as it does for a user. With
// --again only what comes after, on what is there.
#include <fmt/format.h>
#include <sys/resource.h>

#include <chrono>
#include <filesystem>

#include "app/arguments.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/ply_file.h"
#include "icefield/io/text_file.h"
#include "icefield/survey/survey.h"
#include "simulate/matched_set.h"
#include "src/survey/match_records.h"
#include "src/survey/records.h"
#include "src/survey/step_table.h"
#include "src/survey/survey_state.h"

namespace {

using namespace icefield;
namespace fs = std::filesystem;

double peak_megabytes() {
  rusage usage{};
  getrusage(RUSAGE_SELF, &usage);
  return static_cast<double>(usage.ru_maxrss) / 1024;
}

// A line for each part.
template <class Part>
void timed(const char* name, const Part& part) {
  const auto start = std::chrono::steady_clock::now();
  part();
  fmt::print("{:<44} {:>8.1f} s {:>8.0f} MB at most so far\n", name, seconds_since(start), peak_megabytes());
  std::fflush(stdout);
}

void write_photos(const fs::path& folder, std::size_t count, int width, int height, const Executor& executor) {
  fs::create_directories(folder);
  executor.run("", count, silent_monitor(), [&](std::size_t i) {
    ImageU8 image(width, height, 1, 128);
    for (int bit = 0; bit < 32; ++bit)  // no two are the same file
      for (int x = 0; x < 16; ++x)
        for (int y = 0; y < 16; ++y) image.at(16 * bit + x, y) = (i >> bit) & 1 ? 200 : 40;
    write_photo(folder / fmt::format("ice_{:05}.jpg", i), image);
  });
}

// What `match` would have left. Keypoints with empty descriptors: nothing looks at them any more.
void lay_in_matches(const fs::path& folder, const simulate::MatchedSet& set, const Executor& executor) {
  Survey survey(folder, executor, silent_monitor());
  const PhotoList& list = survey.photos();
  Store store(folder / "work" / "records.sqlite", silent_monitor());
  MatchRecords records(store, list, survey.settings());
  for (std::size_t i = 0; i < list.used; ++i) {
    Features features;
    features.keypoints = set.photos[i].keypoints;
    features.descriptors.resize(kDescriptorSize * features.keypoints.size());
    records.keep_features(PhotoIndex(i), features_to_bytes(features));
  }
  PairChoice choice;
  for (const PairMatches& pair : set.pairs) {
    ProposedPair tried{pair.first, pair.second};
    choice.pairs.push_back(tried);
    records.put(tried, pair);
  }
  std::sort(choice.pairs.begin(), choice.pairs.end(), [](const ProposedPair& a, const ProposedPair& b) {
    return std::pair(a.first, a.second) < std::pair(b.first, b.second);
  });
  store.put("pairs", survey.key_of_match(), pairs_record(choice));
}

void make_survey(const fs::path& survey_folder, const simulate::MatchedSetOptions& options, const Executor& executor) {
  simulate::MatchedSet set;
  timed("(made up: matches)", [&] { set = make_matched_set(options, executor); });
  const Camera& prior = set.priors[0].camera;
  const std::size_t count = set.photos.size();
  timed("(made up: photos)",
        [&] { write_photos(survey_folder / "photos", count, prior.width, prior.height, executor); });
  Survey::begin(survey_folder, {survey_folder / "photos"});
  {
    Survey survey(survey_folder, executor, silent_monitor());
    timed("photos, the first time", [&] { survey.photos(); });
    GivenCamera given;
    given.focal_px = prior.focal(), given.uncertainty_percent = set.priors[0].focal_uncertainty_percent;
    survey.set_camera(survey.photos().cameras[0].name, given);
  }
  timed("(made up: records)", [&] { lay_in_matches(survey_folder, set, executor); });
}

}  // namespace

int main(int argc, char** argv) {
  Arguments app{"A survey of many made-up photos, part by part"};
  std::string folder;
  simulate::MatchedSetOptions options;
  options.kind = "flight", options.photos = 5000, options.features = 400, options.focal_error_percent = 2;
  int threads = 0;
  bool again = false;
  app.option("folder", folder, "made anew").required();
  app.flag("--again", again, "Go on with what a run before left in the folder");
  app.option("--photos", options.photos).with_default();
  app.option("--features", options.features, "of a photo").with_default();
  app.option("--kind", options.kind).with_default();
  app.option("--seed", options.seed).with_default();
  app.option("--threads", threads).with_default();
  if (!app.parse(argc, argv)) return app.status();
  try {
    const Executor executor(threads);
    const fs::path survey_folder = folder;
    if (!again) make_survey(survey_folder, options, executor);
    const auto fresh = [&] { return Survey(survey_folder, executor, silent_monitor()); };
    timed("photos, again", [&] { fresh().photos(); });
    timed("match, all pairs known", [&] { fresh().match(); });
    timed("match, fresh", [&] { fresh().match(); });
    timed("pose", [&] {
      Survey survey = fresh();
      const OrientResult& result = survey.pose();
      fmt::print("  {}\n", result.summary.outcome);
    });
    timed("pose, fresh", [&] { fresh().pose(); });
    timed("status", [&] { fresh().status(); });
    timed("what it takes on disk", [&] { fresh().disk_use(); });
    timed("automatic bounds", [&] {
      Survey survey = fresh();
      const Block& block = survey.block(0);
      timed("  of them, the bounds alone", [&] { automatic_bounds(block); });
    });
    timed("neighbours for dense matching", [&] {
      Survey survey = fresh();
      const Block& block = survey.block(0);
      const Bounds box = automatic_bounds(block);
      timed("  of them, the choice alone", [&] { choose_views(block, box, survey.settings().dense); });
    });
    timed("coverage", [&] { fresh().coverage(0); });
    timed("estimate of the dense step", [&] { fresh().estimate_densify(); });
    timed("tie points exported", [&] { write_ply(survey_folder / "tie_points.ply", fresh().tie_points(0)); });
    timed("cameras exported", [&] { write_camera_file(survey_folder / "cameras.json", fresh().cameras(0)); });
    timed("adjust", [&] { fresh().adjust({}); });
    timed("undo", [&] { fresh().undo_adjust(); });
  } catch (const Error& error) {
    fmt::print(stderr, "large_survey: {}\n", error.what());
    return 3;
  }
}
