#include <algorithm>

#include "icefield/adjust/uncertainty.h"
#include "icefield/block/bounds.h"
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
    const std::size_t i = photo_by_name(survey, request.photo, 0);
    options.title = fmt::format("{}: features of {}", job, list.photos[i].name);
    return draw_features(pixels(i), survey.features(PhotoIndex(i)).keypoints, options);
  }
  need_matches(survey);
  const MatchedPhotos matched = survey.matched();
  if (request.what == "pairs") {
    std::vector<std::string> names;
    for (std::size_t i = 0; i < list.used; ++i) names.push_back(list.photos[i].name);
    options.title = job + ": pairs of photos";
    return draw_pair_table(names, matched.pairs, options);
  }
  const PairMatches* pair = nullptr;
  const std::size_t first = photo_by_name(survey, request.photo, list.used),
                    second = photo_by_name(survey, request.other, list.used);
  for (const PairMatches& p : matched.pairs) {
    const std::size_t a = p.first.value, b = p.second.value;
    const auto fits = [&](std::size_t x, std::size_t y) {
      return (first == list.used || first == x) && (second == list.used || second == y);
    };
    if ((fits(a, b) || fits(b, a)) && (!pair || p.matches.size() > pair->matches.size())) pair = &p;
  }
  if (!pair)
    throw Error(ErrorKind::usage, "pair", "was not tried by `match`",
                "`icefield view " + survey.folder().string() + " pairs` shows which were; --pairs adds others");
  const std::size_t i = pair->first.value, j = pair->second.value;
  const Features a = survey.features(pair->first), b = survey.features(pair->second);
  std::vector<Match> rejected;
  for (const Match& m : match_descriptors(a, b, survey.settings().descriptor))
    if (std::none_of(pair->matches.begin(), pair->matches.end(),
                     [&](const Match& v) { return v.first == m.first && v.second == m.second; }))
      rejected.push_back(m);
  options.title = fmt::format("{}: {} and {}: {}", job, list.photos[i].name, list.photos[j].name,
                              pair->verified() ? describe(pair->geometry) : describe(pair->fault));
  return draw_matches({pixels(i), matched.keypoints[i]}, {pixels(j), matched.keypoints[j]}, pair->matches, rejected,
                      options);
}

Side side_of(const std::string& from) {
  return from == "above"   ? Side::above
         : from == "front" ? Side::front
         : from == "side"  ? Side::side
                           : Side::perspective;
}

ImageU8 view_of_block(Survey& survey, const Block& block, const ViewRequest& request, DrawOptions options,
                      const Executor& executor, Monitor& monitor) {
  const PointCloud points = survey.tie_points(request.block - 1);
  DrawBlockOptions wanted;
  wanted.from = side_of(request.from);
  wanted.names = !request.no_names;
  if (request.by == "height" || request.by == "normal" || request.by == "error" || request.by == "confidence" ||
      request.by == "depth" || request.by == "distance")
    throw Error(ErrorKind::usage, "--by " + request.by, "says nothing of a block",
                "give colour, views, residual or uncertainty");
  std::vector<std::string> names;
  const OrientResult& result = posed_or_throw(survey);
  for (const PosedPhoto& photo : block.photos) {
    names.push_back(survey.photo_name(photo.photo));
    wanted.marked.push_back(std::any_of(result.doubtful.begin(), result.doubtful.end(),
                                        [&](const DoubtfulPhoto& d) { return d.photo == photo.photo; }));
  }
  if (request.by == "views") {
    wanted.meaning = "photos";
    for (std::size_t p = 0; p < block.points.size(); ++p)
      wanted.values.push_back(static_cast<double>(block.of_point(p).size()));
  } else if (request.by == "residual") {
    wanted.meaning = "RMS, px";
    for (std::size_t p = 0; p < block.points.size(); ++p) {
      double sum2 = 0;
      for (const Observation& o : block.of_point(p))
        sum2 += residual_px(block, block.points[p], o).value_or(Eigen::Vector2d::Zero()).squaredNorm();
      wanted.values.push_back(std::sqrt(sum2 / static_cast<double>(block.of_point(p).size())));
    }
  } else if (request.by == "uncertainty") {
    wanted.meaning = "st. dev., GSD";
    wanted.logarithmic = true;
    std::vector<CameraPrior> priors;
    for (const SurveyCamera& camera : survey.photos().cameras) priors.push_back(camera.prior);
    const Uncertainty uncertain = uncertainty(
        block, final_adjust_options(block, priors, survey.settings().pose, result.summary.held), {}, executor, monitor);
    if (!uncertain.valid)
      throw Error(ErrorKind::computation, fmt::format("block {}", request.block),
                  "has no covariances (" + uncertain.outcome + ")", "draw it by colour, views or residual");
    for (std::size_t p = 0; p < block.points.size(); ++p) {
      double gsd = 1e300;
      for (const Observation& o : block.of_point(p))
        gsd = std::min(gsd, (block.photos[o.photo].pose.centre - block.points[p]).norm() /
                                block.camera_of(block.photos[o.photo]).focal());
      wanted.values.push_back(std::sqrt(uncertain.points[p].trace()) / gsd);
    }
  }
  return draw_block(points, block.photos, names, automatic_bounds(block), wanted, options);
}

// From the files that are there, whatever they were made for.
ImageU8 view_of_stale_block(Survey& survey, const ViewRequest& request, const DrawOptions& options, Monitor& monitor) {
  if (request.by != "colour")
    throw Error(ErrorKind::usage, "--by " + request.by, "needs a fresh block",
                "run `icefield pose " + survey.folder().string() + "` first, or draw it by colour");
  const CameraFile cameras = read_camera_file(file_as_it_is(survey, request.block, "cameras.json", monitor));
  const PointCloud points = read_ply(survey.block_folder(request.block - 1) / "tie_points.ply");
  std::vector<PosedPhoto> photos;
  std::vector<std::string> names;
  for (const CameraFile::Photo& photo : cameras.photos) {
    PosedPhoto posed;
    posed.camera = CameraIndex(photo.camera);
    posed.pose = photo.pose;
    photos.push_back(posed);
    names.push_back(photo.name);
  }
  DrawBlockOptions wanted;
  wanted.from = side_of(request.from);
  wanted.names = !request.no_names;
  return draw_block(points, photos, names, cameras.bounds.value_or(Bounds{}), wanted, options);
}

PointCloud other_cloud(const ViewRequest& request, const std::string& what) {
  if (request.other.empty()) throw Error(ErrorKind::usage, what, "needs another cloud", "name a PLY file with --with");
  PointCloud other = read_ply(request.other);
  if (other.size() == 0) throw Error(ErrorKind::input, request.other, "has no point", "give a cloud with points");
  return other;
}

ImageU8 view_of_clouds(const PointCloud& cloud, const fs::path& file, const ViewRequest& request, DrawOptions options,
                       const Executor& executor) {
  const PointCloud other = other_cloud(request, "view clouds");
  if (cloud.size() == 0) throw Error(ErrorKind::input, file.string(), "has no point", "give a cloud with points");
  // Clouds of two surveys have one name: then the ends of their paths, as far as there is room.
  const bool alike = file.filename() == fs::path(request.other).filename();
  const auto name_of = [&](const fs::path& path) {
    constexpr std::size_t kRoom = 32;
    const std::string whole = alike ? path.string() : path.filename().string();
    return whole.size() <= kRoom ? whole : "..." + whole.substr(whole.size() - kRoom);
  };
  options.title += ": two clouds, and how far their points are from each other";
  return draw_two_clouds({cloud, name_of(file), distances(cloud, other, executor)},
                         {other, name_of(request.other), distances(other, cloud, executor)}, side_of(request.from),
                         options);
}

ImageU8 view_of_cloud(PointCloud cloud, const ViewRequest& request, DrawOptions options, const Executor& executor) {
  DrawCloudOptions wanted;
  wanted.from = side_of(request.from);
  const auto take = [&](const auto& values, const char* what, const char* meaning) {
    if (values.empty())
      throw Error(ErrorKind::usage, "--by " + request.by, fmt::format("needs {}, which the cloud does not carry", what),
                  "draw it by colour or height");
    wanted.values.assign(values.begin(), values.end());
    wanted.meaning = meaning;
  };
  if (request.by == "height") {
    for (std::size_t i = 0; i < cloud.size(); ++i) wanted.values.push_back(cloud.position(i).z());
    wanted.meaning = "height";
  } else if (request.by == "views") {
    take(cloud.views, "views", "photos");
  } else if (request.by == "error") {
    take(cloud.errors, "expected errors", "expected error");
    wanted.logarithmic = true;
  } else if (request.by == "normal") {
    if (cloud.normals.empty())
      throw Error(ErrorKind::usage, "--by normal", "needs normals, which the cloud does not carry",
                  "`icefield cloud --normals` makes them");
    cloud.colours.clear();
    for (const Eigen::Vector3f& n : cloud.normals) cloud.colours.push_back(normal_colour(n));
  } else if (request.by == "distance") {
    wanted.values = distances(cloud, other_cloud(request, "--by distance"), executor);
    std::vector<double> sorted = wanted.values;
    std::sort(sorted.begin(), sorted.end());
    if (!sorted.empty())
      options.title +=
          fmt::format(", to {}: middle {:.3g}, 95 percent under {:.3g}", fs::path(request.other).filename().string(),
                      sorted[sorted.size() / 2], sorted[sorted.size() * 95 / 100]);
    wanted.meaning = "distance";
    wanted.logarithmic = true;
  } else if (request.by != "colour") {
    throw Error(ErrorKind::usage, "--by " + request.by, "says nothing of a cloud",
                "give colour, height, normal, views, error or distance");
  }
  if (request.by != "colour" && request.by != "distance") options.title += " by " + request.by;
  return draw_cloud(cloud, {}, std::nullopt, options, wanted);
}

}  // namespace

int view_command(const Common& common, const ViewRequest& request, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  DrawOptions options;
  options.azimuth_deg = request.azimuth_deg;
  options.elevation_deg = request.elevation_deg;
  options.title = fs::weakly_canonical(survey.folder()).filename().string();
  ImageU8 picture;
  const auto block_now = [&]() -> const Block& { return chosen_block(survey, request.block); };
  if (request.what == "features" || request.what == "matches" || request.what == "pairs") {
    picture = view_of_matching(survey, request, options);
  } else if (request.what == "depth") {
    const Block& block = block_now();
    const std::size_t index = photo_of_block(survey, block, request.photo);
    const DepthMap map = depth_map_of(survey, request.block, index);
    const std::string layer = request.by == "colour" ? "depth" : request.by;
    const MapLayer layers = layer == "normal"       ? MapLayer::normals
                            : layer == "confidence" ? MapLayer::confidence
                            : layer == "views"      ? MapLayer::support
                                                    : MapLayer::depth;
    if (layers == MapLayer::depth && layer != "depth")
      throw Error(ErrorKind::usage, "--by " + layer, "says nothing of a depth map",
                  "give depth, normal, confidence or views");
    options.title += fmt::format(": {} of {}",
                                 layers == MapLayer::depth        ? "depth"
                                 : layers == MapLayer::normals    ? "normals"
                                 : layers == MapLayer::confidence ? "confidence"
                                                                  : "photos that support the depth",
                                 survey.photo_name(block.photos[index].photo));
    picture = draw_depth(map, options, survey.settings().dense.max_cost, layers);
  } else if (request.what == "cloud" || request.what == "clouds") {
    const fs::path file = !request.file.empty() ? fs::path(request.file)
                          : request.stale       ? file_as_it_is(survey, request.block, "dense.ply", monitor)
                                                : survey.cloud_file(request.block - 1);
    PointCloud cloud = !request.file.empty() || request.stale ? read_ply(file) : survey.cloud(request.block - 1);
    if (request.what == "clouds") {
      picture = view_of_clouds(cloud, file, request, options, Executor(common.threads));
    } else {
      options.title += request.file.empty() ? ": dense cloud" : ": " + file.filename().string();
      picture = view_of_cloud(std::move(cloud), request, options, Executor(common.threads));
    }
  } else if (request.what == "block" && request.stale && !survey.posed()) {
    options.title += ": tie points and photos, stale";
    picture = view_of_stale_block(survey, request, options, monitor);
  } else if (request.what == "block") {
    const Block& block = block_now();
    options.title +=
        request.by == "colour" ? ": tie points and photos" : fmt::format(": tie points by {}, and photos", request.by);
    picture = view_of_block(survey, block, request, options, Executor(common.threads), monitor);
  } else if (request.what == "lens") {
    const Block& block = block_now();
    if (request.camera > block.cameras.size())
      throw Error(ErrorKind::usage, fmt::format("camera {}", request.camera), "does not exist",
                  fmt::format("the survey has {}", block.cameras.size()));
    options.title += ": mean residuals over the image plane of " + survey.photos().cameras[request.camera - 1].name;
    picture = draw_lens(block, CameraIndex(request.camera - 1), request.enlarged, options);
  } else {
    const Block& block = block_now();
    const std::size_t index = photo_of_block(survey, block, request.photo);
    const PosedPhoto& posed = block.photos[index];
    const ImageU8 image = read_photo(survey.photos().photos[posed.photo.value].file, survey.settings().photo);
    if (request.what == "through") {
      const PointCloud cloud = request.cloud ? survey.cloud(request.block - 1) : survey.tie_points(request.block - 1);
      options.title += fmt::format(": {} and the {} through its pose", survey.photo_name(posed.photo),
                                   request.cloud ? "dense cloud" : "tie points");
      picture = draw_through(image, cloud, block.camera_of(posed), posed.pose, options);
    } else {
      std::vector<PhotoResidual> residuals;
      for (std::size_t p = 0; p < block.points.size(); ++p)
        for (const Observation& o : block.of_point(p))
          if (o.photo == index)
            if (const auto r = residual_px(block, block.points[p], o)) residuals.push_back({o.pixel, *r});
      options.title += ": residuals of " + survey.photo_name(posed.photo);
      std::vector<Keypoint> keypoints = survey.keypoints(posed.photo);
      std::vector<FeatureUse> uses = survey.feature_uses(request.block - 1, index);
      // Of narrowed copies those that were matched: the others stand beside features of the photo itself.
      std::size_t shown = survey.features(posed.photo).size();
      for (std::size_t k = shown; k < keypoints.size(); ++k)
        if (uses[k] != FeatureUse::not_matched) keypoints[shown] = keypoints[k], uses[shown++] = uses[k];
      keypoints.resize(shown), uses.resize(shown);
      picture = draw_residuals(image, residuals, keypoints, uses, request.enlarged, options);
    }
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
