#include <fmt/format.h>

#include <algorithm>
#include <numbers>

#include "icefield/base/statistics.h"
#include "icefield/report/documents.h"
#include "src/report/json.h"

namespace icefield {
namespace {

const char* model_name(TwoViewModel model) {
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

std::string place_text(const Eigen::Vector3d& v) {
  return fmt::format("{:.3f} {:.3f} {:.3f}", v.x(), v.y(), v.z());
}

Table poses_table(const PairMatches& pair, const PairStudy& study, Json& json) {
  Table table({"possible pose", "in front %", "turned deg", "second photo stands at x y z ", "plane faces x y z "});
  json = Json::array();
  for (const PossiblePose& p : study.poses) {
    const double turned = rotation_angle(p.pose.orientation, Eigen::Quaterniond::Identity()) * 180 / std::numbers::pi,
                 front = 100.0 * static_cast<double>(p.in_front) / static_cast<double>(pair.matches.size());
    json.push_back({{"in_front_percent", front},
                    {"turned_deg", turned},
                    {"position", json_of(p.pose.centre)},
                    {"orientation", json_of(p.pose.orientation)},
                    {"plane_normal", p.plane_normal ? json_of(*p.plane_normal) : Json(nullptr)}});
    table.add({fmt::format("{}", json.size()), fmt::format("{:.1f}", front), fmt::format("{:.2f}", turned),
               place_text(p.pose.centre), p.plane_normal ? place_text(*p.plane_normal) : "-"});
  }
  return table;
}

// Angles at which rays meet, and depths in baselines.
struct PointSpread {
  double angle_deg = 0;
  std::size_t narrow = 0;
  double near = 0, middle = 0, far = 0;
  explicit PointSpread(const std::vector<PairStudy::Point>& points) {
    std::vector<double> angles, depths;
    for (const PairStudy::Point& p : points)
      angles.push_back(p.angle_deg), depths.push_back(p.position.z()), narrow += p.angle_deg < 2;
    std::sort(depths.begin(), depths.end());
    const auto depth = [&](double share) {
      return depths.empty() ? 0.0 : depths[static_cast<std::size_t>(share * static_cast<double>(depths.size() - 1))];
    };
    angle_deg = median(angles);
    near = depth(0.02), middle = depth(0.5), far = depth(0.98);
  }
};

}  // namespace

Document pair_document(const PairDocumentInput& in, const PairMatches& pair, const PairStudy& study) {
  const PointSpread spread(study.points);
  Json json = {{"first", in.first},
               {"second", in.second},
               {"features", {in.first_features, in.second_features}},
               {"tried_by_match", in.tried},
               {"geometry", pair.verified() ? Json(name_of(pair.geometry)) : Json(nullptr)},
               {"no_geometry_because", pair.verified() ? Json(nullptr) : Json(name_of(pair.fault))},
               {"model", model_name(pair.model)},
               {"matches", pair.candidates},
               {"fixed_pattern", pair.fixed},
               {"verified", pair.matches.size()},
               {"guided", pair.guided},
               {"median_error_px", study.median_error_px}};
  Table poses = poses_table(pair, study, json["poses"]);
  json["points"] = {{"count", study.points.size()},
                    {"median_angle_deg", spread.angle_deg},
                    {"under_2_deg", spread.narrow},
                    {"depth_baselines", {spread.near, spread.middle, spread.far}}};
  Document document;
  document.say(
      fmt::format("{}: {} features\n{}: {} features", in.first, in.first_features, in.second, in.second_features));
  if (!in.tried)
    document.say("(`match` has not tried this pair; it is matched here and not kept. --pairs of `match` adds it.)");
  document.say(fmt::format("{} matches by descriptor{}; {} verified, {} of them found along the geometry",
                           pair.candidates,
                           pair.fixed > 0 ? fmt::format(", {} of them at the same pixel and left out", pair.fixed) : "",
                           pair.matches.size(), pair.guided));
  document.say(pair.verified() ? fmt::format("{}: {}", name_of(pair.geometry), describe(pair.geometry))
                               : fmt::format("no geometry: {}", describe(pair.fault)));
  if (pair.model != TwoViewModel::none)
    document.say(fmt::format("Geometry: {}; median distance of the verified matches from it {:.2f} px",
                             model_name(pair.model), study.median_error_px));
  document.show(std::move(poses),
                fmt::format("Poses that it allows, {} at the origin{}", in.first,
                            pair.geometry == PairGeometry::turned ? "" : ", the baseline as the unit of length"));
  if (!study.points.empty())
    document.say(fmt::format(
        "{} points by the first pose; rays meet at {:.1f} degrees (median), {} of them at under 2; depth {:.2f}, "
        "{:.2f}, {:.2f} baselines (2, 50 and 98 percent)",
        study.points.size(), spread.angle_deg, spread.narrow, spread.near, spread.middle, spread.far));
  if (!study.points.empty() && spread.angle_deg < 1)
    document.say("Most rays are nearly parallel: this pair tells little of depth.");
  document.json = text_of(json);
  return document;
}

}  // namespace icefield
