// From a folder of photos to a dense cloud, by calls: whole_chain PHOTO_FOLDER CLOUD.ply
// Nothing is kept between runs here; the survey folder of the command-line tool does that with the same calls.
#include <fmt/format.h>

#include <map>
#include <mutex>

#include "icefield/dense/dense.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/ply_file.h"
#include "icefield/match/match_set.h"
#include "icefield/orient/orient.h"
#include "icefield/photo/filter.h"

using namespace icefield;

// The dense part asks for photos when it needs them,
struct Photos : PhotoSource {
  std::vector<std::filesystem::path> files;
  ImageU8 load(PhotoIndex photo) override { return read_photo(files[photo.value]); }
};

// and keeps depth maps where it is told to; here in memory.
struct Maps : DepthMapStore {
  std::mutex mutex;
  std::map<std::pair<PhotoIndex, int>, DepthMap> maps;
  std::optional<DepthMap> get(PhotoIndex photo, int round) override {
    const std::lock_guard lock(mutex);
    const auto found = maps.find({photo, round});
    return found == maps.end() ? std::nullopt : std::optional(found->second);
  }
  void put(PhotoIndex photo, int round, const DepthMap& map) override {
    const std::lock_guard lock(mutex);
    maps[{photo, round}] = map;
  }
};

int main(int argc, char** argv) try {
  if (argc != 3) {
    fmt::print(stderr, "usage: whole_chain PHOTO_FOLDER CLOUD.ply\n");
    return 2;
  }
  const Executor executor;
  Monitor monitor;
  Photos source;
  source.files = find_photo_files({argv[1]});
  const std::size_t count = source.files.size();
  if (count < 2) throw Error(ErrorKind::input, argv[1], "holds fewer than two photos", "name another folder");

  // Features of each photo. All photos are taken to be by one camera.
  const PhotoMetadata metadata = read_photo_metadata(source.files[0]);
  const FocalGuess focal = guess_focal(metadata, SensorTable::built_in());
  const CameraPrior prior{make_camera(CameraModel::radial, metadata.width, metadata.height, focal.focal_px),
                          focal.uncertainty_percent};
  std::vector<Features> features(count);
  executor.run("features", count, monitor,
               [&](std::size_t i) { features[i] = find_features(to_grey(source.load(PhotoIndex(i)))); });

  // Verified matches: pairs are chosen by quick looks where there are many photos, and photos that stand far apart are
  // matched anew with narrowed copies.
  MatchMemory matched(std::move(features),
                      [&](PhotoIndex i) { return find_narrowed_features(to_grey(source.load(i))); });
  std::vector<SetPhoto> set(count);
  for (std::size_t i = 0; i < count; ++i) set[i].camera = prior, set[i].seed = i;
  std::vector<PairMatches> pairs;
  for (const ProposedPair& tried : match_set(set, {}, {}, matched, executor, monitor).choice.pairs)
    pairs.push_back(matched.get(tried));
  std::vector<OrientPhoto> photos;
  for (std::size_t i = 0; i < count; ++i)
    photos.push_back({source.files[i].filename().string(), CameraIndex(0), matched.keypoints(PhotoIndex(i))});

  // Poses and tie points.
  const CameraPrior priors[] = {prior};
  const OrientResult oriented = orient(photos, priors, pairs, {}, executor, monitor);
  fmt::print("{}\n", oriented.summary.outcome);
  for (const UnposedPhoto& u : oriented.unposed) fmt::print("  {}: {}\n", photos[u.photo.value].name, u.reason);
  if (oriented.blocks.empty()) return 1;
  const BlockStatistics statistics = block_statistics(oriented.blocks[0]);
  fmt::print("{} tie points, RMS {:.3f} px over {} observations ({:.1f} percent kept)\n", statistics.points,
             statistics.rms_px, statistics.observations, statistics.kept_percent);

  // Depth maps and cloud.
  Maps maps;
  DenseOptions options;
  options.shrink = std::max(metadata.width, metadata.height) > 1000 ? 2 : 1;
  const DenseResult dense = densify(oriented.blocks[0], source, maps, std::nullopt, options, executor, monitor);
  write_ply(argv[2], dense.cloud);
  fmt::print("{} in {}\n", dense.summary.outcome, argv[2]);
  return 0;
} catch (const Error& e) {
  fmt::print(stderr, "{}\n", e.what());
  return 1;
}
