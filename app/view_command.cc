// `icefield view`: results as pictures.
#include <algorithm>
#include <nlohmann/json.hpp>

#include "command.h"
#include "icefield/adjust/uncertainty.h"
#include "icefield/base/statistics.h"
#include "icefield/block/bounds.h"
#include "icefield/draw/draw.h"
#include "icefield/draw/draw_marks.h"
#include "icefield/draw/draw_mesh.h"
#include "icefield/draw/draw_terrain.h"
#include "icefield/io/mesh_file.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/ply_file.h"
#include "icefield/io/raster_file.h"
#include "icefield/io/tiled_cloud.h"
#include "icefield/io/vector_file.h"
#include "icefield/judge/point_quality.h"
#include "icefield/photo/filter.h"

using namespace icefield;
using Eigen::Vector2d;
namespace fs = std::filesystem;

namespace {

struct Request {
  std::size_t block = 1, camera = 1;
  std::string what = "block", photo, other, output, file, from = "perspective", by = "colour", point, model = "dsm";
  bool no_names = false, cloud = false, stale = false;
  double enlarged = 0;
  double azimuth_deg = 35, elevation_deg = 28;
};

// The one named, or else the first of the block.
std::size_t photo_of_block(Survey& survey, const Block& block, const std::string& name) {
  return name.empty() ? 0 : survey.photo_of_block(block, name);
}

// What was found in photos and between them.
ImageU8 view_of_matching(Survey& survey, const Request& request, DrawOptions options) {
  const PhotoList& list = survey.photos();
  const std::string job = options.title;
  const auto source = survey.source();
  const auto pixels = [&](std::size_t i) { return source->load(PhotoIndex(i)); };
  if (request.what == "features") {
    const std::size_t i = (request.photo.empty() ? 0 : survey.photo_index(request.photo).value);
    options.title = fmt::format("{}: features of {}", job, list.photos[i].name);
    return draw_features(pixels(i), survey.features(PhotoIndex(i)).keypoints, options);
  }
  survey.need_matches();
  const MatchedPhotos matched = survey.matched();
  if (request.what == "pairs") {
    std::vector<std::string> names;
    for (std::size_t i = 0; i < list.used; ++i) names.push_back(list.photos[i].name);
    options.title = job + ": pairs of photos";
    return draw_pair_table(names, matched.pairs, options);
  }
  const PairMatches* pair = nullptr;
  const auto place_of = [&](const std::string& name) {
    return name.empty() ? list.used : survey.photo_index(name).value;
  };
  const std::size_t first = place_of(request.photo), second = place_of(request.other);
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

ImageU8 view_of_block(Survey& survey, const Block& block, const Request& request, DrawOptions options,
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
  const OrientResult& result = survey.need_posed();
  for (const PosedPhoto& photo : block.photos) {
    names.push_back(survey.photo_name(photo.photo));
    wanted.marked.push_back(std::any_of(result.doubtful.begin(), result.doubtful.end(),
                                        [&](const DoubtfulPhoto& d) { return d.photo == photo.photo; }));
  }
  if (request.by == "views") {
    wanted.meaning = "photos";
    wanted.values = point_views(block);
  } else if (request.by == "residual") {
    wanted.meaning = "RMS, px";
    wanted.values = point_rms_px(block);
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
    wanted.values = point_sigma_gsd(block, uncertain);
  }
  return draw_block(points, block.photos, names, automatic_bounds(block), wanted, options);
}

// From the files that are there, whatever they were made for.
ImageU8 view_of_stale_block(Survey& survey, const Request& request, const DrawOptions& options) {
  if (request.by != "colour")
    throw Error(ErrorKind::usage, "--by " + request.by, "needs a fresh block",
                "run `icefield pose " + survey.folder().string() + "` first, or draw it by colour");
  const CameraFile cameras = read_camera_file(survey.file_as_it_is(request.block - 1, "cameras.json"));
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

PointCloud other_cloud(const Request& request, const std::string& what) {
  if (request.other.empty()) throw Error(ErrorKind::usage, what, "needs another cloud", "name a PLY file with --with");
  PointCloud other = read_cloud(request.other);
  if (other.size() == 0) throw Error(ErrorKind::input, request.other, "has no point", "give a cloud with points");
  return other;
}

ImageU8 view_of_clouds(const PointCloud& cloud, const fs::path& file, const Request& request, DrawOptions options,
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

ImageU8 view_of_cloud(PointCloud cloud, const Request& request, DrawOptions options, const Executor& executor) {
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

ImageU8 view_of_depth(Survey& survey, const Block& block, const Request& request, DrawOptions options) {
  const std::size_t index = photo_of_block(survey, block, request.photo);
  const DepthMap map = survey.need_depth_map(request.block - 1, index);
  struct Layer {
    std::string_view name;
    MapLayer layer;
    const char* words;
  };
  constexpr Layer kLayers[] = {{"depth", MapLayer::depth, "depth"},
                               {"colour", MapLayer::depth, "depth"},
                               {"normal", MapLayer::normals, "normals"},
                               {"confidence", MapLayer::confidence, "confidence"},
                               {"views", MapLayer::support, "photos that support the depth"}};
  for (const Layer& layer : kLayers) {
    if (layer.name != request.by) continue;
    options.title += fmt::format(": {} of {}", layer.words, survey.photo_name(block.photos[index].photo));
    return draw_depth(map, options, survey.settings().dense.max_cost, layer.layer);
  }
  throw Error(ErrorKind::usage, "--by " + request.by, "says nothing of a depth map",
              "give depth, normal, confidence or views");
}

constexpr std::uint64_t kMostDrawn = 20'000'000;  // points: more than a picture has room for, and less than memory

ImageU8 view_of_cloud_file(Survey& survey, const Request& request, DrawOptions options, const Executor& executor) {
  const fs::path file = !request.file.empty() ? fs::path(request.file)
                        : request.stale       ? survey.file_as_it_is(request.block - 1, "dense.ply")
                                              : survey.cloud_file(request.block - 1);
  const bool own = request.file.empty() && !request.stale;
  const TiledCloud tiled(file);
  PointCloud cloud = own ? survey.cloud(request.block - 1, kMostDrawn) : tiled.overview(kMostDrawn);
  if (request.what == "clouds") return view_of_clouds(cloud, file, request, options, executor);
  options.title += request.file.empty() ? ": dense cloud" : ": " + file.filename().string();
  if (cloud.size() < tiled.points())
    options.title +=
        fmt::format(" (one point in {:.0f})",
                    static_cast<double>(tiled.points()) / static_cast<double>(std::max<std::size_t>(1, cloud.size())));
  return view_of_cloud(std::move(cloud), request, options, executor);
}

// From one side; or, for `turns` of them, from all around one after the other.
std::vector<ImageU8> views_of_mesh(Survey& survey, const Request& request, DrawOptions options, int turns,
                                   Monitor& monitor) {
  const bool painted = request.by == "texture" || request.by == "patches";
  const fs::path file = !request.file.empty() ? fs::path(request.file)
                        : request.stale ? survey.file_as_it_is(request.block - 1, painted ? "textured.glb" : "mesh.ply")
                        : painted       ? survey.textured_file(request.block - 1)
                                        : survey.mesh_file(request.block - 1);
  const TexturedMesh read = painted ? read_textured_mesh(file) : TexturedMesh{read_mesh(file), {}};
  const Mesh& mesh = read.mesh;
  struct Way {
    std::string_view name;
    MeshPaint paint;
  };
  constexpr Way kWays[] = {{"colour", MeshPaint::colour},   {"shape", MeshPaint::shape},
                           {"wire", MeshPaint::wire},       {"error", MeshPaint::error},
                           {"support", MeshPaint::support}, {"texture", MeshPaint::texture},
                           {"patches", MeshPaint::patches}};
  DrawMeshOptions wanted;
  wanted.from = side_of(request.from);
  const auto way = std::find_if(std::begin(kWays), std::end(kWays), [&](const Way& w) { return w.name == request.by; });
  if (way == std::end(kWays))
    throw Error(ErrorKind::usage, "--by " + request.by, "says nothing of a mesh",
                "give colour, shape, wire, support, error, texture or patches");
  wanted.paint = way->paint;
  wanted.texture = &read.texture;
  options.title += request.file.empty() ? ": mesh" : ": " + file.filename().string();
  if (request.by != "colour") options.title += " by " + request.by;
  std::vector<ImageU8> pictures;
  for (int turn = 0; turn < turns; ++turn) {
    if (turns > 1) monitor.progress("draw", static_cast<std::size_t>(turn), static_cast<std::size_t>(turns));
    monitor.check();
    options.azimuth_deg = request.azimuth_deg + 360.0 * turn / turns;
    pictures.push_back(draw_mesh(mesh, options, wanted));
  }
  if (turns > 1) monitor.progress("draw", static_cast<std::size_t>(turns), static_cast<std::size_t>(turns));
  return pictures;
}

// The class of the highest point in each cell.
ImageF classes_in(const PointCloud& cloud, const GridFrame& frame) {
  ImageF classes(frame.columns, frame.rows, 1, std::numeric_limits<float>::quiet_NaN());
  ImageF tops(frame.columns, frame.rows, 1, -std::numeric_limits<float>::infinity());
  for (std::size_t i = 0; i < cloud.size() && !cloud.classes.empty(); ++i) {
    const Eigen::Vector3d p = cloud.position(i);
    const Vector2d at = frame.at(p.head<2>());
    const int x = static_cast<int>(std::floor(at.x())), y = static_cast<int>(std::floor(at.y()));
    if (x < 0 || y < 0 || x >= frame.columns || y >= frame.rows || !(p.z() > tops.at(x, y))) continue;
    tops.at(x, y) = static_cast<float>(p.z());
    classes.at(x, y) = cloud.classes[i];
  }
  return classes;
}

// The picture in plan, or which photo each cell is of.
ImageU8 view_of_orthomosaic(Survey& survey, const Request& request, DrawOptions options) {
  const auto file_of = [&](const std::string& name) {
    return request.stale ? survey.file_as_it_is(request.block - 1, name)
                         : survey.orthomosaic_file(request.block - 1, name);
  };
  constexpr int kMost = 2400;
  DrawTerrainOptions how;
  const RasterReader picture(file_of("orthomosaic.tif"));
  GridFrame frame = picture.content().frame;
  std::vector<ContourLine> seams;
  how.picture = picture.picture_overview(kMost);
  frame.cell *= static_cast<double>(frame.columns) / how.picture.width();
  frame.columns = how.picture.width(), frame.rows = how.picture.height();
  if (request.by == "photos") {
    const RasterReader photos(file_of("photo_of_cell.tif"));
    how.tints = photos.nearest_overview(kMost);
    for (const Shape& seam : read_shapes(file_of("seams.gpkg"), picture.content().datum).shapes)
      seams.push_back({0, seam.closed, seam.places});
    how.contours = seams, how.labelled = false;
  }
  options.title += request.by == "photos" ? ": photos of the orthomosaic and their seams" : ": orthomosaic";
  return draw_terrain({}, frame, picture.content().datum, options, how);
}

ImageU8 view_of_terrain(Survey& survey, const Request& request, DrawOptions options, const Executor& executor) {
  const auto file_of = [&](const std::string& name) {
    return request.stale ? survey.file_as_it_is(request.block - 1, name) : survey.terrain_file(request.block - 1, name);
  };
  constexpr int kMost = 2400;  // cells each way: more than the picture has pixels
  if (request.by == "orthomosaic" || request.by == "photos") return view_of_orthomosaic(survey, request, options);
  const RasterReader heights(file_of(request.model + ".tif"));
  int most = kMost;
  std::optional<TiledCloud> classed;
  if (request.by == "classes") {  // so large that each cell has points
    classed.emplace(file_of("classes.ply"));
    std::vector<double> spacing;
    for (const TiledCloud::Tile& tile : classed->tiles())
      if (tile.spacing > 0) spacing.push_back(tile.spacing);
    const GridFrame& whole = heights.content().frame;
    if (!spacing.empty())
      most = std::clamp(static_cast<int>(whole.cell * std::max(whole.columns, whole.rows) / (2 * median(spacing))), 50,
                        kMost);
  }
  const ImageF z = heights.overview(most);
  GridFrame frame = heights.content().frame;
  frame.cell *= static_cast<double>(frame.columns) / z.width();
  frame.columns = z.width(), frame.rows = z.height();
  const Datum& datum = heights.content().datum;
  DrawTerrainOptions how;
  std::vector<ContourLine> lines;
  how.meaning = "height, " + datum.units_name();
  const std::string& by = request.by;
  if (by == "slope") {
    how.values = slope_deg(z, frame.cell, executor), how.meaning = "slope, degrees", how.shaded = false;
  } else if (by == "error" || by == "distance") {
    const RasterReader quality(file_of(request.model + "_quality.tif"));
    how.values = quality.overview(kMost, by == "error" ? 0 : 2);
    how.meaning = (by == "error" ? "error, " : "filled over, ") + datum.units_name();
    how.logarithmic = by == "error", how.shaded = false;
  } else if (by == "classes") {
    how.values = classes_in(classed->overview(kMostDrawn), frame);
    how.meaning = "class", how.classes.resize(10);
    for (const PointClass c :
         {PointClass::other, PointClass::ground, PointClass::low_vegetation, PointClass::medium_vegetation,
          PointClass::high_vegetation, PointClass::building, PointClass::noise, PointClass::water})
      how.classes[static_cast<std::size_t>(c)] = describe(c);
  } else if (by == "contours") {
    ContourOptions contours;
    contours.every = contour_step(z);
    lines = contour_lines(z, frame, contours, executor);
    how.contours = lines;
  } else if (by != "colour" && by != "height") {
    throw Error(ErrorKind::usage, "--by " + by, "says nothing of terrain",
                "give height, slope, error, distance, classes, contours, orthomosaic or photos");
  }
  options.title += fmt::format(": {} by {}", request.model == "dsm" ? "surface (DSM)" : "ground (DTM)",
                               by == "colour" ? "height" : by);
  return draw_terrain(z, frame, datum, options, how);
}

ImageU8 view_of_overlap(Survey& survey, const Request& request, DrawOptions options, const Executor& executor) {
  const OverlapReport report = survey.overlap(request.block - 1);
  if (report.summary.outcome != "made")
    throw Error(ErrorKind::computation, survey.folder().string(), "has no map: " + report.summary.outcome,
                "look at the photos with `icefield photos`");
  const OverlapMap& map = report.map;
  const std::string& by = request.by == "colour" ? "views" : request.by;
  DrawTerrainOptions how;
  how.shaded = false;
  if (by == "views")
    how.values = map.views, how.meaning = "photos";
  else if (by == "gsd")
    how.values = map.gsd, how.meaning = "GSD, " + report.datum.units_name();
  else if (by == "angle")
    how.values = map.angle, how.meaning = "angle, degrees";
  else if (by == "error")
    how.values = map.error, how.meaning = "error, " + report.datum.units_name(), how.logarithmic = true;
  else
    throw Error(ErrorKind::usage, "--by " + by, "says nothing of overlap", "give views, gsd, angle or error");
  // Where no photo looks there is nothing; a line around what is counted.
  ImageF heights = map.heights, within(map.frame.columns, map.frame.rows);
  for (std::size_t i = 0; i < within.data().size(); ++i) {
    within.values()[i] = map.within.data()[i];
    if (!(map.views.data()[i] > 0) && !map.within.data()[i]) heights.values()[i] = how.values.values()[i] = NAN;
  }
  ContourOptions rim;
  rim.every = 1, rim.from = 0.5, rim.simplify = 0;
  const std::vector<ContourLine> lines = contour_lines(within, map.frame, rim, executor);
  how.contours = lines, how.labelled = false;
  options.title += ": overlap by " + by;
  return draw_terrain(heights, map.frame, report.datum, options, how);
}

ImageU8 view_of_lens(Survey& survey, const Block& block, const Request& request, DrawOptions options) {
  if (request.camera > block.cameras.size())
    throw Error(ErrorKind::usage, fmt::format("camera {}", request.camera), "does not exist",
                fmt::format("the survey has {}", block.cameras.size()));
  options.title += ": mean residuals over the image plane of " + survey.photos().cameras[request.camera - 1].name;
  return draw_lens(block, CameraIndex(request.camera - 1), request.enlarged, options);
}

// The photo that was named, or all of the block, the worst first, as far as there is room.
ImageU8 view_of_coverage(Survey& survey, const Block& block, const Request& request, DrawOptions options) {
  constexpr std::size_t kMostShown = 60;
  constexpr int kSide = 640;
  std::vector<PhotoCoverage> all = survey.coverage(request.block - 1);
  std::stable_sort(all.begin(), all.end(),
                   [](const PhotoCoverage& a, const PhotoCoverage& b) { return a.thin_percent() > b.thin_percent(); });
  if (!request.photo.empty()) {
    const PhotoIndex wanted = block.photos[survey.photo_of_block(block, request.photo)].photo;
    std::erase_if(all, [&](const PhotoCoverage& c) { return c.photo != wanted; });
  }
  const std::size_t shown = std::min(all.size(), kMostShown);
  options.title += ": how many others see the parts of each photo";
  if (shown < all.size()) options.title += fmt::format(" ({} of {} photos)", shown, all.size());
  const auto source = survey.source();
  std::vector<CoveredPhoto> photos;
  for (std::size_t i = 0; i < shown; ++i) {
    const ImageU8 whole = source->load(all[i].photo);
    const int smaller = shown > 1 ? std::max(1, std::max(whole.width(), whole.height()) / kSide) : 1;
    photos.push_back({shrink(whole, smaller), survey.photo_name(all[i].photo), std::move(all[i])});
  }
  return draw_coverage(photos, options);
}

// Surveyed points and their errors.
ImageU8 view_of_control(Survey& survey, const Block& block, const Request& request, DrawOptions options) {
  const auto report = survey.georeferenced();
  if (!report)
    throw Error(ErrorKind::usage, survey.folder().string(), "is not georeferenced",
                "run `icefield georeference " + survey.folder().string() + "` first");
  const Georeferenced& found = report->blocks.at(request.block - 1);
  std::vector<DrawnControl> points;
  for (std::size_t p = 0; p < found.points.size(); ++p) {
    const SurveyedPoint& point = report->control.points[p];
    const PointReport& r = found.points[p];
    if (!r.located && point.use == ControlUse::spot) continue;
    const bool known = point.use != ControlUse::spot && point.sigma.allFinite();
    if (!r.located && !known) continue;
    points.push_back({point.name, point.use, point.use == ControlUse::control && !r.used, r.located && known,
                      known ? point.position : r.position, r.error, r.expected});
  }
  options.title += ": surveyed points and their errors";
  return draw_control(block, points, report->datum.units_name(), request.enlarged, options);
}

// A point in all photos that it is marked in, or should be seen in.
ImageU8 view_of_mark(Survey& survey, const Request& request, DrawOptions options) {
  if (request.point.empty()) throw Error(ErrorKind::usage, "view mark", "asks for a point", "name it with --point");
  const OrientResult& free = survey.need_free_blocks();
  const Block& block = free.blocks.at(std::min(request.block, free.blocks.size()) - 1);
  std::vector<SpotMark> marks;
  const ControlLists lists = survey.control_lists();
  for (const MarkRow& row : lists.marks)
    for (std::uint32_t i = 0; i < block.photos.size() && row.point == request.point; ++i)
      if (survey.photo_name(block.photos[i].photo) == row.photo)
        marks.push_back({PosedIndex(i), row.pixel, row.sigma_px > 0 ? row.sigma_px : 0.5});
  if (marks.empty())
    throw Error(
        ErrorKind::usage, "point '" + request.point + "'", "is marked in no photo of the block",
        "mark it first: `icefield mark " + survey.folder().string() + " " + request.point + " --photo P --at X,Y`");
  const LocatedSpot spot = marks.size() == 1 ? locate_by_tie_points(block, marks[0]) : locate_spot(block, marks);
  constexpr std::size_t kMostShown = 24;
  constexpr int kHalf = 32;  // pixels around the spot
  std::vector<DrawnMark> drawn;
  const auto source = survey.source();
  const auto add = [&](PosedIndex photo, const Vector2d& at, std::optional<Vector2d> marked,
                       const std::optional<PredictedMark>& guess, const std::string& remark) {
    if (drawn.size() >= kMostShown) return;
    const ImageU8 whole = source->load(block.photos[photo].photo);
    const int half =
        std::min(std::max(kHalf, guess ? static_cast<int>(1.5 * ellipse_of(guess->covariance).longer) : 0), 200);
    const int x0 = std::clamp(static_cast<int>(at.x()) - half, 0, std::max(0, whole.width() - 2 * half)),
              y0 = std::clamp(static_cast<int>(at.y()) - half, 0, std::max(0, whole.height() - 2 * half));
    DrawnMark mark{ImageU8(std::min(2 * half, whole.width()), std::min(2 * half, whole.height()), whole.channels()),
                   survey.photo_name(block.photos[photo].photo),
                   remark,
                   {},
                   {},
                   {}};
    for (int y = 0; y < mark.part.height(); ++y)
      for (int x = 0; x < mark.part.width(); ++x)
        for (int c = 0; c < whole.channels(); ++c) mark.part.at(x, y, c) = whole.at(x0 + x, y0 + y, c);
    const Vector2d corner(x0, y0);
    if (marked) mark.marked = *marked - corner;
    if (guess) mark.predicted = guess->pixel - corner, mark.ellipse = ellipse_of(guess->covariance);
    drawn.push_back(std::move(mark));
  };
  const std::vector<PredictedMark> all = predict_marks(block, spot, {});
  for (std::size_t k = 0; k < marks.size(); ++k) {
    const auto own =
        std::find_if(all.begin(), all.end(), [&](const PredictedMark& g) { return g.photo == marks[k].photo; });
    const auto residual =
        spot.known ? residual_px(block, spot.position, {marks[k].photo, {}, marks[k].pixel}) : std::nullopt;
    add(marks[k].photo, marks[k].pixel, marks[k].pixel,
        own == all.end() || marks.size() == 1 ? std::optional<PredictedMark>() : std::optional<PredictedMark>(*own),
        residual && marks.size() > 1 ? fmt::format("{:.2f} px off", residual->norm()) : "");
  }
  for (const PredictedMark& guess : predict_marks(block, spot, marks))
    add(guess.photo, guess.pixel, std::nullopt, guess, "not marked");
  options.title += fmt::format(": '{}' in {} photos", request.point, drawn.size());
  return draw_marks(drawn, options);
}

// The scene through a photo, or its residuals.
ImageU8 view_of_photo(Survey& survey, const Block& block, const Request& request, DrawOptions options) {
  const std::size_t index = photo_of_block(survey, block, request.photo);
  const PosedPhoto& posed = block.photos[index];
  const ImageU8 image = survey.source()->load(posed.photo);
  if (request.what == "through") {
    const PointCloud cloud = request.cloud ? survey.cloud(request.block - 1) : survey.tie_points(request.block - 1);
    options.title += fmt::format(": {} and the {} through its pose", survey.photo_name(posed.photo),
                                 request.cloud ? "dense cloud" : "tie points");
    return draw_through(image, cloud, block.camera_of(posed), posed.pose, options);
  }
  options.title += ": residuals of " + survey.photo_name(posed.photo);
  std::vector<Keypoint> keypoints = survey.keypoints(posed.photo);
  std::vector<FeatureUse> uses = survey.feature_uses(request.block - 1, index);
  // Of narrowed copies those that were matched: the others stand beside features of the photo itself.
  std::size_t shown = survey.features(posed.photo).size();
  for (std::size_t k = shown; k < keypoints.size(); ++k)
    if (uses[k] != FeatureUse::not_matched) keypoints[shown] = keypoints[k], uses[shown++] = uses[k];
  keypoints.resize(shown), uses.resize(shown);
  return draw_residuals(image, residuals_of_photo(block, index), keypoints, uses, request.enlarged, options);
}

ImageU8 picture_of(Survey& survey, const Request& request, const Executor& executor, Monitor& monitor) {
  DrawOptions options;
  options.azimuth_deg = request.azimuth_deg;
  options.elevation_deg = request.elevation_deg;
  options.title = fs::weakly_canonical(survey.folder()).filename().string();
  const std::string& what = request.what;
  if (what == "features" || what == "matches" || what == "pairs") return view_of_matching(survey, request, options);
  if (what == "cloud" || what == "clouds") return view_of_cloud_file(survey, request, options, executor);
  if (what == "block" && request.stale && !survey.posed()) {
    options.title += ": tie points and photos, stale";
    return view_of_stale_block(survey, request, options);
  }
  if (what == "mesh") return views_of_mesh(survey, request, options, 1, monitor).front();
  if (what == "terrain") return view_of_terrain(survey, request, options, executor);
  if (what == "overlap") return view_of_overlap(survey, request, options, executor);
  if (what == "mark") return view_of_mark(survey, request, options);
  const Block& block = survey.block(request.block - 1);
  if (what == "depth") return view_of_depth(survey, block, request, options);
  if (what == "coverage") return view_of_coverage(survey, block, request, options);
  if (what == "control") return view_of_control(survey, block, request, options);
  if (what == "lens") return view_of_lens(survey, block, request, options);
  if (what != "block") return view_of_photo(survey, block, request, options);
  options.title +=
      request.by == "colour" ? ": tie points and photos" : fmt::format(": tie points by {}, and photos", request.by);
  return view_of_block(survey, block, request, options, executor, monitor);
}

// The mesh turning once about the vertical.
void write_turntable(Survey& survey, const Request& request, Monitor& monitor) {
  if (request.what != "mesh" || request.from != "perspective")
    throw Error(ErrorKind::usage, request.output, "is a moving picture, and only a mesh in perspective turns",
                "name a .png, or view the mesh");
  constexpr int kTurns = 48;
  constexpr double kPerSecond = 12;
  DrawOptions options;
  options.width = 800, options.height = 500;
  options.elevation_deg = request.elevation_deg;
  options.title = fs::weakly_canonical(survey.folder()).filename().string();
  write_moving_picture(request.output, views_of_mesh(survey, request, options, kTurns, monitor), kPerSecond);
}

int run(const Common& common, const Request& request, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  if (fs::path(request.output).extension() == ".gif") {
    write_turntable(survey, request, monitor);
    fmt::print("{}\n", common.json ? nlohmann::ordered_json{{"file", request.output}}.dump(1) : request.output);
    return 0;
  }
  const ImageU8 picture = picture_of(survey, request, executor_of(common), monitor);
  fs::path file = request.output;
  if (file.empty()) file = survey.folder() / "results" / (request.what + ".png");
  fs::create_directories(fs::absolute(file).parent_path());
  write_photo(file, picture);
  if (common.json)
    fmt::print("{}\n", nlohmann::ordered_json{{"file", file.string()}}.dump(1));
  else
    fmt::print("{}\n", file.string());
  return 0;
}

void add_what(Arguments options, Request& request) {
  options
      .option("what", request.what,
              "features, matches, pairs, block, residuals, lens, through, coverage, overlap, control, mark (one point "
              "in all "
              "photos), cloud, clouds (two, side by "
              "side), mesh, terrain or depth")
      .one_of({"features", "matches", "pairs", "block", "residuals", "lens", "through", "cloud", "clouds", "mesh",
               "terrain", "depth", "coverage", "overlap", "control", "mark"})
      .with_default();
  options.option("--output", request.output,
                 "The PNG file (default: WHAT.png in the survey's results); for a mesh a .gif too, in which it turns");
  options.option("--photo", request.photo,
                 "For features, matches, residuals, through and depth: which photo (default: the first); for coverage: "
                 "that photo alone");
  options.option("--with", request.other,
                 "For matches: the other photo (default: the one with the most matches); for cloud by distance, "
                 "and for clouds: another PLY file");
  options.option("--point", request.point, "For mark: which point");
  with_block(options, request.block);
  options.option("--camera", request.camera, "For lens: which camera, as `photos` numbers them").positive();
  options.option("--file", request.file, "For cloud, clouds and mesh: this file instead of the block's");
}

void add_how(Arguments options, Request& request) {
  options.option("--from", request.from, "For block, cloud, clouds and mesh: perspective, above, front or side")
      .one_of({"perspective", "above", "front", "side"})
      .with_default();
  options
      .option(
          "--by", request.by,
          "For block: tie points by colour, views, residual or uncertainty; for cloud: colour, height, normal, views, "
          "error, or distance to the cloud named by --with; for mesh: colour, shape, wire, support, error, texture or "
          "patches; for terrain: height, slope, error, distance (filled over), classes, contours, orthomosaic or "
          "photos (which it is of); for overlap: views, gsd, angle or error; for depth: depth, "
          "normal, confidence or views")
      .one_of({"colour",  "views",    "residual",    "uncertainty", "height",  "normal",  "error",   "confidence",
               "depth",   "distance", "shape",       "wire",        "support", "texture", "patches", "slope",
               "classes", "contours", "orthomosaic", "photos",      "gsd",     "angle"})
      .with_default();
  options.flag("--stale", request.stale,
               "For block, cloud, mesh and terrain: the files as they lie there, even where they are of another state "
               "of the survey");
  options.option("--model", request.model, "For terrain: dsm (the surface) or dtm (the ground)")
      .one_of({"dsm", "dtm"})
      .with_default();
  options.flag("--no-names", request.no_names, "For block: photos without their names");
  options.flag("--cloud", request.cloud, "For through: the dense cloud instead of the tie points");
  options
      .option("--enlarged", request.enlarged,
              "For residuals, lens and control: how many times (default: so that they can be seen)")
      .between(0.0, 1e6);
  options.option("--azimuth", request.azimuth_deg, "Where the eye is around the vertical, degrees").with_default();
  options.option("--elevation", request.elevation_deg, "and above the horizontal").with_default();
}

}  // namespace

Command view_command(Arguments& tool, Common& common) {
  const auto request = std::make_shared<Request>();
  Arguments options =
      survey_command(tool, common, "view",
                     "Draw a PNG of features, matches, the table of pairs, a block, residuals, the scene "
                     "through a photo, what others see of each photo, surveyed points with their errors, the dense "
                     "cloud, two clouds, the mesh, terrain or a depth map");
  add_what(options, *request);
  add_how(options, *request);
  return {options, [request, &common](Monitor& monitor) { return run(common, *request, monitor); }};
}
