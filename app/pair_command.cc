#include <algorithm>
#include <numbers>

#include "icefield/base/statistics.h"
#include "icefield/io/photo_file.h"
#include "icefield/io/ply_file.h"
#include "icefield/match/study_pair.h"
#include "icefield/report/table.h"
#include "parts.h"

namespace {

Json list(const Eigen::Vector3d& v) {
  return Json{v.x(), v.y(), v.z()};
}
std::string text(const Eigen::Vector3d& v) {
  return fmt::format("{:.3f} {:.3f} {:.3f}", v.x(), v.y(), v.z());
}

const char* name_of(TwoViewModel model) {
  switch (model) {
    case TwoViewModel::essential:
      return "essential matrix, focal lengths known";
    case TwoViewModel::fundamental:
      return "fundamental matrix, focal lengths not known well enough";
    case TwoViewModel::homography:
      return "homography";
    case TwoViewModel::rotation:
      return "rotation";
    case TwoViewModel::none:
      break;
  }
  return "none";
}

// The points with the colours of the first photo.
void write_points(const std::string& file, const PairStudy& study, const PairMatches& pair,
                  const std::vector<Keypoint>& first, const ImageU8& photo) {
  PointCloud cloud;
  for (const PairStudy::Point& p : study.points) {
    const Keypoint& k = first[pair.matches[p.match].first.value];
    const int x = std::clamp(static_cast<int>(k.x), 0, photo.width() - 1),
              y = std::clamp(static_cast<int>(k.y), 0, photo.height() - 1);
    const auto channel = [&](int c) { return photo.at(x, y, photo.channels() < 3 ? 0 : c); };
    cloud.positions.push_back(p.position.cast<float>());
    cloud.colours.push_back({channel(0), channel(1), channel(2)});
  }
  write_ply(file, cloud);
}

}  // namespace

int pair_command(const Common& common, const PairRequest& request, Monitor& monitor) {
  Survey survey = open_survey(common, monitor);
  const PhotoList& photos = survey.photos();
  std::size_t i = photo_by_name(survey, request.first, 0), j = photo_by_name(survey, request.second, 0);
  if (i == j) throw Error(ErrorKind::usage, request.first, "is given twice", "name two photos");
  const bool swapped = i > j;
  if (swapped) std::swap(i, j);
  const Features first = survey.features(PhotoIndex(i)), second = survey.features(PhotoIndex(j));
  const CameraPrior &camera1 = photos.cameras[photos.photos[i].camera.value].prior,
                    &camera2 = photos.cameras[photos.photos[j].camera.value].prior;
  const std::optional<PairMatches> kept = survey.pair(PhotoIndex(i), PhotoIndex(j));
  const bool tried = kept.has_value();
  // A pair that `match` did not choose is matched here, and not kept.
  const PairMatches pair =
      tried ? *kept
            : verify_pair(first, second, match_descriptors(first, second, survey.settings().descriptor), camera1,
                          camera2, survey.settings().verify, 1);
  const std::vector<Keypoint> keypoints1 = survey.keypoints(PhotoIndex(i)),
                              keypoints2 = survey.keypoints(PhotoIndex(j));
  const PairStudy study = study_pair(pair, keypoints1, keypoints2, camera1, camera2, survey.settings().verify);
  if (!request.points.empty()) {
    if (study.points.empty())
      throw Error(ErrorKind::computation, photos.photos[i].name + " and " + photos.photos[j].name,
                  "have no points: " + std::string(describe(pair.fault)),
                  "choose another pair; `icefield view " + common.survey + " pairs` shows those with matches");
    write_points(request.points, study, pair, keypoints1, read_photo(photos.photos[i].file, survey.settings().photo));
  }

  const std::string &name1 = photos.photos[i].name, &name2 = photos.photos[j].name;
  std::vector<double> angles, depths;
  std::size_t narrow = 0;
  for (const PairStudy::Point& p : study.points)
    angles.push_back(p.angle_deg), depths.push_back(p.position.z()), narrow += p.angle_deg < 2;
  std::sort(depths.begin(), depths.end());
  const auto depth = [&](double share) {
    return depths.empty() ? 0.0 : depths[static_cast<std::size_t>(share * static_cast<double>(depths.size() - 1))];
  };
  Json json = {{"first", name1},
               {"second", name2},
               {"features", {first.size(), second.size()}},
               {"tried_by_match", tried},
               {"geometry", pair.verified() ? Json(name_of(pair.geometry)) : Json(nullptr)},
               {"no_geometry_because", pair.verified() ? Json(nullptr) : Json(name_of(pair.fault))},
               {"model", name_of(pair.model)},
               {"matches", pair.candidates},
               {"fixed_pattern", pair.fixed},
               {"verified", pair.matches.size()},
               {"guided", pair.guided},
               {"median_error_px", study.median_error_px},
               {"poses", Json::array()}};
  Table table({"possible pose", "in front %", "turned deg", "second photo stands at x y z ", "plane faces x y z "});
  for (const PossiblePose& p : study.poses) {
    const double turned = rotation_angle(p.pose.orientation, Eigen::Quaterniond::Identity()) * 180 / std::numbers::pi,
                 front = 100.0 * static_cast<double>(p.in_front) / static_cast<double>(pair.matches.size());
    const Eigen::Quaterniond& q = p.pose.orientation;
    json["poses"].push_back({{"in_front_percent", front},
                             {"turned_deg", turned},
                             {"position", list(p.pose.centre)},
                             {"orientation", {q.w(), q.x(), q.y(), q.z()}},
                             {"plane_normal", p.plane_normal ? list(*p.plane_normal) : Json(nullptr)}});
    table.add({fmt::format("{}", json["poses"].size()), fmt::format("{:.1f}", front), fmt::format("{:.2f}", turned),
               text(p.pose.centre), p.plane_normal ? text(*p.plane_normal) : "-"});
  }
  json["points"] = {{"count", study.points.size()},
                    {"median_angle_deg", median(angles)},
                    {"under_2_deg", narrow},
                    {"depth_baselines", {depth(0.02), depth(0.5), depth(0.98)}}};
  if (common.json) {
    print_json(json);
    return 0;
  }
  fmt::print("{}: {} features\n{}: {} features\n", name1, first.size(), name2, second.size());
  if (!tried)
    fmt::print("(`match` has not tried this pair; it is matched here and not kept. --pairs of `match` adds it.)\n");
  fmt::print("\n{} matches by descriptor{}; {} verified, {} of them found along the geometry\n", pair.candidates,
             pair.fixed > 0 ? fmt::format(", {} of them at the same pixel and left out", pair.fixed) : "",
             pair.matches.size(), pair.guided);
  if (pair.verified())
    fmt::print("{}: {}\n", name_of(pair.geometry), describe(pair.geometry));
  else
    fmt::print("no geometry: {}\n", describe(pair.fault));
  if (pair.model != TwoViewModel::none)
    fmt::print("Geometry: {}; median distance of the verified matches from it {:.2f} px\n", name_of(pair.model),
               study.median_error_px);
  if (!study.poses.empty())
    fmt::print("\nPoses that it allows, {} at the origin{}:\n{}", name1,
               pair.geometry == PairGeometry::turned ? "" : ", the baseline as the unit of length", table.text());
  if (!study.points.empty())
    fmt::print(
        "\n{} points by the first pose; rays meet at {:.1f} degrees (median), {} of them at under 2; depth {:.2f}, "
        "{:.2f}, {:.2f} baselines (2, 50 and 98 percent)\n",
        study.points.size(), median(angles), narrow, depth(0.02), depth(0.5), depth(0.98));
  if (!study.points.empty() && median(angles) < 1)
    fmt::print("Most rays are nearly parallel: this pair tells little of depth.\n");
  if (!request.points.empty()) fmt::print("{}: {} points\n", request.points, study.points.size());
  if (swapped) fmt::print("(The photos are taken in the survey's order.)\n");
  next(tried ? fmt::format("icefield view {} matches --photo {} --with {}", common.survey, name1, name2)
             : fmt::format("icefield view {} pairs", common.survey));
  return 0;
}
