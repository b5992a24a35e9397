#include "src/survey/control_files.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <numbers>
#include <set>

#include "icefield/control/likely_causes.h"
#include "icefield/io/text_file.h"
#include "icefield/world/crs.h"
#include "icefield/world/world_frame.h"
#include "src/survey/photo_catalogue.h"
#include "src/survey/folder_lock.h"

namespace icefield {
namespace fs = std::filesystem;
namespace {

using Eigen::Vector3d;

double radians(double degrees) {
  return degrees * std::numbers::pi / 180;
}

fs::path file_of(const fs::path& survey, const char* what) {
  return survey / "control" / (std::string(what) + ".csv");
}

void put(const fs::path& file, const std::string& text, bool empty) {
  std::error_code error;
  if (empty) {
    fs::remove(file, error);
    return;
  }
  if (fs::exists(file, error) && read_file(file) == text) return;
  make_folder(file.parent_path());
  write_file(file, text);
}

std::string line_of(const std::string& source, int line) {
  return fmt::format("{}, line {}", source, line);
}

bool is_turned(const PhotoMetadata& m) {
  return m.display_rotation >= 5 && m.display_rotation <= 8;
}

}  // namespace

ControlLists read_control_lists(const fs::path& survey) {
  ControlLists lists;
  const auto there = [&](const char* what) {
    std::error_code error;
    return fs::exists(file_of(survey, what), error);
  };
  if (there("points")) lists.points = read_control_points(file_of(survey, "points")).points;
  if (there("marks")) lists.marks = read_marks(file_of(survey, "marks"));
  if (there("lengths")) lists.lengths = read_lengths(file_of(survey, "lengths"));
  if (there("positions")) lists.positions = read_positions(file_of(survey, "positions"));
  return lists;
}

void write_control_lists(const fs::path& survey, const ControlLists& lists) {
  put(file_of(survey, "points"), text_of_control_points(lists.points), lists.points.empty());
  put(file_of(survey, "marks"), text_of_marks(lists.marks), lists.marks.empty());
  put(file_of(survey, "lengths"), text_of_lengths(lists.lengths), lists.lengths.empty());
  put(file_of(survey, "positions"), text_of_positions(lists.positions), lists.positions.empty());
  std::error_code ignored;
  if (lists.empty()) fs::remove(survey / "control", ignored);
}

void check_control_lists(ControlLists& lists, const PhotoList& photos, const Survey::ControlSources& sources) {
  std::set<std::string> points;
  for (const ControlPointRow& point : lists.points) points.insert(point.name);
  for (const LengthRow& length : lists.lengths) points.insert(length.from), points.insert(length.to);
  const auto photo_of = [&](const std::string& name, const std::string& source, int line) -> const SurveyPhoto& {
    const std::vector<std::size_t> fitting = photos_named(name, photos.photos);
    if (fitting.size() == 1) return photos.photos[fitting[0]];
    throw Error(ErrorKind::input, line_of(source, line),
                fitting.empty() ? "names a photo that the survey does not have: '" + name + "'"
                                : fmt::format("names a photo that could be {} or {}: '{}'",
                                              photos.photos[fitting[0]].name, photos.photos[fitting[1]].name, name),
                "correct it; `icefield photos` shows the names");
  };
  for (MarkRow& mark : lists.marks) {
    const SurveyPhoto& photo = photo_of(mark.photo, sources.marks, mark.line);
    mark.photo = photo.name;
    if (!points.contains(mark.point))
      throw Error(
          ErrorKind::input, line_of(sources.marks, mark.line), "marks a point that is not known: '" + mark.point + "'",
          "correct the name, or add the point to the table of points (with the use spot if it has no coordinates)");
    const PhotoMetadata& m = photo.metadata;
    const auto within = [&](int width, int height) {
      return mark.pixel.x() >= 0 && mark.pixel.y() >= 0 && mark.pixel.x() <= width && mark.pixel.y() <= height;
    };
    if (m.width == 0 || within(m.width, m.height)) continue;
    const bool as_shown = is_turned(m) && within(m.height, m.width);
    throw Error(ErrorKind::input, line_of(sources.marks, mark.line),
                fmt::format("lies outside of {}, which has {} x {} pixels as stored{}", photo.name, m.width, m.height,
                            as_shown ? " and is shown turned" : ""),
                as_shown ? "give --as-shown if marks count in photos as they are shown"
                         : "count pixels from the upper left corner of the photo as stored");
  }
  for (PositionRow& position : lists.positions)
    position.photo = photo_of(position.photo, sources.positions, position.line).name;
}

void take_marks_as_shown(std::vector<MarkRow>& marks, const PhotoList& photos) {
  for (MarkRow& mark : marks) {
    const std::vector<std::size_t> fitting = photos_named(mark.photo, photos.photos);
    if (fitting.size() != 1) continue;  // an error later
    const PhotoMetadata& m = photos.photos[fitting[0]].metadata;
    const double x = mark.pixel.x(), y = mark.pixel.y(), w = m.width, h = m.height;
    switch (m.display_rotation) {
      case 2:
        mark.pixel = {w - x, y};
        break;
      case 3:
        mark.pixel = {w - x, h - y};
        break;
      case 4:
        mark.pixel = {x, h - y};
        break;
      case 5:
        mark.pixel = {y, x};
        break;
      case 6:  // shown a quarter clockwise: what is up there was left here
        mark.pixel = {y, h - x};
        break;
      case 7:
        mark.pixel = {w - y, h - x};
        break;
      case 8:
        mark.pixel = {w - y, x};
        break;
      default:
        break;
    }
  }
}

namespace {

// Positions of photos by their list or their receivers.
class Positions {
 public:
  Positions(const ControlLists& lists, const PhotoList& photos) {
    for (const PositionRow& row : lists.positions) by_name_.emplace(row.photo, &row);
    std::vector<std::optional<GpsPosition>> all;
    for (std::size_t i = 0; i < photos.used; ++i) all.push_back(photos.photos[i].metadata.gps);
    const std::vector<std::string> faults = faults_of_gps(all);
    std::vector<std::string> left_out;
    for (std::size_t i = 0; i < photos.used; ++i) {
      if (!all[i]) continue;
      if (faults[i].empty())
        gps_.emplace_back(PhotoIndex(i), *all[i]);
      else
        left_out.push_back(photos.photos[i].name + " " + faults[i]);
    }
    constexpr std::size_t kNamed = 3;
    for (std::size_t k = 0; k < std::min(kNamed, left_out.size()); ++k)
      remarks_.push_back("The position of " + left_out[k] + ": it takes no part.");
    if (left_out.size() > kNamed)
      remarks_.push_back(fmt::format("{} more photos have positions that cannot be.", left_out.size() - kNamed));
  }
  const PositionRow* listed(const std::string& photo) const {
    const auto found = by_name_.find(photo);
    return found == by_name_.end() ? nullptr : found->second;
  }
  const std::vector<std::pair<PhotoIndex, GpsPosition>>& gps() const { return gps_; }
  std::vector<GpsPosition> places() const {
    std::vector<GpsPosition> all;
    for (const auto& [photo, position] : gps_) all.push_back(position);
    return all;
  }
  const std::vector<std::string>& remarks() const { return remarks_; }

 private:
  std::map<std::string, const PositionRow*> by_name_;
  std::vector<std::pair<PhotoIndex, GpsPosition>> gps_;  // those that can be
  std::vector<std::string> remarks_;
};

// GPS as coordinates of the CRS.
class GpsInCrs {
 public:
  GpsInCrs(const Crs& crs, bool over_ellipsoid, std::vector<std::string>& remarks)
      : crs_(crs), plan_("EPSG:4979", crs.id.substr(0, crs.id.find('+'))), over_ellipsoid_(over_ellipsoid) {
    const bool from_the_sea = !crs.vertical_name.empty();
    if (over_ellipsoid && from_the_sea) {
      whole_.emplace("EPSG:4979", crs.id);
      remarks.insert(remarks.end(), whole_->remarks().begin(), whole_->remarks().end());
    } else if (!over_ellipsoid && !from_the_sea) {
      remarks.push_back(
          fmt::format("{} counts heights from the ellipsoid, the photos' receivers from the sea: heights are "
                      "taken as the receivers have them.",
                      crs.id));
    }
    if (!over_ellipsoid) return;
    for (const std::string& remark : plan_.remarks()) remarks.push_back(remark);
  }
  std::optional<Vector3d> operator()(const GpsPosition& gps) const {
    const Vector3d place(gps.longitude_deg, gps.latitude_deg, gps.altitude_m);
    auto in = plan_(place);
    if (!in) return std::nullopt;
    if (over_ellipsoid_ && whole_) {
      const auto with_height = (*whole_)(place);
      if (with_height) in->z() = with_height->z();
    } else if (!over_ellipsoid_) {
      in->z() = gps.altitude_m / crs_.metres_per_height_unit;
    }
    return in;
  }

 private:
  const Crs& crs_;
  CrsTransform plan_;
  std::optional<CrsTransform> whole_;
  bool over_ellipsoid_;
};

Vector3d middle_of(const std::vector<Vector3d>& places) {
  Vector3d sum = Vector3d::Zero();
  for (const Vector3d& p : places) sum += p;
  return places.empty() ? sum : Vector3d(sum / static_cast<double>(places.size()));
}

void need_projected(const Crs& crs, const std::vector<GpsPosition>& places) {
  if (crs.kind == CrsKind::projected) return;
  std::string offer = "give one with easting and northing; `icefield georeference SURVEY --find WORDS` lists them";
  if (!places.empty()) {
    offer = "give one with easting and northing, as";
    int named = 0;
    for (const CrsFound& found : find_crs("", Eigen::Vector2d(places[0].latitude_deg, places[0].longitude_deg), 400))
      if (found.kind == CrsKind::projected && found.name.find("UTM") != std::string::npos && named < 3) {
        offer += fmt::format("{} {} ({})", named > 0 ? "," : "", found.id, found.name);
        ++named;
      }
    if (named == 0) offer = "give one with easting and northing";
  }
  throw Error(ErrorKind::usage, crs.id, fmt::format("({}) is {}", crs.name, describe(crs.kind)), offer);
}

// What settings say of points by their names.
FrameByPoints frame_by_points(const GeoreferenceSettings& settings, const std::map<std::string, std::uint32_t>& index) {
  const auto points = [&](const char* key, const std::string& names, std::size_t least, std::size_t most) {
    std::vector<std::uint32_t> all;
    for (std::size_t from = 0; from < names.size();) {
      const std::size_t comma = std::min(names.find(',', from), names.size());
      const std::string name = trimmed(std::string_view(names).substr(from, comma - from));
      const auto found = index.find(name);
      if (found == index.end())
        throw Error(ErrorKind::usage, fmt::format("{}: point '{}'", key, name), "is in no table and has no mark",
                    "mark it first, as with `icefield mark`");
      all.push_back(found->second);
      from = comma + 1;
    }
    if (!all.empty() && (all.size() < least || all.size() > most))
      throw Error(ErrorKind::usage, key, fmt::format("has {} points", all.size()),
                  least == most ? fmt::format("give {}", least) : fmt::format("give {} or more", least));
    return all;
  };
  FrameByPoints frame;
  frame.level = points("georeference.level_points", settings.level_points, 3, 1000);
  if (const auto up = points("georeference.up_points", settings.up_points, 2, 2); !up.empty())
    frame.up.emplace(up[0], up[1]);
  if (const auto axis = points("georeference.axis_points", settings.axis_points, 2, 2); !axis.empty())
    frame.axis.emplace(axis[0], axis[1]);
  if (const auto zero = points("georeference.zero_point", settings.zero_point, 1, 1); !zero.empty())
    frame.zero = zero[0];
  return frame;
}

}  // namespace

PlacedControl placed_control(const ControlLists& lists, const PhotoList& photos, const GeoreferenceSettings& settings,
                             const fs::path& survey) {
  PlacedControl placed;
  const Positions positions(lists, photos);
  const std::vector<GpsPosition> gps = positions.places();
  std::vector<Vector3d> known;
  std::vector<NamedPlace> named;
  for (const ControlPointRow& point : lists.points)
    if (point.use != ControlUse::spot && point.place.allFinite()) {
      known.push_back(point.place);
      named.push_back({point.name, point.place});
    }
  // The CRS: as given; or, where photos alone know where they are, that of their zone.
  std::string id = settings.crs;
  const bool by_photos = known.empty() && lists.positions.empty() && settings.photo_positions && !gps.empty();
  if (id.empty() && by_photos) {
    id = utm_zone_of(gps[0].latitude_deg, gps[0].longitude_deg);
    placed.remarks.push_back(
        fmt::format("No CRS was given: coordinates are of {}, the zone of the photos' positions.", id));
  }
  std::optional<Crs> crs;
  if (!id.empty()) {
    crs = crs_of(id);
    need_projected(*crs, gps);
    placed.crs_name = crs->name;
    placed.datum.crs = crs->id;
    placed.datum.axes = Axes::east_north_up;
    const std::vector<std::string> causes = likely_causes(
        named, *crs, settings.photo_positions ? std::span<const GpsPosition>(gps) : std::span<const GpsPosition>());
    if (!causes.empty()) {
      std::string all;
      for (const std::string& cause : causes) {
        if (!all.empty()) all += ' ';
        all += cause;
      }
      all.pop_back();
      throw Error(ErrorKind::input, file_of(survey, "points").string(), "does not go with " + crs->id + ": " + all,
                  gps.empty()
                      ? "give the points' own CRS with --crs"
                      : "correct it, or give the points' own CRS with --crs; if the photos' positions are what is "
                        "wrong, --set georeference.photo_positions=false");
    }
    for (const std::string& remark : positions.remarks())
      if (settings.photo_positions) placed.remarks.push_back(remark);
  }
  placed.datum.units = "m";
  if (!crs && !known.empty()) placed.datum.axes = Axes::east_north_up;
  if (!crs && known.empty() && lists.positions.empty()) placed.datum.axes = Axes::guessed;

  Control& control = placed.control;
  control.antenna = {settings.antenna_right_m, settings.antenna_down_m, settings.antenna_forward_m};
  // Photo positions in coordinates of the CRS.
  struct Fix {
    PhotoIndex photo;
    Vector3d place, sigma;
    bool stated;
  };
  std::vector<Fix> fixes;
  const double unit = crs ? crs->metres_per_unit : 1, height_unit = crs ? crs->metres_per_height_unit : 1;
  const Vector3d units(unit, unit, height_unit);
  if (settings.photo_positions) {
    const Vector3d guessed(settings.position_sigma_m, settings.position_sigma_m, settings.position_height_sigma_m);
    std::optional<GpsInCrs> in_crs;
    if (crs && !gps.empty()) in_crs.emplace(*crs, settings.gps_over_ellipsoid, placed.remarks);
    std::map<std::uint32_t, GpsPosition> by_photo;
    for (const auto& [photo, position] : positions.gps()) by_photo.emplace(photo.value, position);
    for (std::size_t i = 0; i < photos.used; ++i) {
      if (const PositionRow* row = positions.listed(photos.photos[i].name)) {
        const bool stated = row->sigma.minCoeff() > 0;
        fixes.push_back(
            {PhotoIndex(i), row->place, stated ? Vector3d(row->sigma.cwiseProduct(units)) : guessed, stated});
      } else if (const auto found = by_photo.find(static_cast<std::uint32_t>(i)); found != by_photo.end() && in_crs) {
        const GpsPosition& p = found->second;
        const auto place = (*in_crs)(p);
        if (!place) continue;
        const bool stated = p.horizontal_sigma_m > 0 && p.vertical_sigma_m > 0;
        fixes.push_back({PhotoIndex(i), *place,
                         stated ? Vector3d(p.horizontal_sigma_m, p.horizontal_sigma_m, p.vertical_sigma_m) : guessed,
                         stated});
      }
    }
    if (!crs && !gps.empty() && !known.empty())
      placed.remarks.push_back(
          "The photos have positions, but the points' coordinates have no CRS (--crs): the photos' "
          "positions take no part.");
  }
  if (known.empty())
    for (const Fix& fix : fixes) known.push_back(fix.place);
  if (!known.empty()) placed.origin = round_origin(middle_of(known));
  std::optional<WorldFrame> frame;
  try {
    frame.emplace(placed.datum, placed.origin);
  } catch (const Error& e) {
    throw Error(ErrorKind::input, file_of(survey, "points").string(),
                "does not go with " + placed.datum.crs + ": " + e.fault(), e.remedy());
  }
  for (const Fix& fix : fixes) control.fixes.push_back({fix.photo, frame->to_local(fix.place), fix.sigma, fix.stated});

  if (settings.photo_tilts) {
    // Azimuths count from true north; without a CRS nothing says where that is on a surveyor's own grid.
    const bool with_north = crs || known.empty();
    const double turn = crs ? frame->convergence_at(Vector3d::Zero()) : 0;
    for (std::size_t i = 0; i < photos.used; ++i) {
      const PhotoMetadata& said = photos.photos[i].metadata;
      if (!said.view_elevation_deg) continue;
      std::optional<double> azimuth;
      if (with_north && said.view_azimuth_deg) azimuth = radians(*said.view_azimuth_deg) + turn;
      PhotoView view = photo_view(PhotoIndex(i), azimuth, radians(*said.view_elevation_deg), said.display_rotation);
      view.up_sigma = radians(settings.tilt_sigma_deg), view.north_sigma = radians(settings.azimuth_sigma_deg);
      control.views.push_back(view);
    }
  }

  std::map<std::string, std::uint32_t> index;
  const auto add_point = [&](SurveyedPoint point) {
    index.emplace(point.name, static_cast<std::uint32_t>(control.points.size()));
    control.points.push_back(std::move(point));
  };
  for (const ControlPointRow& row : lists.points) {
    SurveyedPoint point;
    point.name = row.name;
    point.use = row.use.value_or(ControlUse::control);
    Vector3d place = row.place;
    for (int c = 0; c < 3; ++c) {
      point.sigma[c] = row.sigma[c] > 0 ? row.sigma[c] * units[c] : settings.point_sigma_m;
      if (!std::isfinite(place[c])) place[c] = placed.origin[c], point.sigma[c] = kNotKnown;
    }
    point.position = frame->to_local(place);
    add_point(std::move(point));
  }
  for (const LengthRow& row : lists.lengths)
    for (const std::string* end : {&row.from, &row.to})
      if (!index.contains(*end)) {
        SurveyedPoint spot;
        spot.name = *end;
        spot.use = ControlUse::spot;
        spot.sigma.setConstant(kNotKnown);
        add_point(std::move(spot));
      }
  std::map<std::string, std::uint32_t> photo_of;
  for (std::size_t i = 0; i < photos.used; ++i) photo_of.emplace(photos.photos[i].name, static_cast<std::uint32_t>(i));
  for (const MarkRow& row : lists.marks) {
    const auto photo = photo_of.find(row.photo);
    if (photo == photo_of.end()) continue;  // switched off
    control.marks.push_back({PhotoIndex(photo->second), index.at(row.point), row.pixel,
                             row.sigma_px > 0 ? row.sigma_px : settings.mark_sigma_px, ObservationKind::mark});
  }
  for (const LengthRow& row : lists.lengths)
    control.lengths.push_back({index.at(row.from), index.at(row.to), row.length,
                               row.sigma > 0 ? row.sigma : settings.length_sigma_m,
                               row.use.value_or(ControlUse::control)});
  control.frame = frame_by_points(settings, index);
  if (placed.datum.axes == Axes::guessed && (!control.frame.level.empty() || control.frame.up))
    placed.datum.axes = Axes::level;
  if (lists.lengths.empty() && known.empty()) placed.datum.units = Datum().units;
  return placed;
}

Control marked_spots(const ControlLists& lists, const PhotoList& photos, double mark_sigma_px) {
  Control control;
  std::map<std::string, std::uint32_t> points, photo_of;
  for (std::size_t i = 0; i < photos.used; ++i) photo_of.emplace(photos.photos[i].name, static_cast<std::uint32_t>(i));
  for (const MarkRow& row : lists.marks) {
    const auto photo = photo_of.find(row.photo);
    if (photo == photo_of.end()) continue;  // switched off
    const auto [point, is_new] = points.emplace(row.point, static_cast<std::uint32_t>(control.points.size()));
    if (is_new) {
      SurveyedPoint spot;
      spot.name = row.point;
      spot.use = ControlUse::spot;
      spot.sigma.setConstant(kNotKnown);
      control.points.push_back(spot);
    }
    control.marks.push_back({PhotoIndex(photo->second), point->second, row.pixel,
                             row.sigma_px > 0 ? row.sigma_px : mark_sigma_px, ObservationKind::mark});
  }
  return control;
}

void put_mark(ControlLists& lists, const MarkRow& mark) {
  std::erase_if(lists.marks, [&](const MarkRow& m) { return m.point == mark.point && m.photo == mark.photo; });
  lists.marks.push_back(mark);
  const bool known = std::any_of(lists.points.begin(), lists.points.end(),
                                 [&](const ControlPointRow& p) { return p.name == mark.point; }) ||
                     std::any_of(lists.lengths.begin(), lists.lengths.end(),
                                 [&](const LengthRow& l) { return l.from == mark.point || l.to == mark.point; });
  if (known) return;
  ControlPointRow spot;
  spot.name = mark.point;
  spot.place.setConstant(std::numeric_limits<double>::quiet_NaN());
  spot.use = ControlUse::spot;
  lists.points.push_back(spot);
}

}  // namespace icefield
