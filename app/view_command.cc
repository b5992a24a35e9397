#include <algorithm>

#include "icefield/draw/draw.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/ply_file.h"
#include "parts.h"

namespace {

// What was found in photos and between them.
ImageU8 view_of_matching(Survey& survey, const ViewRequest& request, DrawOptions options) {
  const PhotoList& list = survey.photos();
  const std::string job = options.title;
  const auto pixels = [&](std::size_t i) { return read_photo(list.photos[i].file, survey.settings().photo); };
  if (request.what == "features") {
    const std::size_t i = photo_by_name(list, request.photo, 0);
    options.title = fmt::format("{}: features of {}", job, list.photos[i].name);
    return draw_features(pixels(i), survey.features(PhotoIndex(i)).keypoints, options);
  }
  const MatchedPhotos matched = survey.matched();
  if (request.what == "pairs") {
    std::vector<std::string> names;
    for (std::size_t i = 0; i < list.used; ++i) names.push_back(list.photos[i].name);
    options.title = job + ": pairs of photos";
    return draw_pair_table(names, matched.pairs, options);
  }
  const PairMatches* pair = nullptr;
  const std::size_t first = photo_by_name(list, request.photo, list.used), second = photo_by_name(list, request.other, list.used);
  for (const PairMatches& p : matched.pairs) {
    const std::size_t a = p.first.value, b = p.second.value;
    const auto fits = [&](std::size_t x, std::size_t y) { return (first == list.used || first == x) && (second == list.used || second == y); };
    if ((fits(a, b) || fits(b, a)) && (!pair || p.matches.size() > pair->matches.size())) pair = &p;
  }
  if (!pair) throw Error(ErrorKind::usage, "pair", "was not tried by `match`", "`icefield view " + survey.folder().string() + " pairs` shows which were; --pairs adds others");
  const std::size_t i = pair->first.value, j = pair->second.value;
  const Features a = survey.features(pair->first), b = survey.features(pair->second);
  std::vector<Match> rejected;
  for (const Match& m : match_descriptors(a, b, survey.settings().descriptor))
    if (std::none_of(pair->matches.begin(), pair->matches.end(), [&](const Match& v) { return v.first == m.first && v.second == m.second; })) rejected.push_back(m);
  options.title = fmt::format("{}: {} and {}: {}", job, list.photos[i].name, list.photos[j].name, name_of(pair->state));
  return draw_matches({pixels(i), a.keypoints}, {pixels(j), b.keypoints}, pair->matches, rejected, options);
}

}  // namespace

int view_command(const Common& common, const ViewRequest& request, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  DrawOptions options;
  options.azimuth_deg = request.azimuth_deg;
  options.elevation_deg = request.elevation_deg;
  options.title = fs::weakly_canonical(survey.folder()).filename().string();
  ImageU8 picture;
  const auto chosen_block = [&]() -> const Block& {
    const OrientResult& result = posed_or_throw(survey);
    if (request.block > result.blocks.size()) throw Error(ErrorKind::usage, fmt::format("block {}", request.block), "does not exist", fmt::format("the survey has {}", result.blocks.size()));
    return result.blocks[request.block - 1];
  };
  if (request.what == "features" || request.what == "matches" || request.what == "pairs") {
    picture = view_of_matching(survey, request, options);
  } else if (request.what == "depth") {
    const Block& block = chosen_block();
    std::size_t index = 0;
    if (!request.photo.empty()) {
      index = block.photos.size();
      for (std::size_t i = 0; i < block.photos.size(); ++i)
        if (survey.photo_name(block.photos[i].photo) == request.photo) index = i;
      if (index == block.photos.size()) throw Error(ErrorKind::usage, request.photo, "is no photo of the block", "`icefield photos` lists them");
    }
    const auto map = survey.depth_map(request.block - 1, index);
    if (!map) throw Error(ErrorKind::usage, survey.folder().string(), "has no fresh depth map of this photo", "run `icefield densify " + survey.folder().string() + "` first");
    options.title += ": depth of " + survey.photo_name(block.photos[index].photo);
    picture = draw_depth(*map, options, survey.settings().dense.max_cost);
  } else {
    const Block& block = chosen_block();
    const bool dense = request.what == "cloud";
    const PointCloud cloud = read_ply(block_file(survey, request.block, dense ? "dense.ply" : "tie_points.ply", dense ? "densify" : "pose"));
    options.title += dense ? ": dense cloud" : ": tie points and photos";
    picture = draw_cloud(cloud, dense ? std::vector<PosedPhoto>{} : block.photos, dense ? std::nullopt : std::optional<Bounds>(automatic_bounds(block)), options);
  }
  fs::path file = request.output;
  if (file.empty()) file = survey.folder() / "results" / (request.what + ".png");
  fs::create_directories(fs::absolute(file).parent_path());
  write_photo(file, picture);
  if (common.json)
    print_json({{"file", file.string()}});
  else
    fmt::print("{}\n", file.string());
  return 0;
}
