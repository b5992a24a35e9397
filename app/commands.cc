#include "commands.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <numbers>
#include <sstream>

#include "icefield/base/statistics.h"
#include "icefield/io/camera_file.h"
#include "icefield/io/cloud_file.h"
#include "icefield/io/overlap_file.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/ply_file.h"
#include "icefield/io/text_file.h"
#include "icefield/judge/compare.h"
#include "icefield/report/table.h"
#include "parts.h"

namespace {

Json block_json(Survey& survey, const Block& block, const BlockStatistics& s) {
  Json json;
  json["photos"] = s.photos;
  json["tie_points"] = s.points;
  json["observations"] = s.observations;
  json["rms_px"] = s.rms_px;
  json["kept_percent"] = s.kept_percent;
  json["median_track_length"] = s.median_track_length;
  json["median_gsd"] = s.median_gsd;
  for (std::size_t i = 0; i < block.photos.size(); ++i)
    json["by_photo"].push_back({{"name", survey.photo_name(block.photos[i].photo)},
                                {"rms_px", s.photo_rms_px[i]},
                                {"observations", s.photo_observations[i]}});
  return json;
}

// By block, by camera and the worst photos: what `pose`, `adjust` and `join` end with.
void print_blocks(Survey& survey, const OrientResult& result, Json& json, bool as_json) {
  const PhotoList& list = survey.photos();
  Table table({"block", "photos", "tie points", "observations", "RMS px", "kept %", "focal px ", "weakest photo "});
  Table cameras({"block", "camera ", "parameter ", "start", "adjusted", "standard deviation", "unit "});
  Table worst({"block", "photo ", "observations", "RMS px", "place, GSD", "turn, degrees"});
  bool doubt = false;
  for (std::size_t b = 0; b < result.blocks.size(); ++b) {
    const Block& block = result.blocks[b];
    const BlockStatistics s = block_statistics(block);
    json["blocks"].push_back(block_json(survey, block, s));
    Json& own = json["blocks"].back();
    const std::size_t weakest = static_cast<std::size_t>(
        std::min_element(s.photo_observations.begin(), s.photo_observations.end()) - s.photo_observations.begin());
    const BlockPrecision precision = b < result.precision.size() ? result.precision[b] : BlockPrecision{};
    std::string focals;
    for (std::size_t c = 0; c < block.cameras.size(); ++c) {
      if (std::none_of(block.photos.begin(), block.photos.end(),
                       [&](const PosedPhoto& p) { return p.camera.value == c; }))
        continue;
      const Camera &camera = block.cameras[c], &start = list.cameras[c].prior.camera;
      focals += (focals.empty() ? "" : ", ") + fmt::format("{:.1f}", camera.focal());
      const auto parameters = camera_parameters(camera.model);
      const auto known = camera_parameters(start.model);
      for (std::size_t p = 0; p < parameters.size(); ++p) {
        const bool pixels = std::string_view(parameters[p].unit) == "px";
        const auto number = [&](double v) { return pixels ? fmt::format("{:.2f}", v) : fmt::format("{:.6f}", v); };
        const bool had =
            p < known.size() && std::string_view(known[p].name) == parameters[p].name && (p > 0 || start.focal() > 0);
        std::string sigma = "fixed";
        Json entry = {{"camera", list.cameras[c].name},
                      {"model", camera_model_name(camera.model)},
                      {"parameter", parameters[p].name},
                      {"adjusted", camera.parameters[p]}};
        if (had) entry["start"] = start.parameters[p];
        if (precision.known && c < precision.cameras.size()) {
          const auto& free = precision.cameras[c].parameters;
          const auto at = std::find(free.begin(), free.end(), static_cast<int>(p));
          if (at != free.end()) {
            const double deviation = precision.cameras[c].deviation(static_cast<std::size_t>(at - free.begin()));
            sigma = pixels ? fmt::format("{:.3f}", deviation) : fmt::format("{:.6f}", deviation);
            entry["standard_deviation"] = deviation;
          }
        }
        own["by_camera"].push_back(entry);
        cameras.add({fmt::format("{}", b + 1), p == 0 ? list.cameras[c].name : "", parameters[p].name,
                     had ? number(start.parameters[p]) : "-", number(camera.parameters[p]), sigma, parameters[p].unit});
      }
    }
    table.add({fmt::format("{}", b + 1), fmt::format("{}", s.photos), fmt::format("{}", s.points),
               fmt::format("{}", s.observations), fmt::format("{:.3f}", s.rms_px),
               fmt::format("{:.1f}", s.kept_percent), focals,
               fmt::format("{} ({} observations)", survey.photo_name(block.photos[weakest].photo),
                           s.photo_observations[weakest])});
    // Worst by residuals and by place, each against the middle of the block.
    const auto middle = [](std::vector<double> v) { return std::max(1e-12, median(v)); };
    std::vector<double> place(s.photos, 0);
    for (std::size_t i = 0; i < s.photos && precision.known; ++i)
      place[i] = s.photo_gsd[i] > 0 ? precision.place_sigma[i] / s.photo_gsd[i] : 0;
    const double rms = middle(s.photo_rms_px), vague = middle(place);
    std::vector<std::pair<double, std::size_t>> order;
    for (std::size_t i = 0; i < s.photos; ++i)
      order.emplace_back(-std::max(s.photo_rms_px[i] / rms, precision.known ? place[i] / vague : 0.0), i);
    std::sort(order.begin(), order.end());
    for (std::size_t k = 0; k < std::min<std::size_t>(5, order.size()); ++k) {
      const std::size_t i = order[k].second;
      worst.add({fmt::format("{}", b + 1), survey.photo_name(block.photos[i].photo),
                 fmt::format("{}", s.photo_observations[i]), fmt::format("{:.3f}", s.photo_rms_px[i]),
                 precision.known ? fmt::format("{:.3f}", place[i]) : "-",
                 precision.known ? fmt::format("{:.5f}", precision.turn_sigma[i] * 180 / std::numbers::pi) : "-"});
    }
    if (precision.known) {
      own["observation_sigma_px"] = precision.sigma_px;
      for (std::size_t i = 0; i < s.photos; ++i) {
        own["by_photo"][i]["place_sigma_gsd"] = place[i];
        own["by_photo"][i]["turn_sigma_deg"] = precision.turn_sigma[i] * 180 / std::numbers::pi;
      }
    } else {
      doubt = true;
    }
  }
  if (as_json) return;
  fmt::print("{}\nCameras:\n{}\nWorst photos (standard deviations of place and turn):\n{}", table.text(),
             cameras.text(), worst.text());
  if (doubt)
    for (std::size_t b = 0; b < result.precision.size(); ++b)
      if (!result.precision[b].known)
        fmt::print("Block {}: standard deviations are not known ({})\n", b + 1, result.precision[b].outcome);
}

void print_pose(Survey& survey, const OrientResult& result, const Common& common) {
  const OrientSummary& s = result.summary;
  Json json;
  json["photos"] = s.photos;
  json["posed"] = s.posed;
  json["pairs"] = {{"verified", s.pairs},
                   {"cut_by_turn", s.cut_by_turn},
                   {"cut_by_direction", s.cut_by_direction},
                   {"cut_as_twins", s.cut_as_twins}};
  json["loops_closed"] = s.loops_closed;
  json["blocks_joined"] = s.blocks_joined;
  if (!common.json) fmt::print("{}\n", s.outcome);
  print_blocks(survey, result, json, common.json);
  for (const UnposedPhoto& u : result.unposed)
    json["unposed"].push_back({{"name", survey.photo_name(u.photo)}, {"reason", u.reason}});
  for (const DoubtfulPhoto& d : result.doubtful)
    json["doubtful"].push_back({{"name", survey.photo_name(d.photo)}, {"reason", d.reason}});
  for (const std::string& line : s.focal_search) json["focal_search"].push_back(line);
  if (common.json) return print_json(json);
  if (s.cut_by_turn + s.cut_by_direction + s.cut_as_twins > 0)
    fmt::print(
        "\nOf {} verified pairs {} contradicted the others ({} in orientation, {} in direction, {} as places that only "
        "look alike) and took no part\n",
        s.pairs, s.cut_by_turn + s.cut_by_direction + s.cut_as_twins, s.cut_by_turn, s.cut_by_direction,
        s.cut_as_twins);
  if (s.loops_closed > 0) fmt::print("{} loop{} closed\n", s.loops_closed, s.loops_closed == 1 ? "" : "s");
  for (const std::string& line : s.focal_search) fmt::print("Focal length tried at {}\n", line);
  if (!result.doubtful.empty()) {
    fmt::print("\nDoubtful (--set pose.leave_out_doubtful=true leaves them out):\n");
    // A group that hangs by the same thread is one line.
    Table doubtful({"photo ", "reason "});
    constexpr std::size_t kNamed = 3;
    for (std::size_t i = 0; i < result.doubtful.size(); ++i) {
      const auto same = [&](const DoubtfulPhoto& d) { return d.reason == result.doubtful[i].reason; };
      if (std::any_of(result.doubtful.begin(), result.doubtful.begin() + static_cast<std::ptrdiff_t>(i), same))
        continue;
      std::string names;
      std::size_t count = 0;
      for (const DoubtfulPhoto& d : result.doubtful)
        if (same(d) && count++ < kNamed) names += (names.empty() ? "" : ", ") + survey.photo_name(d.photo);
      if (count > kNamed) names += fmt::format(" and {} more", count - kNamed);
      doubtful.add({names, result.doubtful[i].reason});
    }
    fmt::print("{}", doubtful.text());
  }
  if (!result.unposed.empty()) {
    fmt::print("\nWithout a pose:\n");
    Table unposed({"photo ", "reason "});
    for (const UnposedPhoto& u : result.unposed) unposed.add({survey.photo_name(u.photo), u.reason});
    fmt::print("{}", unposed.text());
  }
}

Json bounds_json(const Bounds& b) {
  const auto list = [](const Eigen::Vector3d& v) { return Json{v.x(), v.y(), v.z()}; };
  Json json = {{"centre", list(b.centre)},
               {"size", list(2 * b.half_size)},
               {"orientation", {b.orientation.w(), b.orientation.x(), b.orientation.y(), b.orientation.z()}}};
  for (const Eigen::Vector2d& corner : b.outline) json["outline"].push_back({corner.x(), corner.y()});
  return json;
}

void print_dense(Survey& survey, const std::vector<DenseReport>& reports, const Common& common) {
  Json json = Json::array();
  Table table({"block", "maps", "points", "spacing", "filled %", "views", "set aside", "file "}),
      thin({"thin photo ", "filled %"});
  bool any_thin = false;
  for (const DenseReport& r : reports) {
    const DenseSummary& s = r.summary;
    Json aside = Json::object(), fill = Json::array();
    std::size_t out = 0;
    for (std::size_t f = 1; f < kFaults; ++f) {
      aside[describe(static_cast<Fault>(f))] = s.aside[f];
      out += s.aside[f];
    }
    for (const DenseSummary::PhotoFill& photo : s.fill) {
      fill.push_back({{"photo", survey.photo_name(photo.photo)}, {"filled_percent", photo.percent}});
      if (photo.percent >= 0.5 * s.filled_percent) continue;
      thin.add({survey.photo_name(photo.photo), fmt::format("{:.1f}", photo.percent)});
      any_thin = true;
    }
    json.push_back({{"block", r.block + 1},
                    {"maps", s.maps},
                    {"photos_without_neighbours", s.photos_without_neighbours},
                    {"photos_repeated", s.photos_repeated},
                    {"points", s.points},
                    {"spacing", s.spacing},
                    {"filled_percent", s.filled_percent},
                    {"median_views", s.median_views},
                    {"few_views_percent", s.few_views_percent},
                    {"set_aside", aside},
                    {"photos", fill},
                    {"bounds", bounds_json(s.bounds)},
                    {"file", r.file.string()},
                    {"set_aside_file", out > 0 ? Json(r.aside.string()) : Json(nullptr)},
                    {"fresh", r.fresh}});
    table.add({fmt::format("{}", r.block + 1), fmt::format("{}", s.maps), fmt::format("{}", s.points),
               fmt::format("{:.4g}", s.spacing), fmt::format("{:.1f}", s.filled_percent),
               fmt::format("{:.0f}", s.median_views), fmt::format("{}", out), r.file.string()});
  }
  if (common.json) return print_json({{"blocks", json}});
  fmt::print("{}", table.text());
  for (const DenseReport& r : reports) {
    const DenseSummary& s = r.summary;
    const Eigen::Vector3d c = s.bounds.centre, size = 2 * s.bounds.half_size;
    fmt::print("Bounds of block {}: centre {:.3f} {:.3f} {:.3f}, size {:.3f} {:.3f} {:.3f}{}{}\n", r.block + 1, c.x(),
               c.y(), c.z(), size.x(), size.y(), size.z(),
               std::abs(turn_deg(s.bounds)) > 1e-6 ? fmt::format(", turned by {:.1f} degrees", turn_deg(s.bounds)) : "",
               s.bounds.outline.empty() ? "" : fmt::format(", in an outline of {} corners", s.bounds.outline.size()));
    if (s.photos_repeated > 0)
      fmt::print("Photos that repeat others, without a map of their own: {}\n", s.photos_repeated);
    if (s.photos_without_neighbours > 0)
      fmt::print("Photos without a neighbour to match against: {}\n", s.photos_without_neighbours);
    fmt::print("Points that only {} photos or fewer agree on: {:.1f} percent\n", survey.settings().dense.min_views,
               s.few_views_percent);
    std::string reasons;
    for (std::size_t f = 1; f < kFaults; ++f)
      if (s.aside[f] > 0)
        reasons += fmt::format("{}{} {}", reasons.empty() ? "" : ", ", s.aside[f], describe(static_cast<Fault>(f)));
    if (!reasons.empty()) fmt::print("Set aside in {}: {}\n", r.aside.string(), reasons);
  }
  if (any_thin) fmt::print("\nFilled by less than half as much as all together:\n{}", thin.text());
}

int print_estimate(Survey& survey, const Common& common) {
  Json json = Json::array();
  Table table({"block", "maps", "megapixels", "points, about", "time", "memory", "work on disk", "cloud on disk"});
  const std::vector<DenseEstimate> estimates = survey.estimate_densify();
  for (std::size_t b = 0; b < estimates.size(); ++b) {
    const DenseEstimate& e = estimates[b];
    json.push_back({{"block", b + 1},
                    {"maps", e.maps},
                    {"photos_without_neighbours", e.photos_without_neighbours},
                    {"photos_repeated", e.photos_repeated},
                    {"pixels", e.pixels},
                    {"points", e.points},
                    {"seconds", e.seconds},
                    {"memory_bytes", e.memory_bytes},
                    {"work_bytes", e.work_bytes},
                    {"result_bytes", e.result_bytes}});
    const auto megabytes = [](double bytes) { return fmt::format("{:.0f} MB", 1e-6 * bytes); };
    table.add({fmt::format("{}", b + 1), fmt::format("{}", e.maps), fmt::format("{:.1f}", 1e-6 * e.pixels),
               fmt::format("{:.1g} million", 1e-6 * e.points), duration_text(e.seconds), megabytes(e.memory_bytes),
               megabytes(e.work_bytes), megabytes(e.result_bytes)});
  }
  const fs::space_info room = fs::space(survey.folder());
  if (common.json) {
    print_json({{"effort", effort_name(survey.settings().effort_of("densify"))},
                {"threads", Executor(common.threads).threads()},
                {"blocks", json},
                {"free_bytes", room.available}});
    return 0;
  }
  fmt::print(
      "Effort {}, {} threads; nothing is computed or changed:\n\n{}{:.0f} MB are free on the disk. Depth maps that are "
      "there already take no time.\n",
      effort_name(survey.settings().effort_of("densify")), Executor(common.threads).threads(), table.text(),
      1e-6 * static_cast<double>(room.available));
  next("icefield densify " + common.survey + "; --effort and --bounds change what it takes");
  return 0;
}

void print_match(Survey& survey, const MatchReport& r, const Common& common) {
  Json json = {{"photos", r.photos},
               {"features", r.features},
               {"looked_at", r.looked_at},
               {"pairs", r.pairs},
               {"verified", r.verified},
               {"matches", r.matches},
               {"guided", r.guided},
               {"wide", r.wide},
               {"computed_photos", r.computed_photos},
               {"computed_pairs", r.computed_pairs},
               {"sources", Json::object()},
               {"geometries", Json::object()},
               {"without_geometry", Json::object()}};
  Table sources({"source of pairs ", "tried", "verified"}), geometries({"what the matches show ", "pairs"});
  for (int s = 0; s < kPairSources; ++s) {
    const auto k = static_cast<std::size_t>(s);
    if (r.tried_by_source[k] == 0) continue;
    json["sources"][name_of(static_cast<PairSource>(s))] = {{"tried", r.tried_by_source[k]},
                                                            {"verified", r.verified_by_source[k]}};
    sources.add({name_of(static_cast<PairSource>(s)), fmt::format("{}", r.tried_by_source[k]),
                 fmt::format("{}", r.verified_by_source[k])});
  }
  const auto count_of = [&](const char* list, const char* before, const auto kind, std::size_t count) {
    if (count == 0) return;
    json[list][name_of(kind)] = count;
    geometries.add({fmt::format("{}{}: {}", before, name_of(kind), describe(kind)), fmt::format("{}", count)});
  };
  for (const PairGeometry g : {PairGeometry::depth, PairGeometry::flat, PairGeometry::turned})
    count_of("geometries", "", g, r.by_geometry[static_cast<std::size_t>(g)]);
  for (const PairFault f : {PairFault::few_matches, PairFault::disagree, PairFault::same_pixels})
    count_of("without_geometry", "none, ", f, r.by_fault[static_cast<std::size_t>(f)]);
  Table weak({"photo ", "features", "verified pairs", "matches", "likely "});
  for (std::size_t i = 0; i < r.photos; ++i) {
    const std::string name = survey.photo_name(PhotoIndex(i));
    json["by_photo"].push_back({{"name", name},
                                {"features", r.photo_features[i]},
                                {"verified_pairs", r.photo_pairs[i]},
                                {"matches", r.photo_matches[i]},
                                {"few_because", r.weak[i].empty() ? Json(nullptr) : Json(r.weak[i])}});
    if (!r.weak[i].empty())
      weak.add({name, fmt::format("{}", r.photo_features[i]), fmt::format("{}", r.photo_pairs[i]),
                fmt::format("{}", r.photo_matches[i]), r.weak[i]});
  }
  if (common.json) return print_json(json);
  fmt::print("{} features in {} photos; {} of {} pairs verified with {} matches, {} of them found along the geometry\n",
             r.features, r.photos, r.verified, r.pairs, r.matches, r.guided);
  if (r.looked_at > 0) fmt::print("{} pairs looked at, of {} possible\n", r.looked_at, r.photos * (r.photos - 1) / 2);
  if (r.wide > 0)
    fmt::print("{} pair{} of photos far apart matched anew with narrowed copies of the photos\n", r.wide,
               r.wide == 1 ? "" : "s");
  if (r.computed_photos + r.computed_pairs < r.photos + r.pairs)
    fmt::print("Computed now: {} photos, {} pairs; the rest was fresh\n", r.computed_photos, r.computed_pairs);
  fmt::print("\n{}\n{}", sources.text(), geometries.text());
  if (std::any_of(r.weak.begin(), r.weak.end(), [](const std::string& reason) { return !reason.empty(); }))
    fmt::print("\nPhotos with few matches:\n{}", weak.text());
}

void warn_lonely(Survey& survey, const MatchReport& r, Monitor& monitor) {
  for (std::size_t i = 0; i < r.photo_pairs.size(); ++i)
    if (r.photo_pairs[i] == 0)
      monitor.log(LogLevel::warning, fmt::format("{}: no verified pair ({} features): {}",
                                                 survey.photo_name(PhotoIndex(i)), r.photo_features[i], r.weak[i]));
}

std::vector<NamedPose> named_poses(const CameraFile& file) {
  std::vector<NamedPose> poses;
  for (const CameraFile::Photo& photo : file.photos)
    poses.push_back({photo.name, file.cameras[photo.camera], photo.pose, photo.gsd});
  return poses;
}

}  // namespace

std::string error_json(const Error& error) {
  return Json{{"error", {{"subject", error.subject()}, {"fault", error.fault()}, {"remedy", error.remedy()}}}}.dump(1);
}

// --camera with what is given of it.
void give_camera(Survey& survey, const PhotosRequest& request) {
  const PhotoList& list = survey.photos();
  if (request.camera == 0 || request.camera > list.cameras.size())
    throw Error(ErrorKind::usage, request.camera == 0 ? "--camera" : fmt::format("camera {}", request.camera),
                request.camera == 0 ? "is missing: which camera is meant?" : "does not exist",
                "`icefield photos` numbers the cameras");
  if (request.uncertainty_percent > 0 && !(request.focal_px > 0))
    throw Error(ErrorKind::usage, "--uncertain", "is of no focal length", "give --focal-px as well");
  GivenCamera given;
  given.focal_px = request.focal_px;
  if (request.uncertainty_percent > 0) given.uncertainty_percent = request.uncertainty_percent;
  if (!request.model.empty()) {
    given.model = camera_model_by_name(request.model);
    if (!given.model)
      throw Error(ErrorKind::usage, request.model, "is no camera model", "take pinhole, radial, brown or fisheye");
  }
  for (const std::string& text : request.parameters) {
    const std::size_t equals = text.find('=');
    std::istringstream in(equals == std::string::npos ? std::string() : text.substr(equals + 1));
    double value = 0;
    if (!(in >> value) || !in.eof() || !std::isfinite(value))
      throw Error(ErrorKind::usage, text, "is no parameter with its value", "write --parameter radial_1=-0.08");
    given.parameters[text.substr(0, equals)] = value;
  }
  survey.set_camera(list.cameras[request.camera - 1].name, given);
}

int photos_command(const Common& common, const PhotosRequest& request, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  apply_settings(survey, common);
  if (!request.masks.empty()) survey.set_masks(request.masks);
  if (!request.on.empty()) survey.switch_photos(request.on, true);
  if (!request.off.empty()) survey.switch_photos(request.off, false);
  if (request.camera > 0 || request.focal_px > 0 || request.uncertainty_percent > 0 || !request.model.empty() ||
      !request.parameters.empty())
    give_camera(survey, request);
  const PhotoList& list = survey.photos();
  Json json;
  Table table({"photo ", "size ", "camera", "sharpness", "brightness", "dark %", "burnt %", "left out "});
  for (const SurveyPhoto& p : list.photos) {
    Json entry = {{"name", p.name},
                  {"file", p.file.string()},
                  {"width", p.metadata.width},
                  {"height", p.metadata.height},
                  {"display_rotation", p.metadata.display_rotation},
                  {"sharpness", p.scores.sharpness},
                  {"mean_brightness", p.scores.mean_brightness},
                  {"mask", p.mask.empty() ? Json(nullptr) : Json(p.mask.string())}};
    if (p.left_out.empty()) {
      const SurveyCamera& camera = list.cameras[p.camera.value];
      entry["camera"] = camera.name;
      entry["model"] = camera_model_name(camera.prior.camera.model);
      entry["focal_px"] = camera.prior.camera.focal() > 0 ? Json(camera.prior.camera.focal()) : Json(nullptr);
      entry["focal_source"] = describe(camera.source);
      entry["focal_uncertainty_percent"] =
          camera.prior.camera.focal() > 0 ? Json(camera.prior.focal_uncertainty_percent) : Json(nullptr);
    } else {
      entry["left_out"] = p.left_out;
    }
    json["photos"].push_back(entry);
    table.add({p.name, p.metadata.width > 0 ? fmt::format("{}x{}", p.metadata.width, p.metadata.height) : "-",
               p.camera.valid() ? fmt::format("{}", p.camera.value + 1) : "-",
               fmt::format("{:.2f}", p.scores.sharpness), fmt::format("{:.2f}", p.scores.mean_brightness),
               fmt::format("{:.1f}", 100 * p.scores.dark_share), fmt::format("{:.1f}", 100 * p.scores.bright_share),
               p.left_out});
  }
  if (common.json) {
    print_json(json);
    return 0;
  }
  fmt::print("{}\n", table.text());
  Table cameras({"camera", "name ", "photos", "model ", "focal px", "uncertain %", "source "});
  for (std::size_t c = 0; c < list.cameras.size(); ++c) {
    const SurveyCamera& camera = list.cameras[c];
    const bool known = camera.prior.camera.focal() > 0;
    cameras.add({fmt::format("{}", c + 1), camera.name, fmt::format("{}", camera.photos),
                 camera_model_name(camera.prior.camera.model),
                 known ? fmt::format("{:.1f}", camera.prior.camera.focal()) : "-",
                 known ? fmt::format("{:.1f}", camera.prior.focal_uncertainty_percent) : "-", describe(camera.source)});
  }
  fmt::print("{}", cameras.text());
  next("icefield match " + common.survey);
  return 0;
}

int begin_command(const Common& common, const std::vector<std::string>& sources, const std::string& masks,
                  Monitor& monitor) {
  Survey::begin(common.survey, {sources.begin(), sources.end()});
  PhotosRequest request;
  request.masks = masks;
  return photos_command(common, request, monitor);
}

int match_command(const Common& common, const std::string& pairs_file, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  apply_settings(survey, common, "match");
  if (!pairs_file.empty()) survey.list_pairs(pairs_file);
  const MatchReport report = survey.match();
  warn_lonely(survey, report, monitor);
  print_match(survey, report, common);
  if (report.verified == 0)
    throw Error(ErrorKind::computation, common.survey, "no pair of photos shares a view",
                "take photos that overlap by two thirds; `icefield photos` shows sharpness and exposure");
  if (!common.json) next("icefield pose " + common.survey);
  return 0;
}

int pose_command(const Common& common, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  apply_settings(survey, common, "pose");
  if (!common.effort.empty())
    monitor.log(LogLevel::info,
                "no setting of `pose` hangs on the effort; `match --effort` finds more features or fewer");
  print_pose(survey, survey.pose(), common);
  if (!common.json)
    next(fmt::format("look at it with `icefield view {0} block`, then icefield densify {0}", common.survey));
  return 0;
}

int adjust_command(const Common& common, const AdjustCommandRequest& request, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  if (request.undo) {
    if (!survey.undo_adjust())
      throw Error(ErrorKind::usage, survey.folder().string(), "has no adjustment to undo",
                  "`icefield adjust` makes one");
    Json json = {{"undone", true}};
    if (!common.json) fmt::print("The blocks are what they were before the last adjustment\n");
    print_blocks(survey, *survey.posed(), json, common.json);
    if (common.json) print_json(json);
    return 0;
  }
  posed_or_throw(survey);
  AdjustRequest wanted;
  wanted.block = request.block - 1;
  wanted.free = request.free;
  wanted.held = request.held;
  wanted.remove_weak = request.remove_weak;
  wanted.weak.max_standardised = request.level;
  wanted.weak.max_sigma_gsd = request.sigma;
  wanted.weak.min_angle_deg = request.angle;
  wanted.weak.max_share = 0.01 * request.share_percent;
  wanted.weak.max_passes = request.passes;
  const AdjustReport report = survey.adjust(wanted);
  const OrientResult& result = *survey.posed();
  const Block& block = result.blocks[wanted.block];
  Json json = {{"outcome", report.outcome},
               {"rms_before_px", report.before.rms_px},
               {"rms_after_px", report.after.rms_px},
               {"passes", Json::array()},
               {"crowding", Json::array()}};
  Table passes({"pass", "tie points", "weak", "by residual", "by sigma", "by angle", "points out", "observations out",
                "largest residual", "sigma px", "RMS before", "after"});
  for (std::size_t i = 0; i < report.passes.size(); ++i) {
    const WeakPointPass& p = report.passes[i];
    json["passes"].push_back({{"points", p.points},
                              {"observations", p.observations},
                              {"weak", p.weak},
                              {"by_residual", p.by_residual},
                              {"by_sigma", p.by_sigma},
                              {"by_angle", p.by_angle},
                              {"removed_points", p.removed_points},
                              {"removed_observations", p.removed_observations},
                              {"largest_standardised", p.largest_standardised},
                              {"largest_sigma_gsd", p.largest_sigma_gsd},
                              {"sigma_px", p.sigma_px},
                              {"rms_before_px", p.rms_before_px},
                              {"rms_after_px", p.rms_after_px}});
    passes.add({fmt::format("{}", i + 1), fmt::format("{}", p.points), fmt::format("{}", p.weak),
                fmt::format("{}", p.by_residual), fmt::format("{}", p.by_sigma), fmt::format("{}", p.by_angle),
                fmt::format("{}", p.removed_points), fmt::format("{}", p.removed_observations),
                fmt::format("{:.1f}", p.largest_standardised), fmt::format("{:.3f}", p.sigma_px),
                fmt::format("{:.3f}", p.rms_before_px), fmt::format("{:.3f}", p.rms_after_px)});
  }
  std::vector<std::string> warnings;
  for (const Crowding& c : report.crowding) {
    const double share = 100.0 * static_cast<double>(c.removed) / static_cast<double>(c.of);
    // The photo that sees the most of the place.
    std::string where;
    if (c.in_photo) {
      where = survey.photo_name(block.photos[c.photo].photo);
    } else {
      std::map<std::uint32_t, std::size_t> seen;
      for (std::size_t p = 0; p < block.points.size(); ++p)
        if ((block.points[p] - c.place).norm() < c.size)
          for (const Observation& o : block.of_point(p)) ++seen[o.photo];
      const auto most =
          std::max_element(seen.begin(), seen.end(), [](const auto& a, const auto& b) { return a.second < b.second; });
      where =
          fmt::format("around {:.3f} {:.3f} {:.3f}{}", c.place.x(), c.place.y(), c.place.z(),
                      most == seen.end() ? "" : ", seen best by " + survey.photo_name(block.photos[most->first].photo));
    }
    json["crowding"].push_back(
        {{"where", where}, {"removed", c.removed}, {"of", c.of}, {"usual_percent", 100 * c.usual_share}});
    warnings.push_back(
        fmt::format("{}: {} of {} {} taken out ({:.1f} percent; {:.1f} in the whole block): a local fault (a moved "
                    "thing, a glossy one, a wrong match of photos) rather than noise",
                    where, c.removed, c.of, c.in_photo ? "observations" : "tie points", share, 100 * c.usual_share));
  }
  if (!common.json) {
    fmt::print("Block {}: {}; RMS {:.3f} -> {:.3f} px\n", request.block, report.outcome, report.before.rms_px,
               report.after.rms_px);
    if (!report.passes.empty()) fmt::print("{}\n", passes.text());
  }
  print_blocks(survey, result, json, common.json);
  for (const std::string& warning : warnings) monitor.log(LogLevel::warning, warning);
  if (common.json)
    print_json(json);
  else
    next(fmt::format("icefield view {0} block --by residual; icefield adjust {0} --undo brings the block before back",
                     common.survey));
  return 0;
}

int join_command(const Common& common, const JoinCommandRequest& request, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  posed_or_throw(survey);
  JoinOptions options;
  options.min_agreeing = request.least;
  const JoinResult joined = survey.join(request.first - 1, request.second - 1, options);
  Json json = {{"joined", joined.joined},
               {"outcome", joined.outcome},
               {"common_points", joined.common_points},
               {"common_photos", joined.common_photos},
               {"agreeing", joined.agreeing}};
  if (!joined.joined)
    throw Error(ErrorKind::computation, fmt::format("blocks {} and {}", request.first, request.second),
                "cannot be joined (" + joined.outcome + ")",
                "photos that show both parts tie them together; --least asks for fewer common points");
  if (!common.json) fmt::print("{}\n", joined.outcome);
  print_blocks(survey, *survey.posed(), json, common.json);
  if (common.json)
    print_json(json);
  else
    next(fmt::format("icefield view {0} block; icefield adjust {0} --undo parts them again", common.survey));
  return 0;
}

int densify_command(const Common& common, const DensifyRequest& request, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  if (request.dry_run) survey.try_out();
  apply_settings(survey, common, "densify");
  const auto outline = request.outline.empty() ? std::vector<Eigen::Vector2d>{} : read_outline(request.outline);
  if (!request.bounds.empty()) {
    Bounds bounds = box_of(request.bounds, "--bounds");
    bounds.outline = outline;
    survey.set_bounds(bounds);
  } else if (!outline.empty()) {
    survey.set_outline(outline);
  } else if (request.automatic_bounds) {
    survey.set_bounds(std::nullopt);
  }
  if (request.dry_run) return print_estimate(survey, common);
  print_dense(survey, survey.densify(), common);
  if (!common.json) next(fmt::format("icefield view {} cloud", common.survey));
  return 0;
}

int run_command(const Common& common, const std::string& to, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  apply_settings(survey, common);
  if (to == "match") {
    const MatchReport report = survey.match();
    warn_lonely(survey, report, monitor);
    print_match(survey, report, common);
  } else if (to == "pose") {
    print_pose(survey, survey.pose(), common);
  } else {
    const OrientResult& result = survey.pose();
    if (!common.json) print_pose(survey, result, common);
    print_dense(survey, survey.densify(), common);
  }
  if (!common.json) next("icefield status " + common.survey);
  return 0;
}

namespace {

std::string size_text(std::uintmax_t bytes) {
  return bytes < 10000000 ? fmt::format("{:.1f} MB", 1e-6 * static_cast<double>(bytes))
                          : fmt::format("{:.0f} MB", 1e-6 * static_cast<double>(bytes));
}

// By part; returns what no present result needs.
std::uintmax_t show_disk_use(const DiskUse& use, Json& json, Table& table) {
  std::uintmax_t idle = 0;
  for (const DiskUse::Part& part : use.parts) {
    idle += part.idle_bytes;
    json.push_back({{"part", part.what},
                    {"count", part.count},
                    {"bytes", part.bytes},
                    {"idle", part.idle},
                    {"idle_bytes", part.idle_bytes}});
    table.add({part.what, fmt::format("{}", part.count), size_text(part.bytes), fmt::format("{}", part.idle),
               part.idle > 0 ? size_text(part.idle_bytes) : "-"});
  }
  return idle;
}

Table disk_table() {
  return Table({"on disk ", "number", "size", "not needed", "size of it"});
}

}  // namespace

int status_command(const Common& common, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  const PhotoList& list = survey.photos();
  const Settings& settings = survey.settings();
  Json json = {{"photos", list.used},
               {"left_out", list.photos.size() - list.used},
               {"effort", effort_name(settings.effort)},
               {"step_effort", Json::object()},
               {"in_use", survey.is_in_use()},
               {"steps", Json::array()},
               {"disk", Json::array()}};
  std::string efforts = effort_name(settings.effort);
  for (const auto& [step, effort] : settings.step_effort) {
    json["step_effort"][step] = effort_name(effort);
    efforts += fmt::format(", {} of {}", effort_name(effort), step);
  }
  Table table({"step ", "state ", "took", "result "});
  std::string first_open, reasons;
  for (const StepStatus& s : survey.status()) {
    Json files = Json::array();
    for (const ProductFile& file : s.files)
      files.push_back({{"file", file.file.string()}, {"state", describe(file.state)}, {"bytes", file.bytes}});
    json["steps"].push_back({{"step", s.step},
                             {"state", describe(s.state)},
                             {"seconds", s.seconds},
                             {"result", s.result},
                             {"reasons", s.reasons},
                             {"history", s.history},
                             {"files", files}});
    table.add({s.step, describe(s.state), s.seconds > 0 ? duration_text(s.seconds) : "-", s.result});
    constexpr std::size_t kNamed = 4;
    for (std::size_t i = 0; i < std::min(s.reasons.size(), kNamed); ++i)
      reasons += fmt::format("{} is stale: {}\n", s.step, s.reasons[i]);
    if (s.reasons.size() > kNamed)
      reasons += fmt::format("{} is stale: {} more reasons (--json lists all)\n", s.step, s.reasons.size() - kNamed);
    if (first_open.empty() && s.state != StepState::fresh) first_open = s.step;
  }
  Table disk = disk_table();
  const std::uintmax_t idle = show_disk_use(survey.disk_use(), json["disk"], disk);
  if (common.json) {
    print_json(json);
    return 0;
  }
  fmt::print("{} photos ({} left out), {} camera{}, effort {}\n", list.used, list.photos.size() - list.used,
             list.cameras.size(), list.cameras.size() == 1 ? "" : "s", efforts);
  if (survey.is_in_use()) fmt::print("A run is going on; this is what it found when this command began.\n");
  fmt::print("\n{}{}{}\n{}", table.text(), reasons.empty() ? "" : "\n", reasons, disk.text());
  if (idle > 0) fmt::print("`icefield tidy {}` frees {}\n", common.survey, size_text(idle));
  next(first_open.empty() ? "all steps are fresh; icefield export " + common.survey + " --cloud FILE.ply"
                          : "icefield " + first_open + " " + common.survey);
  return 0;
}

int tidy_command(const Common& common, bool dry_run, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  const DiskUse use = dry_run ? survey.disk_use() : survey.tidy();
  Json parts = Json::array();
  Table disk = disk_table();
  const std::uintmax_t idle = show_disk_use(use, parts, disk);
  if (common.json) {
    print_json({{"parts", parts}, {"idle_bytes", idle}, {"freed", !dry_run}});
    return 0;
  }
  fmt::print("{}{} that no present result needs {}\n", disk.text(), size_text(idle),
             dry_run ? "would be freed" : "freed; going back to other settings computes it again");
  next("icefield status " + common.survey);
  return 0;
}

int settings_command(const Common& common, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  apply_settings(survey, common);
  Json json;
  Table table({"setting ", "value", "default", "unit ", "meaning "});
  for (const SettingInfo& info : survey.settings().list()) {
    json.push_back({{"key", info.key},
                    {"value", info.value},
                    {"default", info.default_value},
                    {"unit", info.unit},
                    {"meaning", info.meaning}});
    table.add({info.key, info.value == info.default_value ? info.value : "* " + info.value, info.default_value,
               info.unit, info.meaning});
  }
  if (common.json) {
    print_json({{"effort", effort_name(survey.settings().effort)}, {"settings", json}});
    return 0;
  }
  fmt::print("Effort: {} (draft, standard or fine; sets several of these at once). * differs from its default.\n\n{}",
             effort_name(survey.settings().effort), table.text());
  next("change one with `icefield settings " + common.survey + " --set section.key=value` or in survey.toml");
  return 0;
}

int export_command(const Common& common, const ExportRequest& request, Monitor& monitor) {
  if (request.cameras.empty() && request.tie_points.empty() && request.cloud.empty() && request.undistorted.empty() &&
      request.depth_maps.empty() && request.depth_points.empty())
    throw Error(ErrorKind::usage, "export", "has nothing to write",
                "give --cameras, --tie-points, --cloud, --undistorted, --depth-maps or --depth-points");
  Survey survey = open_survey(common, monitor);
  if (request.stale && !(request.undistorted.empty() && request.depth_maps.empty() && request.depth_points.empty()))
    throw Error(ErrorKind::usage, "--stale", "is for cameras, tie points and cloud alone",
                "leave it out, or export the others by themselves");
  const std::size_t index = request.block - 1;
  if (!request.stale) {
    chosen_block(survey, request.block);
    survey.mend_files();
  }
  const auto cameras_now = [&] {
    return request.stale ? read_camera_file(file_as_it_is(survey, request.block, "cameras.json", monitor))
                         : survey.cameras(index);
  };
  // LAS keeps coordinates by the smallest pixel on the subject.
  const auto smallest_pixel = [&](CloudFormat format) {
    double gsd = 0;
    if (format == CloudFormat::las)
      for (const CameraFile::Photo& photo : cameras_now().photos)
        if (photo.gsd > 0 && (gsd == 0 || photo.gsd < gsd)) gsd = photo.gsd;
    return gsd > 0 ? gsd : CloudContent{}.spacing;
  };
  const auto made_folder = [](const fs::path& folder) {
    std::error_code error;
    fs::create_directories(folder, error);
    if (error)
      throw Error(ErrorKind::resource, folder.string(), "cannot be made (" + error.message() + ")",
                  "check permissions and free space");
    return folder;
  };
  Json written = Json::array();
  const auto note = [&](const fs::path& file, const std::string& what) {
    written.push_back({{"file", file.string()}, {"content", what}});
    if (!common.json) fmt::print("{}: {}\n", file.string(), what);
  };
  if (!request.cameras.empty()) {
    const CameraFile cameras = cameras_now();
    write_camera_file(request.cameras, cameras);
    note(request.cameras, fmt::format("{} cameras, {} poses", cameras.cameras.size(), cameras.photos.size()));
  }
  if (!request.tie_points.empty()) {
    const CloudFormat format = cloud_format_of(request.tie_points, request.ascii);
    const PointCloud points = request.stale ? read_ply(file_as_it_is(survey, request.block, "tie_points.ply", monitor))
                                            : survey.tie_points(index);
    write_cloud(request.tie_points, format, points, smallest_pixel(format));
    note(request.tie_points, fmt::format("{} tie points", points.size()));
  }
  if (!request.cloud.empty()) {
    const CloudFormat format = cloud_format_of(request.cloud, request.ascii);
    const fs::path ply =
        request.stale ? file_as_it_is(survey, request.block, "dense.ply", monitor) : survey.cloud_file(index);
    note(request.cloud, fmt::format("{} points", copy_cloud(ply, request.cloud, format, smallest_pixel(format))));
  }
  if (!request.undistorted.empty()) {
    const fs::path folder = made_folder(request.undistorted);
    const Block& block = chosen_block(survey, request.block);
    const PhotoList& list = survey.photos();
    CameraFile pinhole = survey.cameras(index);
    Executor(common.threads).run("undistort", block.photos.size(), monitor, [&](std::size_t i) {
      const PosedPhoto& posed = block.photos[i];
      const SurveyPhoto& photo = list.photos[posed.photo.value];
      const DenseView view =
          undistort(read_photo(photo.file, survey.settings().photo), block.camera_of(posed), posed.pose, 1);
      PhotoMetadata metadata = photo.metadata;
      metadata.display_rotation = 1;
      write_photo(folder / (fs::path(photo.name).filename().stem().string() + fmt::format("_{:04}.png", i + 1)),
                  view.colour, metadata);
    });
    for (Camera& camera : pinhole.cameras) {
      const Camera original = camera;
      camera = make_camera(CameraModel::pinhole, original.width, original.height, original.focal());
      camera.parameters[1] = original.parameters[1];
      camera.parameters[2] = original.parameters[2];
    }
    for (std::size_t i = 0; i < pinhole.photos.size(); ++i)
      pinhole.photos[i].name =
          fs::path(pinhole.photos[i].name).filename().stem().string() + fmt::format("_{:04}.png", i + 1);
    write_camera_file(folder / "cameras.json", pinhole);
    note(folder, fmt::format("{} photos without distortion, and cameras.json", block.photos.size()));
  }
  if (!request.depth_maps.empty()) {
    const CameraFile posed = survey.cameras(index);
    const fs::path folder = made_folder(request.depth_maps);
    const Block& block = chosen_block(survey, request.block);
    CameraFile cameras;
    cameras.units = posed.units, cameras.crs = posed.crs, cameras.bounds = posed.bounds;
    for (std::size_t i = 0; i < block.photos.size(); ++i) {
      monitor.check();
      monitor.progress("depth maps", i, block.photos.size());
      const auto map = survey.depth_map(request.block - 1, i);
      if (!map) continue;  // a photo without neighbours
      ImageF depth = map->depth;
      for (int y = 0; y < depth.height(); ++y)
        for (int x = 0; x < depth.width(); ++x)
          if (map->cost_at(x, y) > survey.settings().dense.max_cost) depth.at(x, y) = 0;
      const std::string name = fs::path(survey.photo_name(block.photos[i].photo)).filename().stem().string() +
                               fmt::format("_{:04}.{}", i + 1, request.depth_format);
      write_float_image(folder / name, depth);
      cameras.photos.push_back(
          {name, cameras.cameras.size(), map->pose, i < posed.photos.size() ? posed.photos[i].gsd : 0});
      cameras.cameras.push_back(map->camera);
      cameras.camera_names.push_back("depth map of " + survey.photo_name(block.photos[i].photo));
    }
    if (cameras.photos.empty())
      throw Error(ErrorKind::usage, survey.folder().string(), "has no fresh depth map",
                  "run `icefield densify " + survey.folder().string() + "` first");
    write_camera_file(folder / "cameras.json", cameras);
    note(folder, fmt::format("{} depth maps, and cameras.json", cameras.photos.size()));
  }
  if (!request.depth_points.empty()) {
    const Block& block = chosen_block(survey, request.block);
    const PointCloud points =
        points_of(depth_map_of(survey, request.block, photo_of_block(survey, block, request.photo)),
                  survey.settings().dense.max_cost);
    const CloudFormat format = cloud_format_of(request.depth_points, request.ascii);
    write_cloud(request.depth_points, format, points, smallest_pixel(format));
    note(request.depth_points, fmt::format("{} points of one depth map", points.size()));
  }
  if (common.json) print_json({{"written", written}});
  return 0;
}

int compare_command(const Common& common, const CompareRequest& request, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  const CameraFile truth = read_camera_file(request.cameras);
  // Pairs can be measured before anything is posed.
  const bool posed_already = survey.posed() != nullptr;
  if (!posed_already && !request.surface.empty()) posed_or_throw(survey);  // says what is missing
  if (!posed_already)
    monitor.log(LogLevel::warning, common.survey + ": has no fresh block: only the pairs are compared");
  std::optional<CameraComparison> cameras;
  if (posed_already) {
    cameras = compare_cameras(named_poses(survey.cameras(request.block - 1)), named_poses(truth));
    if (!cameras)
      throw Error(ErrorKind::input, request.cameras,
                  "shares fewer than three photos with the block, or they stand in one line",
                  "give the true cameras of this photo set");
  }
  const std::string units = truth.units;
  Json json;
  if (cameras)
    json["cameras"] = {{"truth_photos", cameras->truth_photos},
                       {"posed", cameras->posed},
                       {"wrong", cameras->wrong},
                       {"missing", cameras->missing},
                       {"units", units},
                       {"median_position", cameras->median_position},
                       {"median_position_gsd", cameras->median_position_gsd},
                       {"rms_position", cameras->rms_position},
                       {"max_position", cameras->max_position},
                       {"max_position_gsd", cameras->max_position_gsd},
                       {"median_orientation_deg", cameras->median_orientation_deg},
                       {"max_orientation_deg", cameras->max_orientation_deg},
                       {"median_focal_error_percent", cameras->median_focal_error_percent}};
  for (const PhotoError& e : cameras ? cameras->photos : std::vector<PhotoError>{})
    json["cameras"]["by_photo"].push_back({{"name", e.name},
                                           {"position", e.position},
                                           {"position_gsd", e.position_gsd},
                                           {"orientation_deg", e.orientation_deg},
                                           {"wrong", e.wrong}});
  if (cameras && !common.json) {
    fmt::print("Photos posed {} of {}, wrongly {}\n", cameras->posed, cameras->truth_photos, cameras->wrong);
    Table table({"error of ", "median", "largest", "unit "});
    table.add({"position", fmt::format("{:.5f}", cameras->median_position),
               fmt::format("{:.5f}", cameras->max_position), units});
    table.add({"position", fmt::format("{:.3f}", cameras->median_position_gsd),
               fmt::format("{:.3f}", cameras->max_position_gsd), "GSD"});
    table.add({"orientation", fmt::format("{:.4f}", cameras->median_orientation_deg),
               fmt::format("{:.4f}", cameras->max_orientation_deg), "degrees"});
    table.add({"focal length", fmt::format("{:.4f}", cameras->median_focal_error_percent), "", "percent"});
    fmt::print("{}", table.text());
  }
  need_matches(survey);
  const MatchedPhotos matched = survey.matched();
  std::map<std::string, NamedPose> by_name;
  for (NamedPose& pose : named_poses(truth)) by_name.emplace(pose.name, pose);
  std::vector<std::optional<NamedPose>> true_poses;
  std::vector<std::string> names;
  for (std::size_t i = 0; i < matched.keypoints.size(); ++i) {
    names.push_back(survey.photo_name(PhotoIndex(i)));
    const auto found = by_name.find(names.back());
    true_poses.push_back(found == by_name.end() ? std::nullopt : std::optional<NamedPose>(found->second));
  }
  const std::vector<PhotoOverlap> overlaps =
      request.overlap.empty() ? std::vector<PhotoOverlap>{} : read_overlap_file(request.overlap);
  const PairComparison p = compare_pairs(names, matched.keypoints, matched.pairs, true_poses, overlaps);
  const auto percent = [](std::size_t part, std::size_t whole) {
    return whole > 0 ? 100.0 * static_cast<double>(part) / static_cast<double>(whole) : 0.0;
  };
  json["pairs"] = {{"tried", p.tried},
                   {"verified", p.verified},
                   {"wrong", p.wrong},
                   {"matches", p.matches},
                   {"right_matches", p.right}};
  if (!common.json)
    fmt::print("\nPairs: {} tried, {} verified, {} of them wrong; {:.2f} percent of {} matches right\n", p.tried,
               p.verified, p.wrong, percent(p.right, p.matches), p.matches);
  if (!request.overlap.empty()) {
    json["pairs"]["overlapping"] = p.overlapping;
    if (!common.json)
      fmt::print("{} pairs overlap by over 5 percent: {:.2f} times as many tried\n", p.overlapping,
                 static_cast<double>(p.tried) / static_cast<double>(std::max<std::size_t>(p.overlapping, 1)));
    for (const auto& [found, key, words] :
         {std::tuple{p.well_and_narrow, "well_overlapping_under_45_deg", "25 percent at under 45 degrees"},
          std::tuple{p.well, "well_overlapping", "25 percent at any angle"}}) {
      json["pairs"][key] = {{"pairs", found.pairs}, {"tried", found.tried}, {"verified", found.verified}};
      if (!common.json)
        fmt::print("{} overlap by over {}: {:.1f} percent of them tried, {:.1f} verified\n", found.pairs, words,
                   percent(found.tried, found.pairs), percent(found.verified, found.pairs));
    }
  }
  if (const OrientResult* posed = survey.posed()) {
    const TrackedPhotos tracked = survey.tracks();
    const ObservationComparison o =
        compare_observations(tracked.photos, tracked.tracks, posed->blocks, true_poses, Executor(common.threads));
    const double rms = block_statistics(posed->blocks[request.block - 1]).rms_px;
    json["observations"] = {
        {"rms_px", rms},    {"tracks", o.tracks},         {"wrong_tracks", o.wrong_tracks},
        {"right", o.right}, {"right_kept", o.right_kept}, {"right_kept_percent", o.right_kept_percent()},
        {"wrong", o.wrong}, {"wrong_kept", o.wrong_kept}};
    if (!common.json)
      fmt::print(
          "\nObservations: RMS {:.3f} px with {:.1f} percent of the right ones kept ({} of {}); of {} wrong ones {} "
          "kept; {:.2f} percent of {} tracks wrong\n",
          rms, o.right_kept_percent(), o.right_kept, o.right, o.wrong, o.wrong_kept,
          o.tracks > 0 ? 100.0 * static_cast<double>(o.wrong_tracks) / static_cast<double>(o.tracks) : 0.0, o.tracks);
  }
  if (!request.surface.empty()) {
    const PointCloud surface = read_ply(request.surface);
    PointCloud cloud = request.stale ? read_ply(file_as_it_is(survey, request.block, "dense.ply", monitor))
                                     : survey.cloud(request.block - 1);
    for (Eigen::Vector3f& x : cloud.positions)
      x = (cameras->to_truth * (cloud.origin + x.cast<double>()) - surface.origin).cast<float>();
    cloud.origin = surface.origin;
    const CloudComparison c = compare_clouds(cloud, surface, truth.bounds, Executor(common.threads), monitor);
    json["cloud"] = {{"points", c.result_points},
                     {"truth_points", c.truth_points},
                     {"counted_points", c.counted_points},
                     {"median_distance_gsd", c.median_distance_gsd},
                     {"far_percent", c.far_percent}};
    Table table({"within", "accuracy %", "completeness %", "F1"});
    for (const CloudScore& s : c.scores) {
      json["cloud"]["scores"].push_back({{"gsd", s.at_gsd},
                                         {"accuracy_percent", s.accuracy_percent},
                                         {"completeness_percent", s.completeness_percent},
                                         {"f1", s.f1}});
      table.add({fmt::format("{:g} GSD", s.at_gsd), fmt::format("{:.1f}", s.accuracy_percent),
                 fmt::format("{:.1f}", s.completeness_percent), fmt::format("{:.3f}", s.f1)});
    }
    if (!common.json)
      fmt::print("\nCloud: {} points within the bounds, median distance {:.2f} GSD, {:.2f} percent over 10 GSD\n{}",
                 c.result_points, c.median_distance_gsd, c.far_percent, table.text());
  }
  if (common.json) print_json(json);
  return 0;
}

int demo_command(const Common& common, Monitor& monitor) {
  fs::path source = fs::path(ICEFIELD_DEMO_FOLDER) / "cairn";
  if (!fs::exists(source)) source = fs::path(ICEFIELD_SOURCE_DEMO_FOLDER) / "cairn";
  if (!fs::exists(source / "photos"))
    throw Error(ErrorKind::resource, source.string(), "is missing",
                "install Icefield again, or run it from its source tree");
  const fs::path photos = fs::path(common.survey) / "photos";
  std::error_code error;
  fs::create_directories(photos, error);
  if (!error) fs::copy(source / "photos", photos, fs::copy_options::recursive | fs::copy_options::skip_existing, error);
  if (error)
    throw Error(ErrorKind::resource, photos.string(), "cannot be written (" + error.message() + ")",
                "check permissions and free space");
  Survey::begin(common.survey, {photos});
  Survey survey = open_survey(common, monitor);
  apply_settings(survey, common);
  const PhotoList& list = survey.photos();
  if (!common.json) fmt::print("{} photos of a made-up cairn in {}\n\n", list.used, photos.string());
  const MatchReport matched = survey.match();
  if (!common.json) {
    print_match(survey, matched, common);
    fmt::print("\n");
  }
  const OrientResult& result = survey.pose();
  if (!common.json) {
    print_pose(survey, result, common);
    fmt::print("\n");
  }
  print_dense(survey, survey.densify(), common);
  if (!common.json)
    next(fmt::format("icefield compare {} --cameras {}", common.survey, (source / "truth" / "cameras.json").string()));
  return 0;
}
