#include "simulate/survey_control.h"

#include <fmt/format.h>

#include "icefield/base/error.h"
#include "icefield/io/control_file.h"
#include "icefield/io/text_file.h"
#include "icefield/world/crs.h"
#include "icefield/world/local_frame.h"

namespace icefield::simulate {
namespace fs = std::filesystem;
using Eigen::Vector3d;

struct ScenePlaces::Way {
  CrsTransform to_grid, to_sphere;
  LocalFrame frame;
  bool over_sea;
  double geoid;
};

namespace {

// Of the sea over the ellipsoid; 0 where this machine does not know it.
double geoid_height() {
  const CrsTransform way("EPSG:4979", "EPSG:4326+5773");
  const auto place = way({kLongitude, kLatitude, 0});
  return place ? -place->z() : 0;
}

}  // namespace

ScenePlaces::ScenePlaces(const std::string& crs) {
  const double geoid = geoid_height();
  way_ = std::make_unique<Way>(
      Way{CrsTransform("EPSG:4979", crs.substr(0, crs.find('+'))), CrsTransform("EPSG:4978", "EPSG:4979"),
          LocalFrame(GpsPosition{kLatitude, kLongitude, kHeight + geoid}), !crs_of(crs).vertical_name.empty(), geoid});
}
ScenePlaces::~ScenePlaces() = default;

Vector3d ScenePlaces::operator()(const Vector3d& place) const {
  const Vector3d geographic = *way_->to_sphere(way_->frame.to_earth_centred(place));
  Vector3d in_grid = *way_->to_grid(geographic);
  in_grid.z() = geographic.z() - (way_->over_sea ? way_->geoid : 0);
  return in_grid;
}

namespace {

void spoil(std::vector<ControlPointRow>& points, std::vector<MarkRow>& marks, const std::string& fault,
           const std::vector<Vector3d>& places) {
  const auto other_zone = [&](std::size_t p) { return ScenePlaces("EPSG:25833")(places[p]); };
  if (fault == "gross") {
    points[1].place += Vector3d(0.3, -0.4, 0);
  } else if (fault == "exchanged") {
    std::swap(points[0].place, points[2].place);
  } else if (fault == "axes") {
    for (ControlPointRow& p : points) std::swap(p.place.x(), p.place.y());
  } else if (fault == "zone") {
    for (std::size_t p = 0; p < points.size(); ++p) points[p].place = other_zone(p);
  } else if (fault == "two-crs") {
    for (const std::size_t p : {1, 3}) points[p].place = other_zone(p);
  } else if (fault == "degrees") {
    const CrsTransform way("EPSG:4979", "EPSG:25832");
    for (std::size_t p = 0; p < points.size(); ++p)
      points[p].place.head<2>() = way.back(ScenePlaces("EPSG:25832")(places[p]))->head<2>();
  } else if (fault == "feet") {
    for (ControlPointRow& p : points) p.place /= 0.3048;
  } else if (fault == "mark") {
    marks[2].pixel += Eigen::Vector2d(24, -18);
  } else if (fault == "far") {
    points[3].place.x() += 100000;
  } else if (fault != "none") {
    throw Error(ErrorKind::usage, "fault '" + fault + "'", "is none that is known",
                "choose gross, exchanged, axes, zone, degrees, feet, mark, far or two-crs");
  }
}

}  // namespace

void write_survey_control(const fs::path& survey, const fs::path& folder, const SurveyControlOptions& options) {
  const PlanOptions made = read_plan(survey);
  const std::vector<PlannedPhoto> photos = plan_photos(made);
  const Scene scene(made.scene);
  Block truth;
  truth.cameras = {photos.front().shot.camera};
  for (std::size_t i = 0; i < photos.size(); ++i)
    truth.photos.push_back({PhotoIndex(i), CameraIndex(0), photos[i].shot.pose});
  const MadeUpControl control = make_control(
      truth, options.plan, [&](double x, double y) { return scene.height_at(x, y); },
      [&](std::size_t photo, const Vector3d& place) {
        const Vector3d from = photos[photo].shot.pose.centre, way = place - from;
        const double length = way.norm();
        return !scene.blocked(from.cast<float>(), (way / length).cast<float>(), static_cast<float>(length - 0.05));
      });
  const ScenePlaces places(options.crs);
  std::vector<ControlPointRow> points, true_points;
  std::vector<MarkRow> marks;
  for (std::size_t p = 0; p < control.places.size(); ++p) {
    const SurveyedPoint& point = control.control.points[p];
    points.push_back({0, point.name, places(point.position), point.sigma, point.use});
    true_points.push_back({0, point.name, places(control.places[p]), Vector3d::Zero(), point.use});
  }
  for (const Mark& mark : control.control.marks)
    marks.push_back({0, photos[mark.photo.value].name, points[mark.point].name, mark.pixel, mark.sigma_px});
  spoil(points, marks, options.fault, control.places);
  fs::create_directories(folder);
  write_file(folder / "points.csv", text_of_control_points(points));
  write_file(folder / "truth.csv", text_of_control_points(true_points));
  write_file(folder / "marks.csv", text_of_marks(marks));
  if (!options.plan.fixes) return;
  std::vector<PositionRow> positions;
  for (const PhotoFix& fix : control.control.fixes)
    positions.push_back({0, photos[fix.photo.value].name, places(fix.position), fix.sigma});
  write_file(folder / "positions.csv", text_of_positions(positions));
}

}  // namespace icefield::simulate
